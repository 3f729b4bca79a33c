package house

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
)

// told is all that a directory answers.
func told(p *People) string {
	out := fmt.Sprint(p.Len(), p.List(), p.AllGroups())
	for _, g := range p.AllGroups() {
		out += fmt.Sprint("\n", g, p.Members(g))
	}
	for _, who := range p.List() {
		var q access.Request
		p.Ask(&q, who.ID)
		out += fmt.Sprint("\n", who.ID, p.Groups(who.ID), p.GroupsOf(who.ID), q.Known, q.Groups)
	}
	return out
}

// Whom a search finds is whom looking at everybody finds, sorted.
func TestPeopleAreFoundByAnyPart(t *testing.T) {
	names := []string{"Ada Åkers", "İlke", "MAREN holt", "birk"}
	var list []directory.Person
	for i := range 200 {
		list = append(list, directory.Person{ID: fmt.Sprintf("P%d@Gullholm.example", 997*i%200), Name: names[i%4],
			Groups: [][]string{{}, {"crew"}, {"crew", "Deck"}}[i%3]})
	}
	p := NewPeople(list)
	for _, text := range []string{"", "p1", "P19@", "åkers", "ÅKERS", "İ", "i", "deck", "crew\ndeck", "example\n", "\np", "\x00", "birk"} {
		for _, group := range []string{"", "crew", "none"} {
			var want []string
			for _, x := range p.List() {
				has := func(s string) bool { return strings.Contains(strings.ToLower(s), strings.ToLower(text)) }
				if (has(x.ID) || has(x.Name) || slices.ContainsFunc(x.Groups, has)) && (group == "" || slices.Contains(x.Groups, group)) {
					want = append(want, x.ID)
				}
			}
			var got []string
			for x := range p.Search(text, group) {
				got = append(got, x.ID)
			}
			if !slices.Equal(got, want) {
				t.Errorf("%q in %q finds %v, not %v", text, group, got, want)
			}
		}
	}
}

// A directory that was changed a thousand times is the one that would be made of the same people, and what it was
// before stays as it was.
func TestPeopleAfterManyChanges(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	now, people := NewPeople(nil), map[string]directory.Person{}
	type moment struct {
		p    *People
		said string
	}
	var before []moment
	for step := range 1000 {
		changes := map[string]*directory.Person{}
		for range 1 + r.IntN(4) {
			id := fmt.Sprint("p", r.IntN(12))
			if r.IntN(3) == 0 {
				changes[id] = nil
				delete(people, id)
				continue
			}
			who := directory.Person{ID: id, Name: fmt.Sprint("n", r.IntN(3)), Groups: []string{}}
			for _, g := range []string{"a", "b", "c", "d"} {
				if r.IntN(3) == 0 {
					who.Groups = append(who.Groups, g)
				}
			}
			changes[id], people[id] = &who, who
		}
		now = now.With(changes)
		if now.Revision != int64(step+1) {
			t.Fatalf("after %d changes the revision is %d", step+1, now.Revision)
		}
		if got, want := told(now), told(NewPeople(slices.Collect(maps.Values(people)))); got != want {
			t.Fatalf("after step %d it tells\n%s\nand anew it would tell\n%s", step, got, want)
		}
		if step%100 == 0 {
			before = append(before, moment{now, told(now)})
		}
	}
	for i, m := range before {
		if got := told(m.p); got != m.said {
			t.Errorf("the directory of step %d tells\n%s\nand told\n%s", i*100, got, m.said)
		}
	}
}

// Nobody is asked for: the directory says that it does not know, and takes nothing of who asked before.
func TestAStrangerAsks(t *testing.T) {
	p := NewPeople([]directory.Person{{ID: "ada", Groups: []string{"crew"}}})
	var q access.Request
	if p.Ask(&q, "ada"); !q.Known || !slices.Equal(q.Groups, []string{"crew"}) {
		t.Errorf("ada asks as %+v", q)
	}
	if p.Ask(&q, "Ada"); q.Known || q.Groups != nil || q.User != "Ada" {
		t.Errorf("a stranger asks as %+v", q)
	}
	if p.GroupsOf("bo") != nil || p.Groups("bo") != nil || p.Members("none") != nil {
		t.Error("of a stranger something is known")
	}
	if _, known := p.Get("bo"); known {
		t.Error("a stranger is known")
	}
}

// A roster that was changed many times has the keys that it would have anew; a key that two entries have stays when one
// is taken off.
func TestRosterAfterManyChanges(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	now, entries := NewRoster(nil), map[string]RosterEntry{}
	said := func(r *Roster) string {
		counts := map[string]int{}
		for k, n := range r.CountOf() {
			counts[fmt.Sprint(k)] = *n
		}
		ids := map[string]string{}
		for id, e := range r.All() {
			ids[id] = fmt.Sprint(*e)
		}
		return fmt.Sprint(counts, ids)
	}
	for step := range 600 {
		changes := map[string]*RosterEntry{}
		for range 1 + r.IntN(3) {
			id := fmt.Sprint("s", r.IntN(9))
			if r.IntN(3) == 0 {
				changes[id] = nil
				delete(entries, id)
				continue
			}
			e := RosterEntry{ID: id, Serial: id, HardwareID: []string{"", "h1", "h2"}[r.IntN(3)], By: fmt.Sprint(step)}
			changes[id], entries[id] = &e, e
		}
		now = now.With(changes)
		if got, want := said(now), said(NewRoster(maps.Clone(entries))); got != want {
			t.Fatalf("after step %d it has\n%s\nand anew it would have\n%s", step, got, want)
		}
		for _, serial := range []string{"s1", "s5", "none"} {
			_, is := entries[serial]
			if got := now.Has([]evidence.Key{evidence.Folded(evidence.BySerial, serial)}); got != is {
				t.Fatalf("after step %d it is %v that it has %s", step, got, serial)
			}
		}
	}
}
