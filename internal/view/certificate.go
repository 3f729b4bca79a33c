package view

import (
	"context"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/find"
)

// CertificateQuery selects certificates of the fleet.
type CertificateQuery struct {
	Where  string // a condition over the fields of a certificate, device, level and the device's attributes
	Text   string // a part of the subject, issuer, serial, digest or device
	State  string // one of CertificateStates
	Cursor string
	Limit  int
}

// The states of a certificate, as lists count them.
const (
	CertificateTrusted   = "trusted"
	CertificateEnding    = "ending"    // trusted, and near its end
	CertificateAuthority = "authority" // shown along with a device's own
	CertificateOverdue   = "overdue"   // one of ours that should have been renewed; it counts in another state too
	CertificateRevoked   = "revoked"
	CertificateUntrusted = "untrusted"
	CertificateUnknown   = "unknown"
)

// endingSoon is when the end of a certificate is near: in the last quarter of
// its life, and at most two weeks before, in microseconds.
func endingSoon(lifetime int64) int64 { return min(lifetime/4, 14*24*3600*1_000_000) }

// certificateNames are the names of a search: the fields of a certificate
// before the attributes of its device.
func certificateNames(rb *rulebook.Rulebook) *rulebook.Names {
	extra := []rulebook.ExtraName{
		{Name: "device", Title: "Id of the device", Type: value.Of(value.Text)},
		{Name: "level", Title: "Level of the device", Type: rb.LevelType},
	}
	for _, f := range certificate.Type.Fields {
		if !f.Hidden {
			extra = append(extra, rulebook.ExtraName{Name: f.Name, Title: "Of the certificate", Type: f.Type})
		}
	}
	return rulebook.NewNames(rb.Dict, extra)
}

// certificateMatcher compiles a query into a test of one certificate.
func certificateMatcher(b *state.Book, q CertificateQuery,
	now int64) (func(*state.Device, value.Value, *find.Budget) bool, error) {
	text := strings.ToLower(strings.TrimSpace(q.Text))
	contains := func(d *state.Device, c value.Value, _ *find.Budget) bool {
		return text == "" || strings.Contains(strings.ToLower(d.ID+"\n"+certificate.Field(c, "subject").Str()+"\n"+
			certificate.Field(c, "issuer").Str()+"\n"+certificate.Field(c, "serial").Str()+"\n"+certificate.Field(c,
			"sha256").Str()), text)
	}
	if strings.TrimSpace(q.Where) == "" {
		return contains, nil
	}
	names := certificateNames(b.Rulebook)
	p, err := condition.CompileText(q.Where, names)
	if err != nil {
		return nil, find.WhereError(err)
	}
	extra := condition.NewFrame(len(names.Extra()))
	env := &condition.Env{Now: now}
	env.Frames[rulebook.RequestFrame] = extra
	return func(d *state.Device, c value.Value, taken *find.Budget) bool {
		if !contains(d, c, taken) {
			return false
		}
		env.Frames[evidence.DeviceFrame] = d.View.Frame
		for i, n := range names.Extra() {
			v := value.Value{}
			switch n.Name {
			case "device":
				v = value.OfText(d.ID)
			case "level":
				v = b.Rulebook.LevelValue(d.Result.Level)
			default:
				v = certificate.Field(c, n.Name)
			}
			extra.Set(i, v, condition.Always)
		}
		before := env.Steps()
		match := p.Eval(env) == condition.True
		taken.Take(env.Steps() - before)
		return match
	}, nil
}

func certificateState(c value.Value, now int64) string {
	switch {
	case certificate.Why(c) == certificate.WhyAuthority:
		return CertificateAuthority
	case certificate.Field(c, "revoked").IsTrue():
		return CertificateRevoked
	case certificate.Field(c, "trusted").Known() && !certificate.Field(c, "trusted").IsTrue():
		return CertificateUntrusted
	case !certificate.Field(c, "trusted").Known() || !certificate.Field(c, "revoked").Known():
		return CertificateUnknown
	case certificate.Field(c, "not_after").Num()-now <= endingSoon(certificate.Field(c, "lifetime").Num()):
		return CertificateEnding
	}
	return CertificateTrusted
}

// certificateRow is a certificate in a list, with the place where it stands.
type certificateRow struct {
	find.Cursor
	d     *state.Device
	c     value.Value
	state string
}

// Certificates lists the certificates that devices show and that are fresh,
// those that end first at the top.
func (s *Service) Certificates(ctx context.Context, q CertificateQuery) (*api.CertificatePage, error) {
	states := []string{CertificateTrusted, CertificateEnding, CertificateRevoked, CertificateUntrusted,
		CertificateUnknown, CertificateAuthority, CertificateOverdue}
	if q.State != "" && !slices.Contains(states, q.State) {
		return nil, &fault.QueryError{Param: "state", Message: "a state is one of " + strings.Join(states, ", ")}
	}
	snap, now := s.Snapshot(), s.Micros()
	after, err := find.ParseCursor(q.Cursor)
	if err != nil {
		return nil, err
	}
	match, err := certificateMatcher(snap.Book, q, now)
	if err != nil {
		return nil, err
	}
	slot := snap.Book.Rulebook.Dict.Slot("certs")
	page, rows, issuers := &api.CertificatePage{States: map[string]int{}, Items: []api.Certificate{}},
		[]certificateRow{}, map[string]int{}
	budget := find.NewBudget(ctx)
	snap.Fleet.InService(func(d *state.Device) bool {
		d = snap.At(d, now)
		for _, c := range d.View.Get(slot, now).Members() {
			if !match(d, c, budget) {
				continue
			}
			state := certificateState(c, now)
			page.States[state]++
			issuers[certificate.Field(c, "issuer_id").Str()]++
			overdue := overdue(snap, c, now)
			if overdue {
				page.States[CertificateOverdue]++
			}
			if q.State == "" || q.State == state || q.State == CertificateOverdue && overdue {
				rows = append(rows, certificateRow{find.Cursor{Key: find.Sortable(certificate.Field(c, "not_after").Num()),
					ID: d.ID + "/" + certificate.Field(c, "sha256").Str()}, d, c, state})
			}
		}
		return budget.GoesOn()
	})
	if err := budget.Err(); err != nil {
		return nil, err
	}
	page.Total = len(rows)
	shown, next := find.Paged(rows, func(r certificateRow) find.Cursor { return r.Cursor }, after, q.Limit)
	for _, r := range shown {
		page.Items = append(page.Items, showCertificate(snap, r.d, r.c, r.state))
	}
	page.Next = next
	page.Issuers = issuerCounts(snap, issuers)
	return page, nil
}

// issuerCounts say of how many certificates each authority is the issuer, the last line of
// how many none is known.
func issuerCounts(snap *state.Snapshot, certificates map[string]int) []api.IssuerCount {
	var out []api.IssuerCount
	for _, is := range snap.Book.Rulebook.Issuers() {
		count := api.IssuerCount{ID: is.ID, Certificates: certificates[is.ID], NotAfter: value.FormatTime(is.NotAfter)}
		if is.CRLEnds != 0 {
			count.CRLEnds = value.FormatTime(is.CRLEnds)
		}
		out = append(out, count)
	}
	if a := snap.Book.Rulebook.Authority; a != nil {
		count := api.IssuerCount{ID: a.ID, Own: true, Certificates: certificates[a.ID]}
		for _, c := range snap.Book.Anchors() {
			count.NotAfter = max(count.NotAfter, value.FormatTime(value.Micros(c.NotAfter)))
		}
		out = append(out, count)
	}
	if n := certificates[""]; n > 0 || out == nil {
		out = append(out, api.IssuerCount{Certificates: n})
	}
	return out
}

// issued is what our own authority knows of a certificate that a device shows, nil for nothing.
func issued(snap *state.Snapshot, c value.Value) *kept.Certificate {
	x := snap.Issued.Get(certificate.Field(c, "serial").Str())
	if x == nil || x.SHA256 != certificate.Field(c, "sha256").Str() {
		return nil
	}
	return x
}

// overdue reports whether a certificate that we issued should have been renewed by now, and was not.
func overdue(snap *state.Snapshot, c value.Value, now int64) bool {
	x := issued(snap, c)
	return x != nil && x.RevokedAt == 0 && x.Renewed == "" && now >= renewFrom(snap.Book.Rulebook, x)
}

// renewFrom is when a certificate is to be renewed: as its profile says now, or in the last third of its life.
func renewFrom(rb *rulebook.Rulebook, x *kept.Certificate) int64 {
	before := (x.NotAfter - x.NotBefore) / 3
	if rb.Authority != nil {
		if p := rb.Authority.Profile(x.Profile); p != nil {
			before = p.RenewFrom
		}
	}
	return max(x.NotBefore, x.NotAfter-before)
}

// Issued shows what our own authority knows of a certificate.
func Issued(rb *rulebook.Rulebook, x *kept.Certificate) api.IssuedCertificate {
	out := api.IssuedCertificate{Serial: x.Serial, SHA256: x.SHA256, Device: x.Device, Profile: x.Profile,
		Authority: x.Authority,
		IssuedAt:  value.FormatTime(x.At), IssuedBy: x.By, NotAfter: value.FormatTime(x.NotAfter),
		RenewFrom: value.FormatTime(renewFrom(rb, x)), Renews: x.Renews, Renewed: x.Renewed}
	if x.UsedAt != 0 {
		out.UsedAt, out.UsedFrom = value.FormatTime(x.UsedAt), x.UsedFrom
	}
	if x.SharedAt != 0 {
		out.SharedAt, out.Shared = value.FormatTime(x.SharedAt), x.Shared
	}
	if x.RevokedAt != 0 {
		out.RevokedAt, out.RevokedBy, out.Reason = value.FormatTime(x.RevokedAt), x.RevokedBy, x.Why
	}
	return out
}

func showCertificate(snap *state.Snapshot, d *state.Device, c value.Value, state string) api.Certificate {
	b := snap.Book
	out := api.Certificate{Device: d.ID, Level: b.Rulebook.LevelName(d.Result.Level),
		Rank: int(d.Result.Level), Top: int(b.Rulebook.Top()),
		Subject: certificate.Field(c, "subject").Str(), Issuer: certificate.Field(c, "issuer").Str(),
		Names:  []string{},
		Serial: certificate.Field(c, "serial").Str(), SHA256: certificate.Field(c, "sha256").Str(),
		NotBefore: certificate.Field(c, "not_before").String(), NotAfter: certificate.Field(c, "not_after").String(),
		Lifetime: value.FormatAge(certificate.Field(c, "lifetime").Num()),
		State:    state, IssuerID: certificate.Field(c, "issuer_id").Str(), Why: certificate.Why(c)}
	for _, n := range certificate.Field(c, "names").Members() {
		out.Names = append(out.Names, n.Str())
	}
	if x := issued(snap, c); x != nil {
		out.Issued, out.Source = Issued(b.Rulebook, x), evidence.Authority
	} else if r := d.View.Reading(b.Rulebook.Dict.Slot("certs")); r != nil {
		out.Source = r.Source
	}
	return out
}
