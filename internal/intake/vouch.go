package intake

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/internal/state"
)

// renewFrom is which part of its time a partner's word must gain for it to be written anew:
// a feed says it again with every run.
const renewFrom = 20

// vouch lets a source's word that a device is genuine count, or takes it back, as a part of
// a change of the device. The newest word counts; one that somebody of the house ended
// does not come back by itself. It returns what is refused of it.
func vouch(c *state.Change, d *state.Device, rep *evidence.Report) []evidence.Refusal {
	if rep.Vouch == nil {
		return nil
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%q%q", rep.Source, d.ID))
	id := "vp-" + hex.EncodeToString(sum[:])[:16]
	old := state.Get(c, state.VouchKind, id)
	lasts := c.Base.Book.Resolver.VouchesFor(rep.Source)
	switch live := old != nil && old.Live(c.Now); {
	case old != nil && old.At > rep.At:
	case old != nil && old.RevokedAt != 0 && old.RevokedBy != rep.Source:
		if *rep.Vouch {
			return []evidence.Refusal{{Attribute: "vouch", Message: fmt.Sprintf(
				"%s ended the word of %s for this device: %s", old.RevokedBy, rep.Source, old.Revoked)}}
		}
	case *rep.Vouch && rep.At+lasts <= c.Now: // too old to count
	case *rep.Vouch && live && rep.At-old.At < lasts/renewFrom && old.Until-old.At == lasts:
	case *rep.Vouch:
		v := &state.Vouch{Exception: state.Exception{ID: id, Device: d.ID, Author: rep.Source, At: rep.At,
			Until:  rep.At + lasts,
			Reason: "the source " + rep.Source + " vouches for it"}, Source: rep.Source}
		if err := keepVouch(c, d, v); err != nil {
			return []evidence.Refusal{{Attribute: "vouch", Message: err.Error()}}
		}
		if !live {
			c.Record(rep.Source, &event.VouchGiven{Exception: v.Shown("", c.Now)})
		}
	case live:
		if err := endVouch(c, d, *old, rep.Source, "the source "+rep.Source+" vouches for it no longer",
			rep.At); err != nil {
			return []evidence.Refusal{{Attribute: "vouch", Message: err.Error()}}
		}
	}
	return nil
}

// endVouch ends a source's word, as said at a moment.
func endVouch(c *state.Change, d *state.Device, v state.Vouch, actor, why string, at int64) error {
	if err := v.End(actor, why, c.Now); err != nil {
		return err
	}
	v.At = max(v.At, at)
	if err := keepVouch(c, d, &v); err != nil {
		return err
	}
	c.Record(actor, &event.VouchRevoked{Exception: v.Shown("", c.Now)})
	return nil
}

// keepVouch puts a vouch in place of the one with its id.
func keepVouch(c *state.Change, d *state.Device, v *state.Vouch) error {
	if err := state.Put(c, state.VouchKind, v.ID, v); err != nil {
		return err
	}
	d.Vouches = append(slices.DeleteFunc(slices.Clone(d.Vouches), func(x *state.Vouch) bool { return x.ID == v.ID }), v)
	return nil
}

// Gone makes what a source said of devices up to a moment unavailable, and ends its word
// for them: it was taken back, or is said no longer. A reading keeps its own moment, so
// that the same observation counts again when the source says it again.
func Gone(c *state.Change, actor, source, why string, before int64, devices []string) error {
	for _, id := range devices {
		old := c.Device(id)
		if old == nil {
			continue
		}
		rep := &evidence.Report{Source: source, At: before}
		for r := range old.Record.All() {
			if r.Source == source && r.At <= before && (r.Value.Known() || r.Unavailable != why) {
				rep.Readings = append(rep.Readings, evidence.Reading{Name: r.Name, Source: source, At: r.At, Unavailable: why})
			}
		}
		d := c.Reported(id)
		for _, v := range old.Vouches {
			if v.Source == source && v.Live(c.Now) && v.At <= before {
				if err := endVouch(c, d, *v, source, why, 0); err != nil {
					return err
				}
			}
		}
		if len(rep.Readings) == 0 && slices.Equal(d.Vouches, old.Vouches) {
			continue
		}
		d.Record = d.Record.With(rep)
		keyed := event.DeviceKeyed{Source: source}
		c.Certify(d, &keyed)
		c.Reappraise(d, state.Cause{Kind: event.ByEvidence, Actor: actor, Evidence: func() []event.EvidenceChange {
			return event.EvidenceChanges(old.Record, rep)
		}})
		c.RecordKeys(actor, id, &keyed)
	}
	return nil
}
