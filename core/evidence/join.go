package evidence

import (
	"cmp"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironledger.example/core/certificate"
	"ironledger.example/core/value"
)

// KeyKind tells how a key points at a device.
type KeyKind string

// The kinds of key, in the order in which they are asked.
const (
	ByExternal KeyKind = "external_id"
	ByID       KeyKind = "id"
	ByHardware KeyKind = "hardware_id"
	BySerial   KeyKind = "serial"
	// ByCertificate is the SHA-256 of a certificate the device has shown, in hex.
	ByCertificate KeyKind = "certificate_sha256"
	// Approved is the same of a certificate that a person said is the device's,
	// though no issuer of the rulebook issued it.
	Approved KeyKind = "approved_certificate"
)

// Key points at a device.
type Key struct {
	Kind KeyKind `json:"kind"`
	Text string  `json:"text"` // case folded for hardware ids and serials
}

// Folded returns a key with its text in the form in which keys are compared.
func Folded(kind KeyKind, text string) Key {
	text = strings.TrimSpace(text)
	if kind != ByID && kind != ByExternal {
		text = strings.ToLower(text)
	}
	return Key{kind, text}
}

// Keys lists what the report says about which device it is from, strongest first.
func (r *Report) Keys() []Key { return r.keys }

// Identified returns the report with the keys that its identity gives, for one
// that was not parsed.
func (r *Report) Identified() *Report {
	r.keys = r.findKeys()
	return r
}

func (r *Report) findKeys() []Key {
	keys := make([]Key, 0, 4)
	add := func(kind KeyKind, text string) {
		if k := Folded(kind, text); k.Text != "" {
			keys = append(keys, k)
		}
	}
	if r.ExternalID != "" {
		add(ByExternal, r.Source+":"+r.ExternalID)
	}
	add(ByID, r.Identity.ID)
	add(ByHardware, r.Identity.HardwareID)
	add(BySerial, r.Identity.Serial)
	return keys
}

// unset are what firmware and its makers write where no serial or hardware id
// was set, case folded. Texts of one repeated character are none either.
var unset = setOf(
	"default string", "to be filled by o.e.m.", "to be filled by oem", "system serial number",
	"chassis serial number",
	"base board serial number", "not specified", "not available", "not applicable", "none", "n/a", "unknown",
	"invalid",
	"undefined", "null", "empty", "oem", "o.e.m.", "123456789", "1234567890", "0123456789", "01234567890123456789",
	"system product name", "serial", "serial number", "no serial", "unset", "tbd", "filled by oem", "not set",
	"03000200-0400-0500-0006-000700080009", "fefefefe-fefe-fefe-fefe-fefefefefefe",
)

func setOf(texts ...string) map[string]bool {
	set := make(map[string]bool, len(texts))
	for _, t := range texts {
		set[t] = true
	}
	return set
}

// Unset reports whether a serial or hardware id, case folded, is one that
// firmware leaves where nobody set it.
func Unset(text string) bool {
	first := rune(-1)
	for _, r := range text {
		switch {
		case r == ' ' || r == '-' || r == '_' || r == '.' || r == ':':
		case first < 0:
			first = r
		case r != first:
			return unset[text]
		}
	}
	return true
}

// Ignores reports whether a key says nothing: firmware left it unset, or the
// rulebook lists it.
func (r *Resolver) Ignores(k Key) bool {
	return (k.Kind == BySerial || k.Kind == ByHardware) && (r.ignored[k.Text] || Unset(k.Text))
}

// KeysOf lists the keys of a report that say something, strongest first.
func (r *Resolver) KeysOf(rep *Report) []Key {
	keys := rep.Keys()
	for i, k := range keys {
		if r.Ignores(k) {
			return slices.DeleteFunc(slices.Clip(append(keys[:i:i], keys[i:]...)), r.Ignores)
		}
	}
	return keys
}

// Identifies reports whether a source may make devices known, and add or change
// their keys. Any other may only use keys that are known.
func (r *Resolver) Identifies(source string) bool {
	return r.sources == nil || source == Authority || r.sources[source].Identifies
}

// VouchesFor is for how long the word of a source that a device is genuine counts, in
// microseconds; 0 when it does not.
func (r *Resolver) VouchesFor(source string) int64 { return r.sources[source].Vouches }

// refuseVouch takes out of a report the word of a source that may vouch for nothing.
func (r *Resolver) refuseVouch(rep *Report) []Refusal {
	if rep.Vouch == nil || r.VouchesFor(rep.Source) > 0 {
		return nil
	}
	rep.Vouch = nil
	return []Refusal{{"vouch", "the rulebook does not let the source " + rep.Source + " vouch for devices"}}
}

// Spoken is under which keys a source spoke of a device last, and when. A text
// that is "" was not said.
type Spoken struct {
	Source   string
	At       int64 // microseconds since the Unix epoch
	External string
	ID       string
	Hardware string
}

// AppendSpoken appends a list as it is kept: [["mdm", at, external id, id, hardware id], ...].
func AppendSpoken(b []byte, list []Spoken) []byte {
	o := value.Object(b).OpenList()
	for _, s := range list {
		o = strconv.AppendInt(o.Element().OpenList().Element().Quote(s.Source).Element(), s.At, 10)
		for _, text := range []string{s.External, s.ID, s.Hardware} {
			o = o.Element().Quote(text)
		}
		o = o.EndList()
	}
	return o.EndList()
}

// ReadSpoken reads a list as it is kept.
func ReadSpoken(kept []byte) ([]Spoken, error) {
	var out []Spoken
	for one := range value.Elements(kept) {
		var s Spoken
		texts, n := [...]*string{0: &s.Source, 2: &s.External, 3: &s.ID, 4: &s.Hardware}, 0
		for part := range value.Elements(one) {
			var err error
			switch {
			case n == len(texts):
				return nil, fmt.Errorf("%.60s has too many parts", one)
			case texts[n] == nil:
				s.At, err = strconv.ParseInt(string(part), 10, 64)
			case string(part) != `""`:
				var v value.Value
				v, err = value.Decode(value.Of(value.Text), part)
				*texts[n] = v.Str()
			}
			if err != nil {
				return nil, fmt.Errorf("%.60s: %w", one, err)
			}
			n++
		}
		if n != len(texts) {
			return nil, fmt.Errorf("%.60s has too few parts", one)
		}
		out = append(out, s)
	}
	return out, nil
}

// SpokenBy is what a report says in that way.
func SpokenBy(rep *Report) Spoken {
	return Spoken{rep.Source, rep.At, rep.ExternalID, rep.Identity.ID,
		Folded(ByHardware, rep.Identity.HardwareID).Text}
}

// With returns the list, one for each source, with a newer one laid over it. A
// key that was not said this time keeps counting as said.
func With(list []Spoken, s Spoken) []Spoken {
	i := slices.IndexFunc(list, func(x Spoken) bool { return x.Source == s.Source })
	if i < 0 {
		return append(slices.Clip(list), s)
	}
	old := list[i]
	if old.At > s.At {
		return list
	}
	s.External, s.ID, s.Hardware = cmp.Or(s.External, old.External), cmp.Or(s.ID, old.ID),
		cmp.Or(s.Hardware, old.Hardware)
	list = slices.Clone(list)
	list[i] = s
	return list
}

// Twins is within which time two reports of one source under different keys
// mean two machines, in microseconds: afterwards, one that was set up again.
const Twins = 24 * 3600 * 1_000_000

// Known is what joining asks of the devices that are known.
type Known interface {
	// Find returns the device that a key points at.
	Find(Key) (device string, ok bool)
	// Spoken returns how a source spoke of a device last.
	Spoken(device, source string) (Spoken, bool)
}

// Joined is which device a report is about.
type Joined struct {
	Device string // the id that it has, or gets
	Known  bool
	// Wait says that the report must wait: nobody knows the device, and the source
	// cannot make it known.
	Wait   bool
	Gained []Key // that the device has from now on
	Lost   []Key // that it had until now: it was set up again
}

// ConflictError says why a report is kept aside for a person: it points at
// several devices, or two machines share a serial.
type ConflictError struct {
	Keys    []Key
	Devices []string
	Twin    string // what the other machine was called by the same source; "" for several devices
}

func (e *ConflictError) Error() string {
	parts := make([]string, len(e.Keys))
	for i, k := range e.Keys {
		parts[i] = fmt.Sprintf("%s %s is device %s", k.Kind, k.Text, e.Devices[i])
	}
	if e.Twin != "" {
		return fmt.Sprintf("two machines seem to share a serial: %s, of which the same source spoke as %s "+
			"within the last day", parts[0], e.Twin)
	}
	return "the report points at different devices: " + strings.Join(parts, ", ")
}

// ErrNobody says that a report names no device: all its keys are placeholders.
var ErrNobody = errors.New("the report does not say which device it is about: its serial or hardware id is a " +
	"placeholder that firmware leaves unset, or one that the rulebook ignores")

// Join finds the device that a report is about by its keys, and what becomes of
// the keys: see DESIGN 3.1. When the device is better not guessed the error is a
// [*ConflictError].
func (r *Resolver) Join(rep *Report, known Known) (j Joined, err error) {
	keys := r.KeysOf(rep)
	if len(keys) == 0 {
		return j, ErrNobody
	}
	var found []Key
	e := &ConflictError{}
	for _, k := range keys {
		id, ok := known.Find(k)
		if !ok {
			j.Gained = append(j.Gained, k)
			continue
		}
		found = append(found, k)
		e.Keys, e.Devices = append(e.Keys, k), append(e.Devices, id)
	}
	identifies := r.Identifies(rep.Source)
	switch {
	case slices.ContainsFunc(e.Devices, func(d string) bool { return d != e.Devices[0] }):
		return Joined{}, e
	case len(found) == 0 && !identifies:
		return Joined{Wait: true}, nil
	case len(found) == 0:
		j.Device = newID(rep, keys)
		return j, nil
	}
	j.Device, j.Known = e.Devices[0], true
	if len(found) == 1 && found[0].Kind == BySerial {
		if j.Lost, e.Twin = again(rep, j.Device, known); e.Twin != "" {
			return Joined{}, e
		}
	}
	if !identifies {
		j.Gained, j.Lost = nil, nil
	}
	return j, nil
}

// again looks at a report that found its device by serial alone: under which
// other keys did its source speak of the device before? Lately means two machines
// with one serial; long ago, one that was set up again and gives those keys up.
func again(rep *Report, device string, known Known) (lost []Key, twin string) {
	before, ok := known.Spoken(device, rep.Source)
	if !ok {
		return nil, ""
	}
	now := SpokenBy(rep)
	for _, k := range []struct {
		kind         KeyKind
		before, said string
	}{
		{ByExternal, before.External, now.External}, {ByHardware, before.Hardware, now.Hardware},
		{ByID, cmp.Or(before.ID, device), now.ID},
	} {
		switch {
		case k.before == "" || k.said == "" || k.before == k.said:
		case rep.At-before.At <= Twins:
			return nil, string(k.kind) + " " + k.before
		case k.kind == ByExternal:
			lost = append(lost, Folded(ByExternal, rep.Source+":"+k.before))
		case k.kind == ByHardware:
			lost = append(lost, Folded(ByHardware, k.before))
		}
	}
	return lost, ""
}

// newID is the id of a device that nobody knew.
func newID(rep *Report, keys []Key) string {
	has := func(kind KeyKind) bool {
		return slices.ContainsFunc(keys, func(k Key) bool { return k.Kind == kind })
	}
	switch {
	case has(ByID):
		return rep.Identity.ID
	case has(BySerial):
		return rep.Identity.Serial
	case has(ByHardware):
		return rep.Identity.HardwareID
	}
	return rep.Source + ":" + rep.ExternalID
}

// certificateKeys lists the keys of a value of the attribute certs.
func certificateKeys(certs value.Value) []Key {
	i := certificate.Type.Index("sha256")
	var keys []Key
	for _, c := range certs.Members() {
		keys = append(keys, Folded(ByCertificate, c.FieldAt(i).Str()))
	}
	return keys
}

// CertificateKeys lists the certificates that the sources which identify show of
// a device now. Which of them point at it, [View.Issued] says.
func (r *Resolver) CertificateKeys(rec *Record) []Key {
	var keys []Key
	for x := range rec.Of("certs") {
		if r.Identifies(x.Source) && r.Accepts(x.Source, "certs") == nil {
			keys = append(keys, certificateKeys(x.Value)...)
		}
	}
	return keys
}

// IssuedKeys lists the certificates that our own authority issued to a device.
func IssuedKeys(rec *Record) (keys []Key) {
	for _, c := range IssuedIn(rec) {
		keys = append(keys, Folded(ByCertificate, certificate.Field(c, "sha256").Str()))
	}
	return keys
}

// IssuedIn is what our own authority issued to a device, by its record.
func IssuedIn(rec *Record) []value.Value {
	for x := range rec.Of(IssuedName) {
		if x.Source == Authority {
			return x.Value.Members()
		}
	}
	return nil
}

// device is who the device of a view is, for its certificates.
func (v *View) device(id string) certificate.Device {
	name := func(slot int) string {
		if x := v.Value(slot); x.Known() {
			return x.Str()
		}
		return ""
	}
	return certificate.Device{ID: id, Serial: name(v.by.serial), HardwareID: name(v.by.hardware),
		Issued: IssuedIn(v.rec)}
}

// named is the same of a device with some keys: they tell who it is where no
// reading does.
func (v *View) named(id string, keys []Key) certificate.Device {
	d := v.device(id)
	for _, k := range keys {
		switch {
		case v.by.Ignores(k):
		case k.Kind == BySerial && d.Serial == "":
			d.Serial = k.Text
		case k.Kind == ByHardware && d.HardwareID == "":
			d.HardwareID = k.Text
		}
	}
	return d
}

// Issued reports whether a certificate, by its SHA-256 in hex, points at the
// device with an id and keys: it shows it now, and one of the rulebook's issuers
// issued it for this device.
func (v *View) Issued(id string, keys []Key, sha256 string) bool {
	shown := v.everShown()
	if !shown.Known() && slices.Contains(keys, Folded(ByCertificate, sha256)) {
		return true // of one that never showed any, what it was enrolled with
	}
	return v.by.checker.Issued(certificate.Union(shown, IssuedIn(v.rec)), v.named(id, keys), sha256)
}

// Proves reports whether a certificate is of one of the rulebook's issuers, valid
// at now and not revoked, and names a device; or says why not.
func (r *Resolver) Proves(cert *x509.Certificate, d certificate.Device, now int64) (bool, string) {
	shown := value.OfList([]value.Value{certificate.Of(cert)})
	checked, _ := r.checker.Check(shown, d, now)
	c := checked.Members()[0]
	field := func(name string) value.Value { return c.FieldAt(certificate.Type.Index(name)) }
	switch {
	case !field("trusted").IsTrue():
		return false, cmp.Or(certificate.Why(c), "it is not trusted")
	case !field("revoked").Known():
		return false, "whether it is revoked is not known"
	case field("revoked").IsTrue():
		return false, "it is revoked"
	case !certificate.Names(cert, d):
		return false, "it does not name the device"
	}
	return true, ""
}

// everShown is the certificates that the device showed last, however long ago; not known when it never did.
func (v *View) everShown() (shown value.Value) {
	if x := v.Reading(v.by.certs); x != nil {
		shown = x.Value
	}
	return shown
}

// Trusts says why a certificate that a connection proved possession of does not
// identify the device with an id at now; "" when it does. It counts whether the
// device has shown others since, and not how long ago it showed this one.
func (v *View) Trusts(id string, keys []Key, cert *x509.Certificate, now int64) (why string) {
	shown := v.everShown()
	if !shown.Known() {
		shown = value.OfList([]value.Value{certificate.Of(cert)})
	}
	shown = certificate.Union(shown, IssuedIn(v.rec))
	sum := sha256.Sum256(cert.Raw)
	checked, _ := v.by.checker.Check(shown, v.named(id, keys), now)
	trusted, known := certificate.Proven(checked, hex.EncodeToString(sum[:]))
	switch {
	case trusted && known:
		return ""
	case !known:
		return "whether it is revoked is not known"
	}
	for _, c := range checked.Members() {
		if c.FieldAt(certificate.Type.Index("sha256")).Str() == hex.EncodeToString(sum[:]) {
			return cmp.Or(certificate.Why(c), "it is not trusted")
		}
	}
	return "the device has shown other certificates since"
}
