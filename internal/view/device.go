package view

import (
	"crypto/x509"

	"ironledger.example/core/condition"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/state"
)

// standing explains the standing of a device that is at the moment now.
func standing(b *state.Book, d *state.Device, now int64) *posture.Standing {
	env := d.View.Env(now)
	return b.Rules.Explain(env, d.View, &d.Result)
}

// DeviceOf shows the device that a connection proved by its certificate in full;
// nil for none.
func (s *Service) DeviceOf(cert *x509.Certificate) *Device {
	ref := s.decisions.Certified(cert)
	snap, now := s.Snapshot(), s.Micros()
	d := snap.Shows(ref.CertificateSHA256)
	if d == nil || ref.Untrusted != "" {
		return nil
	}
	return detail(snap, snap.At(d, now), now)
}

// DeviceSummary is a device in a list.
type DeviceSummary struct {
	ID        string   `json:"id"`
	Name      string   `json:"name,omitempty"`
	Platform  string   `json:"platform,omitempty"`
	Form      string   `json:"form,omitempty"`
	Model     string   `json:"model,omitempty"`
	OSVersion string   `json:"os_version,omitempty"`
	Owner     string   `json:"owner,omitempty"`
	Ownership string   `json:"ownership,omitempty"`
	Serial    string   `json:"serial,omitempty"`
	Level     string   `json:"level"`
	Rank      int      `json:"rank"` // the place of the level on the ladder, 0 the lowest
	Top       int      `json:"top"`  // the place of the highest level
	Shadow    string   `json:"shadow_level,omitempty"`
	Covered   bool     `json:"covered"`
	Binding   []string `json:"binding"`
	Since     string   `json:"since"`
	SeenAt    string   `json:"seen_at"`
	Next      string   `json:"next_change,omitempty"`
	// Values are the attributes asked for, as text; those that are not known are
	// left out.
	Values map[string]string `json:"values,omitempty"`
	// Retired is why the device is out of service, "" when it is in.
	Retired string `json:"retired,omitempty"`
	// Outside is why the device is not one of ours, "" when it is: it was retired,
	// or its enrolment is held or refused.
	Outside string `json:"outside,omitempty"`
}

// withColumns describes a device in a list with further attributes.
func withColumns(b *state.Book, d *state.Device, columns []string, now int64) DeviceSummary {
	s := Summarize(b, d, now)
	for _, name := range columns {
		if v := d.View.Get(b.Rulebook.Dict.Slot(name), now); v.Known() {
			if s.Values == nil {
				s.Values = map[string]string{}
			}
			s.Values[name] = v.String()
		}
	}
	return s
}

// Summarize describes a device in a list.
func Summarize(b *state.Book, d *state.Device, now int64) DeviceSummary {
	get := func(name string) string {
		if v := d.View.Value(b.Rulebook.Dict.Slot(name)); v.Known() {
			return v.String()
		}
		return ""
	}
	s := DeviceSummary{ID: d.ID, Name: get("name"), Platform: get("platform"), Form: get("form"),
		Model: get("model"), OSVersion: get("os.version"),
		Owner: get("owner"), Ownership: get("ownership"), Serial: get("serial"),
		Level: b.Rulebook.LevelName(d.Result.Level), Rank: int(d.Result.Level), Top: int(b.Rulebook.Top()),
		Covered: d.Result.Covered, Binding: b.Rules.Binding(&d.Result), Since: value.FormatTime(d.Since),
		SeenAt: value.FormatTime(d.SeenAt)}
	if d.Retired != nil {
		s.Retired = d.Retired.Reason
	}
	if d.Outsider() {
		s.Outside = d.WhyOutside()
	}
	if d.Result.Shadow != d.Result.Level {
		s.Shadow = b.Rulebook.LevelName(d.Result.Shadow)
	}
	if next := b.Next(d, now); next < condition.Always {
		s.Next = value.FormatTime(next)
	}
	return s
}

// Device is a device in full.
type Device struct {
	DeviceSummary
	FirstSeen string                 `json:"first_seen"`
	Keys      map[string]string      `json:"keys"`
	Standing  *posture.Standing      `json:"standing"`
	Readings  []Reading              `json:"readings"`
	Refused   []Refusal              `json:"refused"` // of the newest report of each source
	Threats   []Threat               `json:"threats"` // the active ones
	Waivers   []state.ShownException `json:"waivers"`
	Vouches   []state.ShownException `json:"vouches"`
	OnRoster  bool                   `json:"on_roster"`
	Certs     []Certificate          `json:"certificates"`
	Rulebook  int64                  `json:"rulebook"`
}

// Reading is a reading as people see it.
type Reading struct {
	Attribute   string      `json:"attribute"`
	Title       string      `json:"title"`
	Value       value.Value `json:"value"`
	Text        string      `json:"text,omitempty"`
	Unavailable string      `json:"unavailable,omitempty"`
	Source      string      `json:"source"`
	ObservedAt  string      `json:"observed_at"`
	Age         string      `json:"age"`
	Stale       bool        `json:"stale,omitempty"`
	Counts      bool        `json:"counts"` // this reading, of several sources, is the one that counts
}

// Device shows a device in full, or nil when there is none.
func (s *Service) Device(id string) *Device {
	snap, now := s.Snapshot(), s.Micros()
	d := snap.Named(id)
	if d == nil {
		return nil
	}
	return detail(snap, snap.At(d, now), now)
}

// detail tells a device, that is at the moment now, in full.
func detail(snap *state.Snapshot, d *state.Device, now int64) *Device {
	b := snap.Book
	out := &Device{DeviceSummary: Summarize(b, d, now), FirstSeen: value.FormatTime(d.FirstSeen),
		Keys:     map[string]string{},
		Standing: standing(b, d, now), Readings: []Reading{}, Rulebook: b.Info.Version}
	for _, k := range d.Keys {
		out.Keys[string(k.Kind)] = k.Text
	}
	out.Refused, out.Threats, out.OnRoster = shownRefusals(d), threats(b, d, now),
		snap.Roster.Has(snap.Telling(d.Keys))
	out.Waivers, out.Vouches, out.Certs = []state.ShownException{}, []state.ShownException{}, []Certificate{}
	for _, w := range d.Waivers {
		out.Waivers = append(out.Waivers, snap.ShownWaiver(w, now))
	}
	for _, v := range d.Vouches {
		out.Vouches = append(out.Vouches, v.Shown("", now))
	}
	for _, c := range d.View.Get(b.Rulebook.Dict.Slot("certs"), now).Members() {
		out.Certs = append(out.Certs, showCertificate(b, d, c, certificateState(c, now)))
	}
	readings := d.Record.Readings()
	for i := range readings {
		r := &readings[i]
		slot := b.Rulebook.Dict.Slot(r.Name)
		if slot < 0 {
			continue
		}
		shown := Reading{Attribute: r.Name, Title: b.Rulebook.Dict.Attributes()[slot].Title, Value: r.Value,
			Unavailable: r.Unavailable, Source: r.Source,
			ObservedAt: value.FormatTime(r.At), Age: value.FormatAge(max(0, now-r.At))}
		counts := d.View.Counts(slot, r)
		if counts {
			shown.Value = d.View.Value(slot) // certificates checked, a threat level derived
		}
		if shown.Value.Known() {
			shown.Text = shown.Value.String()
		}
		if counts {
			shown.Stale = d.View.Cells[slot].Until < now
			shown.Counts = d.View.Get(slot, now).Known()
		} else {
			shown.Stale = r.Value.Known() && b.Resolver.Stale(slot, r, now)
		}
		out.Readings = append(out.Readings, shown)
	}
	return out
}
