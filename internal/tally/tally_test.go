package tally

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"testing"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/store"
)

// told is what the entries of a test say, read the plain way.
type told struct {
	From    string
	To      string
	Outcome string
	Shadow  *string `json:"shadow_outcome"`
	Gates   []struct{ Gate, Verdict string }
}

func plainly(what *Counting, e ledger.Entry) (out [][2]string) {
	var x told
	if json.Unmarshal(e.Body, &x) != nil || e.Kind != what.kind {
		return nil
	}
	switch what {
	case &Moves:
		return [][2]string{{x.From, x.To}}
	case &Outcomes:
		return [][2]string{{x.Outcome, map[bool]string{true: "1", false: "0"}[x.Shadow != nil]}}
	}
	for _, g := range x.Gates {
		out = append(out, [2]string{g.Gate, g.Verdict})
	}
	return out
}

// body makes one of those that entries of a kind have, with what nobody asks for between.
func body(r *rand.Rand, kind ledger.Kind) string {
	of := func(list ...string) string { return list[r.IntN(len(list))] }
	if kind == ledger.StandingChanged {
		return `{"device":"d1",` + of(`"from":"sound",`, `"from":"",`, ``, `"from":"weak \"1\"",`) + of(`"changed":[{"from":"met","to":"failed"}],`, ``) +
			`"to":` + of(`"weak"`, `"s\u00f6und"`, `"söund"`) + of(`}`, `,"shadow":"weak"}`, ` }`)
	}
	gates := ""
	for i := range r.IntN(4) {
		if i > 0 {
			gates += ","
		}
		gates += of(`{"gate":"crew","verdict":"allow"}`, `{"verdict":"deny","gate":"crew","of":{"gate":"x"}}`, `{"gate":"yard"}`, `{"verdict":"step-up","gate":null}`)
	}
	return `{"asked":{"outcome":"x","gates":[{"gate":"y"}]},"outcome":` + of(`"allow"`, `"deny"`) + of("", `,"shadow_outcome":"deny"`, `,"shadow_outcome":null`) +
		of("", `,"gates":[`+gates+`]`) + "}"
}

// What is kept is what the entries tell, read plainly, from whatever moment somebody asks, while more of them come.
func TestTalliesAreWhatEntriesTell(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	key, err := keyfile.Make(path+".key", "log.gullholm.example")
	if err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(t.Context(), path, store.Options{Key: key})
	if err == nil {
		err = s.AdoptAll(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	r := rand.New(rand.NewPCG(3, 4))
	all := []*Counting{&Moves, &Outcomes, &Rulings}
	kept := map[*Counting]*Tally{}
	for _, what := range all {
		kept[what] = Of(*what, Minute, 600*Minute)
	}
	now := int64(10_000 * Minute)
	var entries []ledger.Entry
	for round := range 60 {
		b := &store.Batch{}
		for i := range r.IntN(20) {
			kind := []ledger.Kind{ledger.StandingChanged, ledger.DecisionMade, ledger.EvidenceRefused}[r.IntN(3)]
			now += r.Int64N(2 * Minute)
			b.Entries = append(b.Entries, ledger.Entry{At: now, Kind: kind, Actor: "edge",
				About: fmt.Sprintf("d%03d-%d", round, i), Body: json.RawMessage(body(r, kind))})
		}
		if entries = append(entries, b.Entries...); len(b.Entries) > 0 {
			if err := s.Commit(b); err != nil {
				t.Fatal(err)
			}
		}
		since := now - r.Int64N(500*Minute)
		for _, what := range all {
			want, got := map[string]int{}, map[string]int{}
			for _, e := range entries {
				if e.At >= since-since%Minute {
					for _, of := range plainly(what, e) {
						want[fmt.Sprintf("%d %q", e.At-e.At%Minute, of)]++
					}
				}
			}
			last := int64(0)
			err := kept[what].Since(t.Context(), s, since, now, func(at int64, of [2]string, n int) {
				if got[fmt.Sprintf("%d %q", at, of)] += n; at < last {
					t.Errorf("what happened at %d comes behind what happened at %d", at, last)
				}
				last = at
			})
			if err != nil || !maps.Equal(got, want) {
				t.Fatalf("of %s %v is kept, want %v (%v)", what.kind, got, want, err)
			}
			if err := kept[what].Check(t.Context(), s); err != nil {
				t.Fatal(err)
			}
		}
	}
	ctx, leave := context.WithCancel(t.Context())
	leave()
	if err := Of(Moves, Minute, 600*Minute).Since(ctx, s, 0, now, func(int64, [2]string, int) {}); err == nil {
		t.Error("a caller who left is answered")
	}
}
