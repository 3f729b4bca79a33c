package state

import (
	"slices"

	"ironledger.example/core/event"
	"ironledger.example/core/posture"
	"ironledger.example/internal/kept"
)

// The exceptions that somebody made for a device.
type (
	Exception = kept.Exception
	Waiver    = kept.Waiver
	Vouch     = kept.Vouch
)

// exceptions are the grants by device, oldest first.
type exceptions struct {
	waivers map[string][]*Waiver
	vouches map[string][]*Vouch
	retired map[string]*Retirement
	barred  map[string]*kept.Quarantine
	tags    map[string]*kept.Tags
}

// exceptions puts what was kept of devices by their ids.
func (snap *Snapshot) exceptions() exceptions {
	out := exceptions{map[string][]*Waiver{}, map[string][]*Vouch{}, map[string]*Retirement{},
		map[string]*kept.Quarantine{}, map[string]*kept.Tags{}}
	for _, w := range snap.Waivers.List() {
		out.waivers[w.Device] = append(out.waivers[w.Device], &w)
	}
	for _, v := range snap.Vouches.List() {
		out.vouches[v.Device] = append(out.vouches[v.Device], &v)
	}
	for _, r := range snap.retired.List() {
		out.retired[r.Device] = &r
	}
	for _, q := range snap.Quarantines.List() {
		out.barred[q.Device] = &q
	}
	for _, t := range snap.Tags.List() {
		out.tags[t.Device] = &t
	}
	return out
}

// ShownWaiver tells a waiver as far as the snapshot's rulebook lets it live.
func (snap *Snapshot) ShownWaiver(w *Waiver, now int64) event.Exception {
	return snap.Book.Limited(w).Shown(now)
}

// Verdict is what a rule, baseline/rule, says of a device at now; [posture.None] of one that the book has not.
func (snap *Snapshot) Verdict(d *Device, rule string, now int64) posture.Verdict {
	if i := slices.Index(snap.Book.RuleKeys, rule); i >= 0 {
		return snap.At(d, now).Result.Verdicts[i]
	}
	return posture.None
}
