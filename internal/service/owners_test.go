package service_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ironledger.example/internal/view/find"
)

// A person's devices are found by an index. It must tell what a walk through the
// whole fleet does, whoever reports which owner in whatever order, and after a
// restart.
func TestDevicesArePeoplesAsAWalkSays(t *testing.T) {
	t.Parallel()
	dir, r := t.TempDir(), rand.New(rand.NewPCG(3, 1))
	s := open(t, dir)
	publish(t, s, house+"sources: [{id: desk, provides: [\"*\"], rank: 2}, {id: agent, provides: [\"*\"], rank: 1}]\n")
	owners := []string{"maren", "joris", "astrid", "Maren", "maren ", ""}
	compare := func(when string) {
		t.Helper()
		for _, who := range owners[:5] {
			page, err := s.View.Devices(ctx, find.Query{Where: fmt.Sprintf("owner == %q", who),
				Limit: 1000, Sort: "id"})
			if err != nil {
				t.Fatal(err)
			}
			walked := []string{}
			for _, d := range page.Items {
				walked = append(walked, d.ID)
			}
			found := map[string]bool{}
			for _, d := range s.View.Person(who).Devices {
				found[d.ID] = true
			}
			for _, id := range walked {
				if !found[id] {
					t.Fatalf("%s: %s is %q's by the walk, and not by the index", when, id, who)
				}
			}
			if len(found) != len(walked) {
				t.Fatalf("%s: %q has %d devices by the index, %d by the walk", when, who, len(found), len(walked))
			}
		}
	}
	for round := range 30 {
		var lines []string
		for range 20 {
			owner := fmt.Sprintf("%q", owners[r.IntN(len(owners))])
			if r.IntN(5) == 0 {
				owner = `{"unavailable":"not asked"}`
			}
			lines = append(lines, fmt.Sprintf(`{"source":%q,"observed_at":%q,"identity":{"id":"d%d"},"evidence":{"form":"laptop","owner":%s}}`,
				[]string{"desk", "agent"}[r.IntN(2)],
				s.Now().Add(-time.Duration(r.IntN(300))*time.Second).UTC().Format(time.RFC3339Nano),
				r.IntN(40), owner))
		}
		take(t, s, "", lines...)
		compare(fmt.Sprint("round ", round))
		if round%10 == 9 {
			shut(t, s)
			s = open(t, dir)
			compare("after a restart")
		}
		if round == 20 { // another source counts from now on
			publish(t, s, strings.NewReplacer("rank: 2",
				"rank: 0").Replace(house+"sources: [{id: desk, provides: [\"*\"], rank: 2}, {id: agent, provides: [\"*\"], rank: 1}]\n"))
			compare("under another rulebook")
		}
	}
	shut(t, s)
}
