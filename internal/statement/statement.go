// Package statement tells others how a device stands in words that they check without asking: it makes statements,
// and says when what one tells is so no more.
package statement

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/statement"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/news"
	"ironledger.example/internal/state"
)

// Signer signs payloads of a type in the name of an issuer.
type Signer interface {
	Sign(typ string, payload []byte) (string, error)
	Issuer() string
}

// Service makes statements over open records.
type Service struct {
	*engine.Engine
	news   *news.News
	signer Signer
	build  string

	stop context.CancelFunc
	wg   sync.WaitGroup
}

// New is a service over open records.
func New(e *engine.Engine, n *news.News, s Signer) *Service {
	return &Service{Engine: e, news: n, signer: s}
}

// Made is a statement.
type Made struct {
	Token  string // a compact JWS
	Claims *statement.Claims
}

// Asking is for a statement.
type Asking struct {
	Audience, Nonce string
	By              *x509.Certificate // that the connection of the device proved; nil when somebody else asks
	Device          string            // about which somebody else asks
	Actor           string            // who that is
}

// maxStatements bounds how many statements of a device others may still rely on.
const maxStatements = 50

// shortest is how long a statement must be good for to be worth making.
const shortest = 2 * time.Second

// Make makes a statement; once it returns, that is on record. The error is an [*intake.UnprovenError], a
// [*fault.InputError], or says that the records cannot be written.
func (s *Service) Make(ctx context.Context, a Asking) (*Made, error) {
	if err := statement.CheckAsked(a.Audience, a.Nonce); err != nil {
		return nil, fault.Input("/audience", err.Error())
	}
	id := "s-" + rand.Text()
	var made *statement.Claims
	var err error
	if err = s.Do(ctx, func(c *state.Change) error {
		made, err = s.make(c, a, id)
		return err
	}); err != nil {
		return nil, err
	}
	raw, err := json.Marshal(made)
	if err != nil {
		return nil, err
	}
	token, err := s.signer.Sign(statement.Type, raw)
	if err != nil {
		return nil, fmt.Errorf("the statement cannot be signed: %w", err)
	}
	return &Made{token, made}, nil
}

// make works out what a statement says, and records it.
func (s *Service) make(c *state.Change, a Asking, id string) (*statement.Claims, error) {
	d, actor, err := asked(c, a)
	if err != nil {
		return nil, err
	}
	b := c.Base.Book
	rb := b.Rulebook
	cert, limit := bound(c, d, a.By)
	until := min(c.Now+limit, b.Next(d, c.Now))
	if cert != nil {
		until = min(until, value.Micros(cert.NotAfter))
	}
	if until-c.Now < shortest.Microseconds() {
		return nil, fault.Input("", "how the device stands may change within two seconds; ask again then")
	}
	until -= until % 1_000_000
	level := rb.LevelName(d.Result.Level)
	out := &statement.Claims{Issuer: s.signer.Issuer(), Subject: d.ID, Audience: a.Audience, Nonce: a.Nonce, ID: id,
		IssuedAt: c.Now / 1_000_000, Expires: until / 1_000_000,
		Standing: &statement.Standing{Level: level, Ladder: rb.Ladder, Since: value.FormatTime(d.Since),
			Binding: b.Rules.Binding(&d.Result), Rulebook: b.Info.Version}}
	if next := b.Next(d, c.Now); next < condition.Always {
		out.Standing.Next = value.FormatTime(next)
	}
	if out.Standing.Binding == nil {
		out.Standing.Binding = []string{}
	}
	out.Complete(s.build, fmt.Sprintf("%s:%d", rb.Name, b.Info.Version),
		statement.Status(int(d.Result.Level), int(rb.Signals.CompliantFrom), d.Result.Covered))
	fingerprint := ""
	if cert != nil {
		if out.Confirm, err = confirm(cert); err != nil {
			return nil, err
		}
		fingerprint = state.Fingerprint(cert)
	}
	return out, s.record(c, actor, d.ID, kept.Statement{ID: id, Audience: a.Audience, Level: level,
		Certificate: fingerprint, Until: until})
}

// asked is the device that a statement is about, and who asks.
func asked(c *state.Change, a Asking) (*state.Device, string, error) {
	if a.By != nil {
		d, err := intake.Proven(c, a.By)
		if err != nil {
			return nil, "", err
		}
		return d, ledger.Device + " " + d.ID, outside(d)
	}
	d := c.Device(c.Resolve(a.Device))
	if d == nil {
		return nil, "", fault.NotFound("device", a.Device)
	}
	d = c.Base.At(d, c.Now)
	return d, a.Actor, outside(d)
}

func outside(d *state.Device) error {
	if d.Outsider() {
		return fault.Input("", "of a device that is not one of ours nothing is stated: "+d.WhyOutside())
	}
	return nil
}

// bound is the certificate whose key a statement is bound to, nil for none, and for how long it may be: the one that
// the connection proved, or else the newest that we issued to the device and that counts.
func bound(c *state.Change, d *state.Device, by *x509.Certificate) (*x509.Certificate, int64) {
	shown := by != nil
	profile, newest := "", int64(-1)
	for _, v := range c.IssuedTo(d.ID) {
		is, from := certificate.Field(v, "profile").Str(), certificate.Field(v, "not_before").Num()
		if shown {
			if certificate.Field(v, "sha256").Str() == state.Fingerprint(by) {
				profile = is
			}
			continue
		}
		if cert := parsed(v); from > newest && cert != nil && d.Distrusts(cert, c.Now) == "" {
			by, profile, newest = cert, is, from
		}
	}
	limit := rulebook.DefaultStatement
	if a := c.Base.Book.Rulebook.Authority; a != nil && a.Profile(profile) != nil {
		limit = a.Profile(profile).Statement
	}
	return by, limit
}

func parsed(v value.Value) *x509.Certificate {
	der, err := base64.StdEncoding.DecodeString(certificate.Field(v, "der").Str())
	if err != nil {
		return nil
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil
	}
	return cert
}

// confirm is the key of a certificate (RFC 7800, section 3.2) and the certificate itself (RFC 8705, section 3.1).
func confirm(cert *x509.Certificate) (*statement.Confirm, error) {
	jwk, err := json.Marshal(jose.JSONWebKey{Key: cert.PublicKey})
	if err != nil {
		return nil, fmt.Errorf("the key of the device's certificate cannot be named: %w", err)
	}
	return &statement.Confirm{JWK: jwk, Certificate: statement.Thumbprint(cert.Raw)}, nil
}

// record keeps a statement as one that others may rely on.
func (s *Service) record(c *state.Change, actor, device string, x kept.Statement) error {
	var list []kept.Statement
	if old := state.Get(c, state.StatementKind, device); old != nil {
		list = slices.DeleteFunc(slices.Clone(old.List), func(o kept.Statement) bool { return o.Until <= c.Now })
	}
	if len(list) >= maxStatements {
		return fault.Inputf("",
			"%d statements of %s have not ended yet; use one of them, or ask again when one has", maxStatements,
			device)
	}
	c.Record(actor, &event.StatementMade{Device: device, Statement: x.ID, Audience: x.Audience, Level: x.Level,
		Until: value.FormatTime(x.Until), Certificate: x.Certificate})
	return state.Put(c, state.StatementKind, device, &kept.Statements{Device: device, List: append(list, x)})
}

// retryWatch is after how long it is looked again when something went wrong.
const retryWatch = time.Second

// Start has statements revoked when what they tell is so no more. build is the version of the service.
func (s *Service) Start(build string) {
	s.build = build
	var ctx context.Context
	ctx, s.stop = context.WithCancel(context.Background())
	s.wg.Go(func() {
		for ctx.Err() == nil {
			if err := s.watch(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("statements are not compared with what happens", "error", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(retryWatch):
			}
		}
	})
}

// Stop ends that.
func (s *Service) Stop() {
	if s.stop != nil {
		s.stop()
		s.wg.Wait()
	}
}

// chunk is how many entries are looked at in one go.
const chunk = 1000

// pause is the least time between two looks at the records: while decisions come by the thousand, proving each commit
// by itself would take a fifth of a core.
const pause = 20 * time.Millisecond

// watch compares all statements with how their devices stand, and then those of devices to which something happens.
func (s *Service) watch(ctx context.Context) error {
	read := s.Store.Sealed().Size
	for device := range s.Snapshot().Statements.All() {
		if err := s.compare(ctx, device); err != nil {
			return err
		}
	}
	for ctx.Err() == nil {
		size := s.Follow(ctx, read)
		if size <= read {
			return nil
		}
		to := min(size, read+chunk)
		entries, err := s.news.Between(ctx, read+1, to)
		if err != nil {
			return err
		}
		for i := range entries {
			if err := s.concerns(ctx, &entries[i]); err != nil {
				return err
			}
		}
		read = to
		select { // what comes meanwhile is read along with it
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
	return nil
}

// concerns compares the statements of the device that an entry is about.
func (s *Service) concerns(ctx context.Context, e *ledger.Entry) error {
	switch e.Kind {
	case ledger.StandingChanged, ledger.DeviceRetired, ledger.CertificateRevoked:
		if s.Snapshot().Statements.Get(e.About) != nil {
			return s.compare(ctx, e.About)
		}
	}
	return nil
}

// compare revokes the statements of a device that say more than is so, and forgets those that ended.
func (s *Service) compare(ctx context.Context, device string) error {
	return s.Do(ctx, func(c *state.Change) error {
		old := state.Get(c, state.StatementKind, device)
		if old == nil {
			return nil
		}
		d := c.Device(device)
		var left []kept.Statement
		for _, x := range old.List {
			if x.Until <= c.Now {
				continue
			}
			level, why := untrue(c, d, &x)
			if why == "" {
				left = append(left, x)
				continue
			}
			c.Record(ledger.Service, &event.StatementRevoked{Device: device, Statement: x.ID,
				Audience: x.Audience, Level: level,
				Why: event.Clipped(why, event.MaxReason), Cause: event.ByStanding})
		}
		switch {
		case len(left) == len(old.List):
			return nil
		case len(left) == 0:
			state.Drop(c, state.StatementKind, device)
			return nil
		}
		return state.Put(c, state.StatementKind, device, &kept.Statements{Device: device, List: left})
	})
}

// untrue says why a statement says more than is so, "" when it does not, and at which level the device stands.
func untrue(c *state.Change, d *state.Device, x *kept.Statement) (level, why string) {
	if d == nil {
		return "", "the device is not known any more"
	}
	d = c.Base.At(d, c.Now)
	rb := c.Base.Book.Rulebook
	level = rb.LevelName(d.Result.Level)
	said := slices.Index(rb.Ladder, x.Level)
	switch {
	case d.Outsider():
		return level, d.WhyOutside()
	case said < 0 || int(d.Result.Level) < said:
		return level, fmt.Sprintf("the device stands at %s, no longer at %s", level, x.Level)
	case x.Certificate != "":
		for _, v := range c.IssuedTo(d.ID) {
			if certificate.Field(v, "sha256").Str() == x.Certificate && certificate.Field(v, "revoked").IsTrue() {
				return level, "the certificate that it is bound to was revoked"
			}
		}
	}
	return level, ""
}
