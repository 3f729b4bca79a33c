package service

import (
	"encoding/json"
	"fmt"
	"slices"
)

// Told is the whole of a state in words: what each of its parts is, by name. Of two
// states that tell the same no answer differs.
func (snap *Snapshot) Told(now int64) map[string]string {
	out := map[string]string{}
	say := func(name string, v any) {
		raw, err := json.Marshal(v)
		if err != nil {
			raw = fmt.Appendf(nil, "%+v", v)
		}
		out[name] = string(raw)
	}
	say("book", []any{snap.Book.Info.Version, snap.Book.Info.Digest})
	say("people", []any{snap.People.List(), snap.People.revision})
	for g, ids := range snap.People.inGroup.All() {
		say("group "+g, ids)
	}
	for id, e := range snap.Roster.entries.All() {
		say("roster "+id, e)
	}
	for k, n := range snap.Roster.keys.All() {
		say(fmt.Sprint("roster key ", k), n)
	}
	say("roster", snap.Roster.revision)
	snap.Fleet.All(func(d *Device) bool {
		d = snap.at(d, now)
		verdicts := []string{}
		for i, v := range d.Result.Verdicts {
			verdicts = append(verdicts, snap.Book.ruleKeys[i]+" "+v.String())
		}
		waivers := []Waiver{}
		for _, w := range d.Waivers {
			waivers = append(waivers, *w)
		}
		evidence := []string{}
		for _, source := range d.Sources() {
			evidence = append(evidence, source+string(d.Record.MarshalSource(source)))
		}
		say("device "+d.ID, []any{d.Keys, evidence, d.Result.Level, verdicts, d.Since, d.FirstSeen, d.SeenAt,
			d.Refused, waivers, len(d.Vouches), d.Retired, d.Held, d.Spoken, d.Revision, d.seal,
			fmt.Sprintf("%x", d.link), d.Wake})
		return true
	})
	for k, id := range snap.Fleet.keys.All() {
		say(fmt.Sprint("key ", k), id)
	}
	for k, ids := range snap.Fleet.shared {
		say(fmt.Sprint("shared key ", k), slices.Sorted(slices.Values(ids)))
	}
	if snap.Fleet.owners.pairs != nil {
		snap.Fleet.owners.pairs.Scan(func(x owned) bool { say("owner "+x.owner+" "+x.device, true); return true })
	}
	for name, list := range map[string]any{"unmatched": snap.Unmatched.list(),
		"enrolments": snap.Enrolments.list(), "searches": snap.searches.list(), "waivers": snap.waivers.list(),
		"vouches": snap.vouches.list(), "retired": snap.retired.list()} {
		say(name, list)
	}
	for k, ids := range snap.Unmatched.byKey.All() {
		say(fmt.Sprint("waits for ", k), ids)
	}
	for k, n := range snap.Unmatched.count {
		say(fmt.Sprint("unmatched of ", k), n)
	}
	for k, e := range snap.Enrolments.byKey.All() {
		say(fmt.Sprint("claimed ", k), e.ID)
	}
	for _, t := range snap.Tokens.all {
		say("token "+t.ID, t)
	}
	for h, t := range snap.Tokens.active {
		say(fmt.Sprintf("active token %x", h[:4]), t)
	}
	return out
}
