package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/store/mention"
)

// A search by device or person finds what reading all bodies finds, whatever of whom they speak of is kept already,
// and however entries were redacted or their bodies put away meanwhile.
func TestSearchesGoByWhatIsKeptOfMentions(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "records.db")
	s := openStore(t, path)
	defer func() { _ = s.Close() }()
	r := rand.New(rand.NewPCG(7, 1))
	ids, all := 0, []said{}
	called := func(n int) string { // some as no JSON has them as they are
		return fmt.Sprintf([]string{"p\"%d", "p%d@x.example", "pö<%d", "p%d", "p\\%d"}[n%5], n)
	}
	add := func(n int) {
		b := &Batch{}
		for range n {
			e := ledger.Entry{At: int64(len(all) + 1), Actor: "a", Kind: ledger.DecisionMade}
			ids++
			device, person := fmt.Sprintf("d%d", r.IntN(60)), called(int(r.ExpFloat64()*20))
			switch r.IntN(8) {
			case 0: // others' kinds name people in other places
				e.Kind, e.About = ledger.WaiverGranted, "E-1"
				e.Body, _ = json.Marshal(map[string]any{"person": person, "note": device})
			case 1: // the person is the device's name
				e.Kind, e.About = ledger.StandingChanged, device
				e.Body, _ = json.Marshal(map[string]any{"to": "sound"})
			default: // ids of decisions do not always rise with the numbers of entries
				e.About = fmt.Sprintf("A-%07d", ids^r.IntN(4))
				for slices.ContainsFunc(all[max(0, len(all)-16):], func(x said) bool { return x.About == e.About }) {
					e.About += "'"
				}
				body := map[string]any{"asked": map[string]any{"subject": map[string]any{"id": person},
					"resource": map[string]any{"id": fmt.Sprint("app", r.IntN(3))}}, "outcome": "allow"}
				if r.IntN(3) > 0 {
					body["device"] = device
				}
				e.Body, _ = json.Marshal(body)
			}
			x := said{Entry: e}
			if err := json.Unmarshal(e.Body, &x.says); err != nil {
				t.Fatal(err)
			}
			x.Seq = int64(len(all) + 1)
			b.Entries, all = append(b.Entries, e), append(all, x)
		}
		if err := s.Commit(b); err != nil {
			t.Fatal(err)
		}
	}
	gone := func(seq int64) { all[seq-1].says, all[seq-1].Body = speech{}, nil }
	compare := func(when string) {
		t.Helper()
		for range 8 {
			device, person := fmt.Sprintf("d%d", r.IntN(62)), called(r.IntN(70))
			by := r.IntN(3)
			q, lq := DecisionQuery{Limit: 1 + r.IntN(300)}, LineQuery{Limit: 1 + r.IntN(300)}
			if by != 0 {
				q.Device, lq.Device = device, device
			}
			if by != 1 {
				q.Person, lq.Person = person, person
			}
			if r.IntN(3) == 0 {
				q.Resource, q.Before = "app1", all[r.IntN(len(all))].About
			}
			if r.IntN(3) == 0 {
				lq.Before = int64(r.IntN(len(all)))
			}
			want, lines := plainly(all, q, lq)
			got, err := s.Decisions(ctx, q)
			if err != nil || !slices.Equal(numbers(got), want) {
				t.Fatalf("%s, %+v: decisions are %v (%v), and reading all says %v", when, q, numbers(got), err, want)
			}
			found, err := s.Search(ctx, lq)
			seqs := []int64{}
			for _, l := range found {
				seqs = append(seqs, l.Seq)
			}
			if err != nil || !slices.Equal(seqs, lines) {
				t.Fatalf("%s, %+v: entries are %v (%v), and reading all says %v", when, lq, seqs, err, lines)
			}
		}
	}
	keep := func(want int64) {
		t.Helper()
		if size, err := s.KeepMentions(ctx); err != nil || size != want {
			t.Fatalf("the next mentions are kept at %d entries (%v), want %d", size, err, want)
		}
	}
	add(1000)
	keep(mention.Run)
	compare("before anything is kept")
	add(3500)
	redact := func(seq int64) {
		b := &Batch{}
		b.Redact(seq)
		if err := s.Commit(b); err != nil {
			t.Fatal(err)
		}
		gone(seq)
	}
	redact(17)
	keep(2 * mention.Run)
	compare("of one run")
	add(4000)
	keep(3 * mention.Run)
	for range 30 {
		if seq := 1 + r.Int64N(8400); all[seq-1].Body != nil {
			redact(seq)
		}
	}
	compare("after redactions")
	if err := s.Commit(&Batch{Away: &Away{Archive: "a1", From: 2000, To: 6000, Last: 6000}}); err != nil {
		t.Fatal(err)
	}
	err := s.Lines(ctx, 2000, 6000, func(l *ledger.Line) error {
		if !isHere(l.Body) {
			gone(l.Seq)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	compare("after bodies were put away")
	var left int
	if err := s.read.QueryRow("SELECT count(*) FROM mentions WHERE seq IN (SELECT seq FROM entries WHERE " +
		"substr(body, 1, 1) <> '{')").Scan(&left); err != nil || left != 0 {
		t.Errorf("%d mentions are left of bodies that are not here (%v)", left, err)
	}
	for first := int64(1); first < 8192; first += mention.Run {
		if err := s.CheckMentions(ctx, first); err != nil {
			t.Error(err)
		}
	}
	// Whoever alters what searches go by is found out, and what they hid is found again.
	tamper(t, path, "DELETE FROM mentions WHERE run = 1 AND who = 'p:p3'")
	if err := s.CheckMentions(ctx, 1); err != nil {
		t.Error(err)
	}
	if err := s.CheckMentions(ctx, mention.Run+1); !errors.Is(err, mention.ErrWrong) {
		t.Errorf("hidden mentions: %v", err)
	}
	compare("after what is wrong was dropped")
	keep(3 * mention.Run)
	compare("made anew")
	// Rows that say what is kept and is not hide nothing, nor do those that are gone.
	for _, rows := range []string{"INSERT INTO mention_runs (run) VALUES (2), (3), (9)", "DELETE FROM mention_runs WHERE run = 0"} {
		tamper(t, path, rows)
		compare(rows)
	}
	keep(3 * mention.Run)
	compare("kept again")
	if err := s.CheckMentions(ctx, mention.Run+1); err != nil {
		t.Error(err)
	}
}

// said is an entry and whom its body speaks of.
type said struct {
	ledger.Entry
	says speech
}

type speech struct {
	Device, Person string
	Asked          struct{ Subject, Resource struct{ ID string } }
}

func numbers(entries []ledger.Entry) []int64 {
	out := []int64{}
	for _, e := range entries {
		out = append(out, e.Seq)
	}
	return out
}

// plainly is what both searches find, by reading all.
func plainly(all []said, q DecisionQuery, lq LineQuery) (decisions, lines []int64) {
	lines = []int64{}
	var found []ledger.Entry
	for i := len(all) - 1; i >= 0; i-- {
		e, b := all[i].Entry, all[i].says
		if e.Kind == ledger.DecisionMade && (q.Device == "" || b.Device == q.Device) &&
			(q.Person == "" || b.Asked.Subject.ID == q.Person) &&
			(q.Resource == "" || b.Asked.Resource.ID == q.Resource) && (q.Before == "" || e.About < q.Before) {
			found = append(found, e)
		}
		device := lq.Device == "" || b.Device == lq.Device || e.Kind != ledger.DecisionMade && e.About == lq.Device
		person := lq.Person == "" || b.Person == lq.Person || b.Asked.Subject.ID == lq.Person
		if device && person && (lq.Before == 0 || e.Seq < lq.Before) && len(lines) < lq.Limit {
			lines = append(lines, e.Seq)
		}
	}
	slices.SortFunc(found, func(a, b ledger.Entry) int { return cmp.Compare(b.About, a.About) })
	return numbers(found[:min(len(found), q.Limit)]), lines
}
