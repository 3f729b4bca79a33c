package view

import (
	"crypto/x509"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// standing explains the standing of a device that is at the moment now.
func standing(b *state.Book, d *state.Device, now int64) *posture.Standing {
	env := d.View.Env(now)
	return b.Rules.Explain(env, d.View, &d.Result)
}

// DeviceOf shows the device that a connection proved by its certificate in full;
// nil for none.
func (s *Service) DeviceOf(cert *x509.Certificate) *api.Device {
	ref := s.decisions.Certified(cert)
	snap, now := s.Snapshot(), s.Micros()
	d := snap.Shows(ref.CertificateSHA256)
	if d == nil || ref.Untrusted != "" {
		return nil
	}
	return detail(snap, snap.At(d, now), now)
}

// withColumns describes a device in a list with further attributes.
func withColumns(b *state.Book, d *state.Device, columns []string, now int64) api.DeviceSummary {
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

// Tags shows the words that people put on a device.
func Tags(t *kept.Tags) api.DeviceTags {
	out := api.DeviceTags{Device: t.Device, Tags: t.List, Note: t.Note, Owner: t.Owner, By: t.By, At: value.FormatTime(t.At)}
	if out.Tags == nil {
		out.Tags = []string{}
	}
	return out
}

// Quarantine shows a person's order that a device stands at the lowest level.
func Quarantine(q *kept.Quarantine) api.Quarantine {
	out := api.Quarantine{Device: q.Device, Reason: q.Reason, By: q.By, At: value.FormatTime(q.At)}
	if q.Until != 0 {
		out.Until = value.FormatTime(q.Until)
	}
	return out
}

// Summarize describes a device in a list.
func Summarize(b *state.Book, d *state.Device, now int64) api.DeviceSummary {
	get := func(name string) string {
		if v := d.View.Value(b.Rulebook.Dict.Slot(name)); v.Known() {
			return v.String()
		}
		return ""
	}
	s := api.DeviceSummary{ID: d.ID, Name: get("name"), Platform: get("platform"), Form: get("form"),
		Model: get("model"), OSVersion: get("os.version"),
		Owner: get("owner"), Ownership: get("ownership"), Serial: get("serial"),
		Level: b.Rulebook.LevelName(d.Result.Level), Rank: int(d.Result.Level), Top: int(b.Rulebook.Top()),
		Covered: d.Result.Covered, Binding: b.Rules.Binding(&d.Result), Since: value.FormatTime(d.Since),
		SeenAt: value.FormatTime(d.SeenAt)}
	if d.Retired != nil {
		s.Retired = d.Retired.Reason
		if d.Retired.PurgedAt != 0 {
			s.Purged = value.FormatTime(d.Retired.PurgedAt)
		}
	}
	if d.Tags != nil {
		s.Tags = Tags(d.Tags)
	}
	if d.Quarantine.Holds(now) {
		s.Quarantine = Quarantine(d.Quarantine)
	}
	if d.Outsider() {
		s.Outside = d.WhyOutside()
	}
	if d.Result.Shadow != d.Result.Level {
		s.ShadowLevel = b.Rulebook.LevelName(d.Result.Shadow)
	}
	if next := b.Next(d, now); next < condition.Always {
		s.NextChange = value.FormatTime(next)
	}
	return s
}

// Device shows a device in full, or nil when there is none.
func (s *Service) Device(id string) *api.Device {
	snap, now := s.Snapshot(), s.Micros()
	d := snap.Named(id)
	if d == nil {
		return nil
	}
	return detail(snap, snap.At(d, now), now)
}

// detail tells a device, that is at the moment now, in full.
func detail(snap *state.Snapshot, d *state.Device, now int64) *api.Device {
	b := snap.Book
	out := &api.Device{DeviceSummary: Summarize(b, d, now), FirstSeen: value.FormatTime(d.FirstSeen),
		Keys:     map[string]string{},
		Standing: *standing(b, d, now), Readings: []api.Reading{}, Rulebook: b.Info.Version}
	for _, k := range d.Keys {
		out.Keys[string(k.Kind)] = k.Text
	}
	out.Refused, out.Threats, out.OnRoster = shownRefusals(d), threats(b, d, now),
		snap.Roster.Has(snap.Telling(d.Keys))
	out.Waivers, out.Vouches, out.Certificates = []api.Exception{}, []api.Exception{}, []api.Certificate{}
	for _, w := range d.Waivers {
		out.Waivers = append(out.Waivers, snap.ShownWaiver(w, now))
	}
	for _, v := range d.Vouches {
		out.Vouches = append(out.Vouches, v.Shown("", now))
	}
	for _, c := range d.View.Get(b.Rulebook.Dict.Slot("certs"), now).Members() {
		out.Certificates = append(out.Certificates, showCertificate(snap, d, c, certificateState(c, now)))
	}
	for r := range d.View.Readings {
		slot := r.Slot
		if slot < 0 {
			continue
		}
		shown := api.Reading{Attribute: r.Name, Title: b.Rulebook.Dict.Attributes()[slot].Title,
			Unavailable: r.Unavailable, Source: r.Source, Proved: r.Proved,
			ObservedAt: value.FormatTime(r.At), Age: value.FormatAge(max(0, now-r.At))}
		v := r.Value
		if r.Counts {
			v = d.View.Value(slot) // certificates checked, a threat level derived
		}
		if shown.Value = v; v.Known() {
			shown.Text = v.String()
		}
		if r.Counts {
			shown.Stale = d.View.Cells[slot].Until < now
			shown.Counts = d.View.Get(slot, now).Known()
		} else {
			shown.Stale = r.Value.Known() && b.Resolver.Fresh(slot, &r.Reading) < now
		}
		out.Readings = append(out.Readings, shown)
	}
	return out
}

// DeviceID is the id of a device that somebody calls by its id, serial or hardware id; the name itself of one that is
// not known.
func (s *Service) DeviceID(name string) string {
	if d := s.Snapshot().Named(name); name != "" && d != nil {
		return d.ID
	}
	return name
}
