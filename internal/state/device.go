package state

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"unsafe"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/store"
)

// unmoved reports whether a result says the same as the one kept.
func (d *Device) unmoved(r *posture.Result) bool {
	if r.Level != d.Result.Level || r.Outsider != d.Result.Outsider || r.Shadow != d.Result.Shadow ||
		r.Covered != d.Result.Covered || !slices.Equal(r.Verdicts, d.Result.Verdicts) ||
		!slices.Equal(r.Waived, d.Result.Waived) {
		return false
	}
	if d.Result.Since == nil {
		return !r.Remembers()
	}
	return slices.Equal(r.Since, d.Result.Since)
}

// carried copies a device for being appraised under another book: failures
// that are remembered go along with their rules, and the view where evidence
// resolves the same.
func (d *Device) carried(from, to *generation) *Device {
	e := d.Copied()
	if from == to {
		return e
	}
	if from.Resolver != to.Resolver || from.directories != to.directories {
		e.View = nil
	}
	e.Result = posture.Result{Since: posture.MovedFailing(d.Result.Since, from.RuleKeys, to.RuleKeys)}
	return e
}

// Shows finds the device that shows a certificate, by its SHA-256 in hex.
func (snap *Snapshot) Shows(sha256 string) *Device {
	if id, ok := snap.Find(evidence.Folded(evidence.ByCertificate, sha256)); ok {
		return snap.Fleet.Get(id)
	}
	return nil
}

// Distrusts says why a certificate does not identify the device at now, "" when it
// does. One that a person approved counts while it is valid.
func (d *Device) Distrusts(cert *x509.Certificate, now int64) string {
	if d.approved(Fingerprint(cert)) {
		switch {
		case now < value.Micros(cert.NotBefore):
			return "it is not valid yet"
		case now > value.Micros(cert.NotAfter):
			return "it expired on " + value.FormatTime(value.Micros(cert.NotAfter))
		}
		return ""
	}
	return d.View.Trusts(d.ID, d.Keys, cert, now)
}

// Certified reports whether a certificate, by its SHA-256 in hex, points at the
// device: an issuer of the rulebook issued it for the device, or a person said so.
func (d *Device) Certified(sha256 string) bool {
	return d.approved(sha256) || d.View.Issued(d.ID, d.Keys, sha256)
}

// approved reports whether a person said that a certificate is the device's.
func (d *Device) approved(sha256 string) bool {
	return slices.Contains(d.Keys, evidence.Folded(evidence.Approved, sha256))
}

// Fingerprint is the SHA-256 of a certificate, in hex.
func Fingerprint(cert *x509.Certificate) string {
	sum := sha256.Sum256(cert.Raw)
	return hex.EncodeToString(sum[:])
}

// Admission is why a device that is known of is not admitted: its enrolment waits
// for a person, or was refused.
type Admission struct {
	Enrolment string `json:"enrolment"`
	State     string `json:"state"` // Held or Refused
}

// Same reports whether two say the same.
func (a *Admission) Same(b *Admission) bool { return a == b || a != nil && b != nil && *a == *b }

// Outsider reports whether a device is not one of ours.
func (d *Device) Outsider() bool { return d.Retired != nil || d.Held != nil }

// WhyOutside says why, in a clause.
func (d *Device) WhyOutside() string {
	switch {
	case d.Retired != nil:
		return "the device " + d.ID + " is retired: " + d.Retired.Reason
	case d.Held != nil && d.Held.State == Held:
		return "the device " + d.ID + " waits to be enrolled (" + d.Held.Enrolment + ")"
	case d.Held != nil:
		return "the device " + d.ID + " was refused at enrolment (" + d.Held.Enrolment + ")"
	}
	return ""
}

// Device is a device with its evidence and its standing. It is immutable.
type Device struct {
	// What appraising the whole fleet looks at stands together.
	Wake    int64           // when to look at it again: nothing changes by itself before
	frame   condition.Frame // that of the view
	Waivers []*Waiver       // live or ended, oldest first
	Result  posture.Result

	under   *generation // it was appraised: see [Book.stillHolds]
	View    *evidence.View
	ID      string
	Keys    []evidence.Key
	Record  *evidence.Record
	Since   int64 // of the level, in microseconds since the Unix epoch
	Refused []RefusedReading
	Vouches []*Vouch
	Retired *Retirement // nil: in service
	// Quarantine is a person's order that it stands at the lowest level, nil for none; it may have ended.
	Quarantine *kept.Quarantine
	Tags       *kept.Tags // nil for none
	Held       *Admission // nil: admitted; else its enrolment waits, or was refused
	Spoken     []evidence.Spoken
	FirstSeen  int64
	SeenAt     int64 // of the newest reading
	Revision   int64 // counts the changes that were kept, from 1

	seal tlog.Hash // of its row in the records
	link []byte    // the end of the chain of its past there
}

// refreshView makes sure that the view of a device holds at now.
func (d *Device) refreshView(under *Snapshot, now int64) {
	if d.View == nil || now > d.View.Valid {
		d.View = under.Book.Resolver.Resolve(d.Record, under.Facts(d, now), now)
		d.frame = d.View.Frame
	}
}

// compact copies a result for keeping.
func (e *generation) compact(r *posture.Result) posture.Result {
	out := posture.Result{Level: r.Level, Shadow: r.Shadow, Covered: r.Covered, Outsider: r.Outsider,
		Waived: r.Waived, NoGrace: r.NoGrace, Quarantined: r.Quarantined, Verdicts: e.verdicts.Of(r.Verdicts)}
	if r.Remembers() {
		out.Since = slices.Clone(r.Since)
	}
	return out
}

// row makes the next revision of a device, which stood otherwise before, as it
// is kept.
func (d *Device) row(book *Book, was Before, now int64) store.DeviceRow {
	back := ""
	if d.Revision = 1; was.device != nil {
		d.Revision = was.device.Revision + 1
		back = d.undoOf(book, was)
	}
	keys := value.Object(nil).OpenList()
	for _, k := range d.Keys {
		keys = keys.Element().OpenList().Element().Quote(string(k.Kind)).Element().Quote(k.Text).EndList()
	}
	ev := value.Object(nil).Open()
	for _, source := range d.Record.Sources() {
		ev = d.Record.AppendSource(ev.Named(source), source)
	}
	failing := posture.AppendFailing(nil, book.RuleKeys, d.Result.Since)
	row := store.DeviceRow{ID: d.ID, Keys: string(keys.EndList()), Evidence: string(ev.Close()),
		Level: book.Rulebook.LevelName(d.Result.Level),
		Since: d.Since, Failing: string(failing), FirstSeen: d.FirstSeen, SeenAt: d.SeenAt,
		Refused: d.refusedRow(), Spoken: string(evidence.AppendSpoken(nil, d.Spoken)), Revision: d.Revision,
		At: now, Undo: back, Past: []byte{}}
	if was.device != nil {
		row.Was, row.Before = was.device.seal, append([]byte{}, was.device.link...)
		row.Past = store.Link(d.ID, store.PastStep{Revision: d.Revision, At: now, Undo: back}, row.Before)
	}
	row.Sealed = row.Hash()
	d.seal, d.link = row.Sealed, row.Past
	return row
}

// RefusedReading is an attribute of the newest report of a source that was not
// taken.
type RefusedReading struct {
	Source    string `json:"source"`
	Attribute string `json:"attribute"`
	Message   string `json:"message"`
	At        int64  `json:"at"`
}

func (d *Device) refusedRow() string {
	if len(d.Refused) == 0 {
		return "[]"
	}
	return string(value.JSON(d.Refused))
}

// maxRefused bounds the refusals that are kept of a device.
const maxRefused = 50

// Refuse keeps what was refused of the newest report of a source.
func (d *Device) Refuse(rep *evidence.Report) {
	if len(d.Refused) == 0 && len(rep.Refused) == 0 {
		return
	}
	kept := slices.DeleteFunc(slices.Clone(d.Refused),
		func(r RefusedReading) bool { return r.Source == rep.Source && r.At <= rep.At })
	for _, r := range rep.Refused {
		if len(kept) < maxRefused {
			kept = append(kept, RefusedReading{rep.Source, r.Attribute, r.Message, rep.At})
		}
	}
	d.Refused = kept
}

// Copied copies a device so that it can be appraised anew.
func (d *Device) Copied() *Device {
	return &Device{ID: d.ID, Keys: d.Keys, Record: d.Record, View: d.View, frame: d.frame, Result: d.Result,
		Since: d.Since, Wake: d.Wake, FirstSeen: d.FirstSeen, SeenAt: d.SeenAt,
		Refused: d.Refused, Waivers: d.Waivers, Vouches: d.Vouches, Retired: d.Retired, Quarantine: d.Quarantine,
		Tags:   d.Tags,
		Held:   d.Held,
		Spoken: d.Spoken, Revision: d.Revision, seal: d.seal, link: d.link}
}

// deviceOf reads a kept device, not yet appraised. The hash of its row is known.
func deviceOf(book *Book, row *store.DeviceRow, granted exceptions) (*Device, error) {
	d := &Device{ID: row.ID, FirstSeen: row.FirstSeen, SeenAt: row.SeenAt, Since: row.Since,
		Waivers: granted.waivers[row.ID], Vouches: granted.vouches[row.ID], Retired: granted.retired[row.ID],
		Quarantine: granted.barred[row.ID], Tags: granted.tags[row.ID],
		Revision: row.Revision,
		seal:     row.Sealed, link: row.Past}
	damaged := func(err error) (*Device, error) {
		return nil, fmt.Errorf("the record of device %s is damaged: %w", row.ID, err)
	}
	var err error
	if d.Result.Since, err = posture.ReadFailing(bytesOf(row.Failing), book.RuleKeys); err != nil {
		return damaged(err)
	}
	if len(row.Refused) != 2 { // not empty
		if err := json.Unmarshal([]byte(row.Refused), &d.Refused); err != nil {
			return damaged(err)
		}
	}
	for pair := range value.Elements(bytesOf(row.Keys)) {
		key, ok := keyOf(pair)
		if !ok {
			return damaged(fmt.Errorf("%.60s is no key", pair))
		}
		d.Keys = append(d.Keys, key)
	}
	if d.Spoken, err = evidence.ReadSpoken(bytesOf(row.Spoken)); err != nil {
		return damaged(err)
	}
	if d.Record, err = book.Rulebook.Dict.UnmarshalRecord(bytesOf(row.Evidence)); err != nil {
		return damaged(err)
	}
	return d, nil
}

// bytesOf lets the bytes of a text be read, and no more.
func bytesOf(text string) []byte { return unsafe.Slice(unsafe.StringData(text), len(text)) }

// keyOf reads a key as it is kept: ["serial", "gf-1"].
func keyOf(pair []byte) (k evidence.Key, ok bool) {
	n := 0
	for part := range value.Elements(pair) {
		v, err := value.Decode(value.Of(value.Text), part)
		if err != nil || n == 2 {
			return k, false
		}
		if n++; n == 1 {
			k.Kind = evidence.KeyKind(v.Str())
		} else {
			k.Text = v.Str()
		}
	}
	return k, n == 2
}
