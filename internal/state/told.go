package state

import (
	"encoding/json"
	"fmt"
	"slices"

	"ironledger.example/internal/bearer"
	"ironledger.example/internal/reported"
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
	snap.tellHouse(say)
	snap.tellFleet(now, say)
	snap.tellDocuments(say)
	return out
}

func (snap *Snapshot) tellHouse(say func(string, any)) {
	say("book", []any{snap.Book.Info.Version, snap.Book.Info.Digest})
	say("people", []any{snap.People.List(), snap.People.Revision})
	for g, ids := range snap.People.Grouped() {
		say("group "+g, ids)
	}
	for id, e := range snap.Roster.All() {
		say("roster "+id, e)
	}
	for k, n := range snap.Roster.CountOf() {
		say(fmt.Sprint("roster key ", k), n)
	}
	say("roster", snap.Roster.Revision)
}

func (snap *Snapshot) tellFleet(now int64, say func(string, any)) {
	snap.Fleet.All(func(d *Device) bool {
		d = snap.At(d, now)
		verdicts := []string{}
		for i, v := range d.Result.Verdicts {
			verdicts = append(verdicts, snap.Book.RuleKeys[i]+" "+v.String())
		}
		waivers := []Waiver{}
		for _, w := range d.Waivers {
			waivers = append(waivers, *w)
		}
		evidence := []string{}
		for _, source := range d.Record.Sources() {
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
	snap.Fleet.owners.All(func(p reported.Pair) { say("owner "+p.Text+" "+p.Device, true) })
	snap.Fleet.addresses.All(func(p reported.Pair) { say("address "+p.Text+" "+p.Device, true) })
}

func (snap *Snapshot) tellDocuments(say func(string, any)) {
	for name, list := range map[string]any{"unmatched": snap.Unmatched.List(),
		"enrolments": snap.Enrolments.List(), "searches": snap.Searches.List(), "streams": snap.Streams.List(),
		"places": snap.places.List(), "letters": snap.Letters.List(), "notices": snap.Notices.List(), "notice place": snap.noticePlace.List(),
		"mutes": snap.Mutes.List(), "seen": snap.Seen.List(), "feeds": snap.Feeds.List(),
		"feed places": snap.FeedPlaces.List(), "heard": snap.Heard.List(), "waivers": snap.Waivers.List(),
		"vouches": snap.Vouches.List(), "retired": snap.retired.List(), "authorities": snap.Authorities.List(),
		"issued": snap.Issued.List(), "invites": snap.Invites.List(), "statements": snap.Statements.List(),
		"quarantines": snap.Quarantines.List(), "tags": snap.Tags.List(), "archives": snap.Archives.List(), "mappings": snap.Mappings.List(),
		"token terms": snap.terms.List(), "access points": snap.AccessPoints.List(), "stays": snap.Stays.List(),
		"reports": snap.Reports.List()} {
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
	for _, t := range snap.Tokens.All {
		live, is := snap.Tokens.Live(0, func(x *bearer.Token) bool { return x.ID == t.ID })
		say("token "+t.ID, []any{t, live, is})
	}
}
