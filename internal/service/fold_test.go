package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/value"
	"ironledger.example/internal/past"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
	"ironledger.example/internal/view"
	"ironledger.example/internal/view/fold"
)

// What is kept up of the fleet from its changes is what a walk over all of it says, whatever happens, and however much
// time goes by.
func TestWhatIsKeptUpIsWhatAWalkSays(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	c := &clock{}
	c.micros.Store(time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, dir, c)
	defer func() { s.Close() }()
	publish(t, s, actors)
	told := func(what any, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		raw, err := json.Marshal(what)
		if err != nil {
			t.Fatal(err)
		}
		return string(raw)
	}
	s.View.CheckWith(func(err error) { t.Error("what is kept and what comes out differ:", err) })
	walk := func() *view.Service { return view.New(s.Engine, past.New(s.Engine), s.Decisions) } // which knows nothing
	r := rand.New(rand.NewPCG(3, 9))
	a := newActs(s, r, "", true)
	quiet := 0
	for i := range 220 {
		c.add(time.Duration(r.IntN(1200)) * time.Second)
		if r.IntN(40) == 0 { // readings go stale, quarantines and waivers end, and nobody does anything
			c.add(time.Duration(r.IntN(40)) * time.Hour)
			quiet++
		}
		name, _ := a.do(ctx)
		if r.IntN(3) > 0 {
			continue
		}
		if err := s.Do(ctx, func(*state.Change) error { return nil }); err != nil {
			t.Fatal(err)
		}
		within := int64(1+r.IntN(96)) * 3600 * 1_000_000
		var kept, plain string
		for range 100 { // what is due now may be on its way to the records
			kept, plain = told(s.View.Overview(ctx, within, value.Day)), told(walk().Overview(ctx, within, value.Day))
			if kept == plain {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		if strings.Contains(kept, ":null") {
			t.Fatalf("act %d, %s: a list is null, which pages do not read: %s", i, name, kept)
		}
		if kept != plain {
			t.Fatalf("act %d, %s: the overview kept up is\n%s\nand a walk says\n%s", i, name, kept, plain)
		}
		if kept, plain := told(s.View.Sources(), nil), told(walk().Sources(), nil); kept != plain {
			t.Fatalf("act %d, %s: the sources kept up are\n%s\nand a walk says\n%s", i, name, kept, plain)
		}
		text := []string{"d", "D1", "s-d", "x", "p1", "P2", "S-d3", "nobody"}[r.IntN(8)]
		if kept, plain := found(t, s.View, text), having(s.Snapshot(), s.Micros(), text); kept != plain {
			t.Fatalf("act %d, %s: %q is found in\n%s\nand a walk finds it in\n%s", i, name, text, kept, plain)
		}
		if err := s.View.Check(ctx); err != nil {
			t.Fatalf("act %d, %s: %v", i, name, err)
		}
		var quiet []api.Source
		for _, src := range walk().Sources() {
			if src.Quiet {
				quiet = append(quiet, src)
			}
		}
		if kept := s.View.QuietSources(); len(kept) != len(quiet) || len(kept) > 0 && told(kept, nil) != told(quiet, nil) {
			t.Fatalf("act %d, %s: quiet are %s, and a walk says %s", i, name, told(kept, nil), told(quiet, nil))
		}
		levels := s.View.Levels()
		sum := 0
		for _, n := range levels.Devices {
			sum += n
		}
		if all := s.Snapshot().Fleet.Len(); sum+levels.Retired != all {
			t.Fatalf("act %d, %s: %d devices of %d are counted", i, name, sum+levels.Retired, all)
		}
	}
	if quiet < 2 {
		t.Error("hardly any time went by")
	}
}

// found is in which devices a text is found.
func found(t *testing.T, v *view.Service, text string) string {
	t.Helper()
	page, err := v.Devices(t.Context(), view.DeviceSearch{Text: text, Limit: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	var ids []string
	for _, d := range page.Items {
		ids = append(ids, d.ID)
	}
	return strings.Join(ids, " ")
}

// having is in which devices in service a text is found by looking at all.
func having(snap *state.Snapshot, now int64, text string) string {
	var ids []string
	snap.Fleet.InService(func(d *state.Device) bool {
		d = snap.At(d, now)
		has := strings.Contains(strings.ToLower(d.ID), strings.ToLower(text))
		for _, name := range []string{"name", "serial", "owner", "model"} {
			v := d.View.Value(snap.Book.Rulebook.Dict.Slot(name)).Str()
			has = has || strings.Contains(strings.ToLower(v), strings.ToLower(text))
		}
		if has {
			ids = append(ids, d.ID)
		}
		return true
	})
	slices.Sort(ids)
	return strings.Join(ids, " ")
}

// A text is found in whatever letters it stands, and not from one attribute into the next.
func TestSearchesByTextFindWhatIsThere(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	names := []string{"Machine 12", "ÅNGSTRÖM", "İstanbul", "GF-T-2107", "kelvin K", "ſharp", "mA"}
	var lines strings.Builder
	for i := range 600 {
		fmt.Fprintf(&lines, `{"source":"desk","identity":{"id":"D%03d"},"evidence":{"name":%q,"model":"Tern %d","serial":"q%d"}}`+"\n",
			i, names[i%len(names)], i%7, i)
	}
	if in, err := s.Intake.Ingest(t.Context(), "desk", "", strings.NewReader(lines.String()), "ndjson"); err != nil || in.Rejected > 0 {
		t.Fatal(in.Rejected, err)
	}
	some := 0
	for _, text := range append(names, "", "a", "d0", "D599", "TERN 3", "21", "q59", "tern 3\x00q", "3\x00", "K", "ÅNG", "ster") {
		kept, plain := found(t, s.View, text), having(s.Snapshot(), s.Micros(), text)
		if kept != plain {
			t.Errorf("%q is found in %s, and is in %s", text, kept, plain)
		}
		some += len(kept)
	}
	if some == 0 {
		t.Error("nothing is found at all")
	}
}

// A list that is worked out piece by piece, page by page, is the whole in order.
func TestPagesOfAListAreTheWholeInOrder(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	var lines strings.Builder
	for i := range 700 {
		fmt.Fprintf(&lines, `{"source":"desk","identity":{"id":"d%d"},"evidence":{"form":"laptop","name":"n%d","storage.encrypted":%v}}`+"\n",
			i, i*7919%50, i%3 == 0)
	}
	if in, err := s.Intake.Ingest(ctx, "desk", "", strings.NewReader(lines.String()), "ndjson"); err != nil || in.Rejected > 0 {
		t.Fatal(in.Rejected, err)
	}
	for _, sort := range []string{"id", "-id", "level", "-level", "name", "-name", "seen_at", "-since"} {
		for _, where := range []string{"", "storage.encrypted", `name starts with "n1"`} {
			q := view.DeviceSearch{Where: where, Sort: sort, Limit: 1 << 30}
			whole, err := s.View.Devices(ctx, q)
			if err != nil || whole.Total != len(whole.Items) || whole.Next != "" {
				t.Fatal(whole.Total, len(whole.Items), err)
			}
			q.Limit = 60
			var got []string
			for {
				page, err := s.View.Devices(ctx, q)
				if err != nil || page.Total != whole.Total {
					t.Fatal(page.Total, err)
				}
				for _, d := range page.Items {
					got = append(got, d.ID)
				}
				if q.Cursor = page.Next; q.Cursor == "" {
					break
				}
			}
			if len(got) != len(whole.Items) {
				t.Fatalf("sorted by %s, %q: %d of %d", sort, where, len(got), len(whole.Items))
			}
			for i, d := range whole.Items {
				if got[i] != d.ID {
					t.Fatalf("sorted by %s, %q: place %d has %s, not %s", sort, where, i, got[i], d.ID)
				}
			}
		}
	}
}

// What is kept is worked out once; with a check each time, and what differs is told.
func TestWhatIsKeptIsComparedWhenAsked(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	line := `{"source":"desk","identity":{"id":"d1"},"evidence":{"form":"laptop"}}`
	if _, err := s.Intake.Ingest(t.Context(), "desk", "", strings.NewReader(line), "ndjson"); err != nil {
		t.Fatal(err)
	}
	snap, n := s.Snapshot(), 0
	work := func(versioned.Page[state.Device]) (int, int64) { n++; return n, condition.Always }
	var plain fold.Fold[int]
	if a, b := plain.Over(snap, 1, work)[0], plain.Over(snap, 2, work)[0]; a != 1 || b != 1 || n != 1 {
		t.Errorf("worked out %d times: %d, %d", n, a, b)
	}
	var told error
	checked := fold.Fold[int]{Differs: func(err error) { told = errors.Join(told, err) }}
	if got := checked.Over(snap, 1, work)[0]; got != 2 || told != nil {
		t.Errorf("the first time it is %d, %v", got, told)
	}
	if got := checked.Over(snap, 2, work)[0]; got != 2 || told == nil ||
		!strings.Contains(told.Error(), "2; and it comes to 3") {
		t.Errorf("then it is %d, %v", got, told)
	}
	told, checked.Same = nil, func(kept, anew int, now int64) bool { return now == 3 && kept == 2 && anew == 4 }
	if checked.Over(snap, 3, work); told != nil {
		t.Error(told)
	}
}
