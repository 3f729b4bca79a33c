package authority

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"ironledger.example/core/authority"
	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// Asking is a request for a certificate, by a code or by a certificate that the connection proved.
type Asking struct {
	Label   string // the profile; "" for the first that applies
	Request []byte // PKCS #10, DER

	Name, Code string            // by a code: the device, or the serial of one on the roster, and the code
	Bindings   []string          // what a request may be bound to: the connection that it comes on
	By         *x509.Certificate // by a certificate: nil for none
}

// Granted is a certificate with those above it.
type Granted struct {
	Certificate *x509.Certificate
	Chain       []*x509.Certificate
}

// RefusedError says why there is no certificate.
type RefusedError struct{ Message string }

func (e *RefusedError) Error() string { return e.Message }

func refusef(format string, args ...any) *RefusedError {
	return &RefusedError{fmt.Sprintf(format, args...)}
}

// UnknownError says that it is not known who asks: the code or the certificate is not one that counts.
type UnknownError struct{ Message string }

func (e *UnknownError) Error() string { return e.Message }

// WaitError says that a person must decide first.
type WaitError struct {
	Message string
	After   time.Duration // to ask again
}

func (e *WaitError) Error() string { return e.Message }

// errOtherwise says that what a certificate was signed for has changed meanwhile.
var errOtherwise = errors.New("the device or the authority has changed meanwhile; ask again")

// anotherProfileError says that a newcomer gets a certificate of another profile than the one that it was signed for:
// which applies to it is known once it is.
type anotherProfileError struct{ profile string }

func (e *anotherProfileError) Error() string { return errOtherwise.Error() }

func (e *anotherProfileError) Is(target error) bool { return target == errOtherwise }

// askAgain is when a device that waits for a person asks again.
const askAgain = time.Minute

// Enrol gives a device a certificate; once it returns, that is on record. The error is an [*UnknownError], a
// [*RefusedError], a [*WaitError], or says that nothing can be issued now.
func (s *Service) Enrol(ctx context.Context, a Asking) (*Granted, error) {
	var err error
	guess := ""
	for range 3 { // the device may change while its certificate is signed
		var g *Granted
		if g, err = s.enrol(ctx, a, guess); !errors.Is(err, errOtherwise) {
			return g, err
		}
		// What is otherwise may be on its way to the disk still: it is seen once this change is.
		if err := s.Do(ctx, func(*state.Change) error { return nil }); err != nil {
			return nil, err
		}
		var another *anotherProfileError
		if errors.As(err, &another) {
			guess = another.profile
		}
	}
	return nil, err
}

func (s *Service) enrol(ctx context.Context, a Asking, guess string) (*Granted, error) {
	snap, now := s.Snapshot(), s.Micros()
	who, err := s.who(ctx, snap, a, now)
	if err != nil {
		return nil, err
	}
	r, err := authority.ReadRequest(a.Request)
	if err != nil {
		return nil, s.refuse(ctx, who, "", err)
	}
	if to := authority.BoundTo(r); to != "" && !slices.Contains(a.Bindings, to) {
		return nil, s.refuse(ctx, who, a.Label,
			errors.New("the request is bound to another connection than the one that it came on (RFC 7030, "+
				"section 3.5)"))
	}
	key := authority.Fingerprint(r.RawSubjectPublicKeyInfo)
	if g, err := s.before(snap, who, key); g != nil || err != nil {
		return g, err // the answer was lost on its way
	}
	if who.profile, err = who.asks(a.Label); err != nil {
		return nil, s.refuse(ctx, who, a.Label, err)
	}
	p, err := profileFor(snap, who, guess, now)
	if err != nil {
		return nil, s.refuse(ctx, who, a.Label, err)
	}
	name := snap.Book.Rulebook.Authority.Name
	if err := authority.Check(r, p.Keys, name, who.names); err != nil {
		return nil, s.refuse(ctx, who, p.ID, err)
	}
	cert, by, err := s.sign(snap, r, who, p)
	if err != nil {
		return nil, err
	}
	x := kept.Certificate{Serial: cert.SerialNumber.Text(16), SHA256: state.Fingerprint(cert),
		Authority: by.id, Profile: p.ID,
		Key:       key,
		Asked:     who.profile != "",
		NotBefore: value.Micros(cert.NotBefore), NotAfter: value.Micros(cert.NotAfter), By: who.actor,
		Renews: who.renews}
	err = s.Do(context.WithoutCancel(ctx), func(c *state.Change) error { return s.give(c, who, &x, cert) })
	var refused *RefusedError
	if errors.As(err, &refused) {
		return nil, s.refuse(ctx, who, p.ID, refused)
	}
	if err != nil {
		return nil, err
	}
	return granted(s.Snapshot(), cert, by.id), nil
}

// sign makes the certificate that r asks for, under the newest of our authorities.
func (s *Service) sign(snap *state.Snapshot, r *x509.CertificateRequest, who *asker,
	p *rulebook.Profile) (*x509.Certificate,
	*signer, error) {
	name := snap.Book.Rulebook.Authority.Name
	above := current(snap)
	if above == nil {
		return nil, nil, errors.New(cmp.Or(s.Trouble(), "there is no authority yet"))
	}
	by, err := s.signer(above)
	if err != nil {
		return nil, nil, err
	}
	serial, err := authority.Serial(rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t, err := authority.Device(r.PublicKey, name, who.names, serial, s.Now(), p.Lifetime, by.cert, s.places(by.id))
	if err != nil {
		return nil, nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, t, by.cert, r.PublicKey, by.key)
	if err != nil {
		return nil, nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return cert, by, err
}

// give gives a device a certificate that was signed for it, unless something is otherwise now.
func (s *Service) give(c *state.Change, who *asker, x *kept.Certificate, cert *x509.Certificate) error {
	if a := state.Get(c, state.AuthorityKind, x.Authority); a == nil || a.State != kept.AuthoritySigns {
		return errOtherwise
	}
	now := c.Now
	if err := who.still(c, x.Key); err != nil {
		return err
	}
	if who.device == "" {
		if err := newcomer(c, who); err != nil {
			return err
		}
	}
	d := c.Device(who.names.ID)
	if d == nil {
		return errOtherwise
	}
	d = c.Base.At(d, now)
	want := x.Profile
	if who.device == "" {
		want = who.profile
	}
	if p, err := profileOf(c.Base.Book.Rulebook, d, want, now); err != nil {
		return err
	} else if p.ID != x.Profile {
		return &anotherProfileError{p.ID}
	} else if !namesAre(d, who.names) {
		return errOtherwise
	} else if err := room(c, d.ID, p, who.renews); err != nil {
		return err
	}
	if owner := s.keys.of(x.Key); owner != "" && owner != d.ID {
		return refusef("the key of the request is that of another device")
	}
	x.Device, x.At = d.ID, now
	if state.Get(c, state.CertificateKind, x.Serial) != nil {
		return errOtherwise
	}
	if err := state.Put(c, state.CertificateKind, x.Serial, x); err != nil {
		return err
	}
	if err := who.done(c, x); err != nil {
		return err
	}
	s.keys.add(x.Key, d.ID)
	c.Record(who.actor, &event.CertificateIssued{Device: d.ID, Serial: x.Serial, SHA256: x.SHA256,
		Authority: x.Authority,
		Profile:   x.Profile, Key: x.Key, Until: value.FormatTime(x.NotAfter), Renews: x.Renews})
	c.SetIssued(d.ID, append(c.IssuedTo(d.ID), certificate.Issue(cert, x.Profile)),
		state.Cause{Kind: event.ByEvidence,
			Actor: who.actor})
	return nil
}

// maxRenewed bounds how many certificates of a profile a device has that were renewed and have not ended.
const maxRenewed = 50

// room says why a device may hold no more certificates of a profile. One that is renewed, or was, does not count.
func room(c *state.Change, device string, p *rulebook.Profile, renews string) error {
	n, renewed := 0, 0
	for _, v := range c.IssuedTo(device) {
		serial := certificate.Field(v, "serial").Str()
		if certificate.Field(v, "profile").Str() != p.ID || serial == renews || certificate.Field(v,
			"revoked").IsTrue() ||
			certificate.Field(v, "not_after").Num() < c.Now {
			continue
		}
		if x := state.Get(c, state.CertificateKind, serial); x != nil && x.Renewed != "" {
			renewed++
		} else {
			n++
		}
	}
	switch {
	case renewed >= maxRenewed:
		return refusef("the device has renewed its certificate %d times, and none of them has ended; wait "+
			"until one has", renewed)
	case n >= p.Holds:
		return refusef("the device holds %d certificates of the profile %s already, and may hold %d; revoke one",
			n, p.ID,
			p.Holds)
	}
	return nil
}

// asks is the profile that is asked for, "" for the first that applies. A code for one profile gets no other.
func (w *asker) asks(label string) (string, error) {
	if w.invite != nil && w.profile != "" && label != "" && label != w.profile {
		return "", refusef("the code is for a certificate of the profile %s, not %.100s", w.profile, label)
	}
	return cmp.Or(label, w.profile), nil
}

// profileFor is the profile that a device gets, if it may; for one that is not known yet, it is a guess.
func profileFor(snap *state.Snapshot, who *asker, guess string, now int64) (*rulebook.Profile, error) {
	if who.device == "" {
		return profileOf(snap.Book.Rulebook, nil, cmp.Or(who.profile, guess), now)
	}
	return profileOf(snap.Book.Rulebook, snap.At(snap.Fleet.Get(who.device), now), who.profile, now)
}

// Fits is the profile under which a certificate would be renewed now, "" for none.
func Fits(snap *state.Snapshot, x *kept.Certificate, d *state.Device, now int64) string {
	id := ""
	if x.Asked {
		id = x.Profile
	}
	p, err := profileOf(snap.Book.Rulebook, d, id, now)
	if err != nil {
		return ""
	}
	return p.ID
}

// profileOf is the profile of an id, or the first that applies to a device, nil for one of which nothing is known
// yet; or says why it gets none.
func profileOf(rb *rulebook.Rulebook, d *state.Device, id string, now int64) (*rulebook.Profile, error) {
	a := rb.Authority
	if a == nil {
		return nil, refusef("this service issues no certificates")
	}
	if id != "" && a.Profile(id) == nil {
		return nil, refusef("there is no profile %.100s", id)
	}
	if d == nil {
		if id == "" {
			return &a.Profiles[0], nil
		}
		return a.Profile(id), nil
	}
	if d.Outsider() {
		return nil, refusef("%s", d.WhyOutside())
	}
	if d.Quarantine.Holds(now) {
		return nil, refusef("%s", d.Quarantine.Why())
	}
	for i := range a.Profiles {
		p := &a.Profiles[i]
		if id != "" && p.ID != id {
			continue
		}
		applies := p.Applies.Eval(d.View.Env(now))
		switch {
		case applies == condition.True && d.Result.Level < p.Least:
			return nil, refusef("the device stands at %s, and a certificate of the profile %s needs %s",
				rb.LevelName(d.Result.Level), p.ID,
				rb.LevelName(p.Least))
		case applies == condition.True:
			return p, nil
		case id != "" && applies == condition.Unknown:
			return nil, refusef("whether the profile %s applies to the device is not known: %s", id,
				p.Applies.String())
		case id != "":
			return nil, refusef("the profile %s does not apply to the device: %s", id, p.Applies.String())
		}
	}
	return nil, refusef("no profile applies to the device")
}

// granted is a certificate with those above it.
func granted(snap *state.Snapshot, cert *x509.Certificate, by string) *Granted {
	return &Granted{cert, chain(snap.Authorities.Get(by))}
}

// chain is the certificates of an authority and of those above it.
func chain(a *kept.Authority) (out []*x509.Certificate) {
	if a == nil {
		return nil
	}
	for _, der := range append([][]byte{a.Certificate}, a.Above...) {
		if cert, err := x509.ParseCertificate(der); err == nil {
			out = append(out, cert)
		}
	}
	return out
}

// asker is who asks for a certificate: a device that is known, or one that is to be.
type asker struct {
	device  string // "" for one that is not known yet
	names   certificate.Device
	actor   string
	profile string // that is asked for; "" for the first that applies
	renews  string // the serial of the certificate that it shows
	invite  *kept.Invite
	hash    []byte // of the code
}

// roster reports whether it came with the code for devices of the roster.
func (w *asker) roster() bool { return w.invite != nil && w.invite.Device == kept.ForRoster }

func namesAre(d *state.Device, n certificate.Device) bool {
	is := namesOf(d)
	return is.ID == n.ID && strings.EqualFold(is.Serial, n.Serial) && strings.EqualFold(is.HardwareID, n.HardwareID)
}

// namesOf is who a device is, as its keys say.
func namesOf(d *state.Device) certificate.Device {
	out := certificate.Device{ID: d.ID}
	for _, k := range d.Keys {
		switch k.Kind {
		case evidence.BySerial:
			out.Serial = k.Text
			for x := range d.Record.Of("serial") { // as it is written, for a key is in small letters
				if strings.EqualFold(x.Value.Str(), k.Text) {
					out.Serial = x.Value.Str()
				}
			}
		case evidence.ByHardware:
			out.HardwareID = k.Text
		}
	}
	return out
}

const wrongCode = "there is no such code for this device, or it counts no more"

// maxAttempts is how many wrong codes a device may be given before the right one counts no more.
const maxAttempts = 5

// who proves who asks.
func (s *Service) who(ctx context.Context, snap *state.Snapshot, a Asking, now int64) (*asker, error) {
	switch {
	case a.By != nil && a.Code == "":
		return s.whoShows(snap, a.By, now)
	case a.Name == "" || a.Code == "":
		return nil, &UnknownError{"say the device as the user and its code as the password, or show a " +
			"certificate of this authority"}
	}
	hash := sha256.Sum256([]byte(plainCode(a.Code)))
	id, known := snap.Find(evidence.Folded(evidence.ByID, a.Name))
	if !known {
		id = a.Name
	}
	in := snap.Invites.Get(id)
	if in == nil || in.Until < now || in.UsedAt != 0 && subtle.ConstantTimeCompare(in.Hash, hash[:]) != 1 {
		if w, err := s.ofRoster(ctx, snap, a.Name, hash[:], now); w != nil || err != nil {
			return w, err
		}
	}
	switch {
	case in == nil || in.Until < now || in.Attempts >= maxAttempts:
		return nil, &UnknownError{wrongCode}
	case subtle.ConstantTimeCompare(in.Hash, hash[:]) != 1:
		return nil, s.wrong(ctx, id, in)
	}
	who := &asker{actor: ledger.Device + " " + id, profile: in.Profile, invite: in, hash: hash[:]}
	if d := snap.Fleet.Get(id); d != nil {
		who.device, who.names = id, namesOf(d)
		return who, held(d)
	}
	who.names = certificate.Device{ID: id, Serial: in.Serial}
	return who, nil
}

// maxRosterAttempts is how many wrong codes devices of the roster may be given before the right one counts no more.
const maxRosterAttempts = 1000

// ofRoster is a device of the roster that comes with the code for it, by its serial; nil when there is no such code.
func (s *Service) ofRoster(ctx context.Context, snap *state.Snapshot, serial string, hash []byte,
	now int64) (*asker, error) {
	in, key := snap.Invites.Get(kept.ForRoster), evidence.Folded(evidence.BySerial, serial)
	if in == nil || in.Until < now || in.Left <= 0 || key.Text == "" || in.Attempts >= maxRosterAttempts ||
		!snap.Roster.Has([]evidence.Key{key}) {
		return nil, nil
	}
	id, known := snap.Find(key)
	if used := snap.Invites.Get(id); known && used != nil && used.UsedAt != 0 &&
		subtle.ConstantTimeCompare(used.Hash, hash) == 1 {
		in = used // it came with the code before
	}
	if subtle.ConstantTimeCompare(in.Hash, hash) != 1 {
		return nil, s.wrong(ctx, kept.ForRoster, in)
	}
	if !known {
		if e := snap.Roster.Get(key.Text); e != nil {
			serial = e.Serial // as it is written there
		}
		if id = serial; snap.Fleet.Get(id) != nil {
			return nil, refusef("another device is called %s, which is the serial of this one; have it invited "+
				"under an id of its own", id)
		}
	}
	who := &asker{actor: ledger.Device + " " + id, profile: in.Profile, invite: in, hash: hash}
	if d := snap.Fleet.Get(id); d != nil {
		who.device, who.names = id, namesOf(d)
		return who, held(d)
	}
	who.names = certificate.Device{ID: id, Serial: serial}
	return who, nil
}

// held says that a person must decide about a device first; nil when not.
func held(d *state.Device) error {
	if d.Retired == nil && d.Held != nil && d.Held.State == state.Held {
		return &WaitError{d.WhyOutside(), askAgain}
	}
	return nil
}

// whoShows is the device that a certificate of ours identifies now.
func (s *Service) whoShows(snap *state.Snapshot, cert *x509.Certificate, now int64) (*asker, error) {
	x := snap.Issued.Get(cert.SerialNumber.Text(16))
	if x == nil || x.SHA256 != state.Fingerprint(cert) {
		return nil, &UnknownError{"the certificate that the connection showed is not one of this authority"}
	}
	d := snap.Shows(x.SHA256)
	if d == nil || d.ID != x.Device {
		return nil, &UnknownError{"the certificate that the connection showed identifies no device"}
	}
	if why := snap.At(d, now).Distrusts(cert, now); why != "" {
		return nil, &UnknownError{"the certificate that the connection showed identifies no device: " + why}
	}
	who := &asker{device: d.ID, names: namesOf(d), actor: ledger.Device + " " + d.ID, renews: x.Serial}
	if x.Asked {
		who.profile = x.Profile
	}
	if is := cert.Subject.SerialNumber; strings.EqualFold(is, who.names.Serial) {
		who.names.Serial = is // as it is written
	}
	return who, held(d)
}

// still says why whoever asked may no more.
func (w *asker) still(c *state.Change, key string) error {
	if w.invite == nil {
		if old := state.Get(c, state.CertificateKind, w.renews); old != nil && old.Renewed != "" {
			if x := state.Get(c, state.CertificateKind, old.Renewed); x != nil && x.Key == key && x.RevokedAt == 0 {
				return errOtherwise // it is given what it was given, at the same time
			}
		}
		for _, v := range c.IssuedTo(w.device) {
			if certificate.Field(v, "serial").Str() == w.renews && !certificate.Field(v, "revoked").IsTrue() {
				return nil
			}
		}
		return &UnknownError{"the certificate that the connection showed counts no more"}
	}
	in, most := state.Get(c, state.InviteKind, w.names.ID), maxAttempts
	if w.roster() && (in == nil || in.UsedAt == 0 || subtle.ConstantTimeCompare(in.Hash, w.hash) != 1) {
		in, most = state.Get(c, state.InviteKind, kept.ForRoster), maxRosterAttempts
		if in == nil || in.Left <= 0 || !c.Base.Roster.Has([]evidence.Key{evidence.Folded(evidence.BySerial,
			w.names.Serial)}) {
			return &UnknownError{wrongCode}
		}
	}
	switch {
	case in == nil || in.Until < c.Now || in.Attempts >= most || subtle.ConstantTimeCompare(in.Hash,
		w.hash) != 1:
		return &UnknownError{wrongCode}
	case in.UsedAt != 0:
		if x := state.Get(c, state.CertificateKind, in.UsedFor); x != nil && x.Key == key {
			return errOtherwise // it is given what it was given
		}
		return &UnknownError{"the code was used already"}
	}
	return nil
}

// done notes what a code was used for, or which certificate was renewed.
func (w *asker) done(c *state.Change, x *kept.Certificate) error {
	if w.invite == nil {
		old := state.Get(c, state.CertificateKind, w.renews)
		if old == nil {
			return nil
		}
		renewed := *old
		renewed.Renewed = x.Serial
		return state.Put(c, state.CertificateKind, w.renews, &renewed)
	}
	if w.roster() {
		all := *state.Get(c, state.InviteKind, kept.ForRoster)
		all.Left--
		if err := state.Put(c, state.InviteKind, kept.ForRoster, &all); err != nil {
			return err
		}
		own := all
		own.Device, own.Serial, own.Left, own.UsedAt, own.UsedFor = w.names.ID, w.names.Serial, 0, c.Now, x.Serial
		return state.Put(c, state.InviteKind, w.names.ID, &own)
	}
	in := *state.Get(c, state.InviteKind, w.names.ID)
	in.UsedAt, in.UsedFor = c.Now, x.Serial
	return state.Put(c, state.InviteKind, w.names.ID, &in)
}

// before is the certificate that the same code, or the same certificate, got for the same key before; nil for none.
func (s *Service) before(snap *state.Snapshot, who *asker, key string) (*Granted, error) {
	var x *kept.Certificate
	switch {
	case who.invite == nil:
		if old := snap.Issued.Get(who.renews); old != nil && old.Renewed != "" {
			x = snap.Issued.Get(old.Renewed)
		}
		if x == nil || x.Key != key || x.Renews != who.renews || x.RevokedAt != 0 {
			return nil, nil
		}
	case who.invite.UsedAt == 0:
		return nil, nil
	default:
		if x = snap.Issued.Get(who.invite.UsedFor); x == nil || x.Key != key || x.RevokedAt != 0 {
			return nil, &UnknownError{"the code was used already"}
		}
	}
	for _, v := range evidence.IssuedIn(snap.Fleet.Get(x.Device).Record) {
		if certificate.Field(v, "sha256").Str() == x.SHA256 {
			der, err := base64.StdEncoding.DecodeString(certificate.Field(v, "der").Str())
			if err != nil {
				return nil, err
			}
			cert, err := x509.ParseCertificate(der)
			if err != nil {
				return nil, err
			}
			return granted(snap, cert, x.Authority), nil
		}
	}
	return nil, &UnknownError{"what was given before for this key is not there any more"}
}

// newcomer makes a device known that was invited before anything was heard of it.
func newcomer(c *state.Change, who *asker) error {
	if d := c.Device(who.names.ID); d != nil {
		return errOtherwise // it came meanwhile
	}
	if id, known := c.Find(evidence.Folded(evidence.BySerial, who.names.Serial)); known {
		return refusef("the serial that the code was made for is that of %s", id)
	}
	rep := (&evidence.Report{Source: evidence.Authority, At: c.Now,
		Identity: evidence.Identity{ID: who.names.ID, Serial: who.names.Serial}}).Identified()
	if t := intake.One(c, who.actor, rep); t.Device != who.names.ID {
		return refusef("the device cannot be made known: %s", cmp.Or(t.Error, "what was said of it is kept aside"))
	}
	return nil
}

// tellAgain is how long the same refusal of a device is not recorded again.
const tellAgain = 10 * time.Minute

// maxTold bounds what is remembered of that.
const maxTold = 10_000

// refuse records that a device was given no certificate, unless that was said a moment ago, and returns the reason.
func (s *Service) refuse(ctx context.Context, who *asker, profile string, why error) error {
	refused := &RefusedError{why.Error()}
	k := who.names.ID + "\n" + refused.Message
	s.mu.Lock()
	at, told := s.told[k]
	now := s.Now()
	if told = told && now.Sub(at) < tellAgain || len(s.told) >= maxTold; !told {
		s.told[k] = now
	}
	s.mu.Unlock()
	if told {
		return refused
	}
	err := s.Do(context.WithoutCancel(ctx), func(c *state.Change) error {
		c.Record(who.actor, &event.CertificateRefused{Device: who.names.ID, Profile: event.Clipped(profile, 100),
			Why: event.Clipped(refused.Message, event.MaxReason)})
		return nil
	})
	if err != nil {
		return errors.Join(refused, err)
	}
	return refused
}

// keyOwners is which device has which key, by fingerprint, of all that was issued.
type keyOwners struct {
	mu     sync.Mutex
	device map[string]string
}

func (k *keyOwners) load(all iter.Seq2[string, *kept.Certificate]) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.device = map[string]string{}
	for _, x := range all {
		k.device[x.Key] = x.Device
	}
}

func (k *keyOwners) of(key string) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.device[key]
}

func (k *keyOwners) add(key, device string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.device[key] = device
}

// plainCode is a code without what people write it with.
func plainCode(code string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '-' || r == ' ':
			return -1
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		}
		return r
	}, code)
}
