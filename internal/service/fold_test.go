package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/past"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view"
	"ironledger.example/internal/view/find"
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
	page, err := v.Devices(t.Context(), find.Query{Text: text, Limit: 1 << 20})
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
			q := find.Query{Where: where, Sort: sort, Limit: 1 << 30}
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
	work := func(fold.Part[int]) (int, int64) { n++; return n, condition.Always }
	var plain fold.Fold[int]
	if a, b := plain.Over(snap, 1, work)[0], plain.Over(snap, 2, work)[0]; a != 1 || b != 1 || n != 1 {
		t.Errorf("worked out %d times: %d, %d", n, a, b)
	}
	n = 0
	var told error
	checked := fold.Fold[int]{Differs: func(err error) { told = errors.Join(told, err) }}
	if got := checked.Over(snap, 1, work)[0]; got != 1 || told == nil ||
		!strings.Contains(told.Error(), "1; and it comes to 2") {
		t.Errorf("the first time it is %d, %v", got, told)
	}
	told = nil
	if got := checked.Over(snap, 2, work)[0]; got != 1 || told == nil ||
		!strings.Contains(told.Error(), "1; and it comes to 3") {
		t.Errorf("then it is %d, %v", got, told)
	}
	told, checked.Same = nil, func(kept, anew int, now int64) bool { return now == 3 && kept == 1 && anew == 4 }
	if checked.Over(snap, 3, work); told != nil {
		t.Error(told)
	}
}

// A search finds the devices that a look at each of them finds, whatever changed since the one before, and counts them.
func TestSearchesFindWhatALookAtEachFinds(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c := &clock{}
	c.micros.Store(time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC).UnixMicro())
	s := openedAt(t, t.TempDir(), c)
	defer func() { s.Close() }()
	publish(t, s, actors)
	s.View.CheckWith(func(err error) { t.Error("what is kept and what comes out differ:", err) })
	r := rand.New(rand.NewPCG(19, 3))
	report := func(ids ...int) {
		t.Helper()
		var lines strings.Builder
		for _, id := range ids {
			fmt.Fprintf(&lines, `{"source":"desk","identity":{"id":"d%d"},"observed_at":%q,"evidence":{"form":%q,"name":"n%d","platform":%q`,
				id, value.FormatTime(c.micros.Load()), []string{"laptop", "phone"}[r.IntN(2)], r.IntN(40), []string{"linux", "ios"}[r.IntN(2)])
			if r.IntN(3) > 0 {
				fmt.Fprintf(&lines, `,"threat.score":%d`, r.IntN(60))
			}
			lines.WriteString("}}\n")
		}
		if in, err := s.Intake.Ingest(ctx, "desk", "", strings.NewReader(lines.String()), "ndjson"); err != nil || in.Rejected > 0 {
			t.Fatal(in.Rejected, err)
		}
	}
	all := make([]int, 700)
	for i := range all {
		all[i] = i
	}
	report(all...)
	some := 0
	for range 30 {
		c.add(time.Duration(r.IntN(600)) * time.Second)
		for range r.IntN(6) {
			report(r.IntN(len(all)), r.IntN(len(all)+20))
		}
		if r.IntN(2) == 0 {
			if _, err := s.Admin.Retire(ctx, "astrid", []string{fmt.Sprint("d", r.IntN(len(all)))}, "lost at sea"); err != nil {
				t.Fatal(err)
			}
		}
		for range 8 {
			q := find.Query{Limit: 1 + r.IntN(400), Sort: []string{"", "-id", "name", "-level", "seen_at", "-platform"}[r.IntN(6)],
				Where:   wheres[r.IntN(len(wheres))],
				Text:    []string{"", "", "N1", "d6"}[r.IntN(4)],
				Retired: []string{"", "", find.WithRetired, find.OnlyRetired}[r.IntN(4)], Undecided: r.IntN(6) == 0}
			if r.IntN(2) == 0 {
				q.Rule, q.Verdict = "all/calm", []string{"", "pass", "fail", "unknown", "none"}[r.IntN(5)]
			}
			some += sameAsALook(t, s, q)
		}
	}
	if some < 1000 {
		t.Errorf("only %d devices were found at all", some)
	}
}

// wheres are conditions, some of what only a search knows of a device.
var wheres = []string{"", "", "threat.score > 20", "level < sound", `platform == ios and name starts with "n1"`, "retired",
	`id in ["d3", "d17"] or seen_at > 2026-01-01T00:05:00Z`, "since < 2026-01-01T00:10:00Z and level >= sound", "quarantined", "not quarantined"}

// sameAsALook compares what a search finds with what a look at each device does, and returns how much that is.
func sameAsALook(t *testing.T, s *Service, q find.Query) int {
	t.Helper()
	whole := q
	var items []api.DeviceSummary
	var first *api.DevicePage
	for {
		page, err := s.View.Devices(t.Context(), q)
		if err != nil {
			t.Fatalf("%+v: %v", q, err)
		}
		if first == nil {
			first = page
		}
		if len(page.Items) > q.Limit || page.Total != first.Total || page.Next != "" && len(page.Items) < q.Limit {
			t.Fatalf("%+v: %d items of %d, then %q", q, len(page.Items), page.Total, page.Next)
		}
		items = append(items, page.Items...)
		if q.Cursor = page.Next; q.Cursor == "" {
			break
		}
	}
	want, levels := looked(t, s.Snapshot(), whole, s.Micros())
	var got []string
	for _, d := range items {
		got = append(got, d.ID)
	}
	if !slices.Equal(got, want) || first.Total != len(want) {
		t.Fatalf("%+v finds %d:\n%v\nand a look at each\n%v", whole, first.Total, got, want)
	}
	if told, plain := fmt.Sprint(first.Levels, first.Retired, first.Undecided), levels; told != plain {
		t.Fatalf("%+v counts %s, and a look at each %s", whole, told, plain)
	}
	return len(want)
}

// looked is what a search is for, by looking at each device, in order; and by level, how many retired there are beside,
// and of how many it cannot be told.
func looked(t *testing.T, snap *state.Snapshot, q find.Query, now int64) ([]string, string) {
	t.Helper()
	b := snap.Book
	where := func(*state.Device) condition.Tri { return condition.True }
	if q.Where != "" {
		p, err := condition.CompileText(q.Where, b.Search)
		if err != nil {
			t.Fatal(err)
		}
		if q.Where == "retired" && q.Retired == "" {
			q.Retired = find.WithRetired
		}
		where = func(d *state.Device) condition.Tri {
			env, extra := &condition.Env{Now: now}, condition.NewFrame(len(b.Search.Extra()))
			env.Frames[evidence.DeviceFrame], env.Frames[rulebook.RequestFrame] = d.View.Frame, extra
			extra.Set(state.SearchLevel, b.Rulebook.LevelValue(d.Result.Level), condition.Always)
			extra.Set(state.SearchRetired, value.OfBool(d.Retired != nil), condition.Always)
			extra.Set(state.SearchID, value.OfText(d.ID), condition.Always)
			extra.Set(state.SearchSeenAt, value.OfTime(d.SeenAt), condition.Always)
			extra.Set(state.SearchSince, value.OfTime(d.Since), condition.Always)
			extra.Set(state.SearchQuarantined, value.OfBool(d.Quarantine.Holds(now)), condition.Always)
			return p.Eval(env)
		}
	}
	type row struct{ key, id string }
	var rows []row
	levels, retired, undecided := map[string]int{}, 0, 0
	snap.Fleet.All(func(d *state.Device) bool {
		d = snap.At(d, now)
		name, platform := d.View.Value(b.Rulebook.Dict.Slot("name")).Str(), d.View.Value(b.Rulebook.Dict.Slot("platform")).Str()
		if i := slices.Index(b.RuleKeys, q.Rule); i >= 0 {
			v := d.Result.Verdicts[i]
			if q.Verdict == "" && v == posture.None || q.Verdict != "" && v.String() != q.Verdict {
				return true
			}
		}
		text := strings.ToLower(q.Text)
		if !strings.Contains(d.ID, text) && !strings.Contains(name, text) || q.Retired == find.OnlyRetired && d.Retired == nil {
			return true
		}
		wanted, found := condition.True, where(d)
		if q.Undecided {
			wanted = condition.Unknown
		}
		switch {
		case q.Retired == "" && d.Retired != nil:
			if found == wanted {
				retired++
			}
		case found == wanted:
			levels[b.Rulebook.LevelName(d.Result.Level)]++
			key := map[string]string{"level": fmt.Sprintf("%09d", d.Result.Level), "name": name, "platform": platform,
				"seen_at": fmt.Sprintf("%020d", d.SeenAt)}[strings.TrimPrefix(q.Sort, "-")]
			rows = append(rows, row{key, d.ID})
		case found == condition.Unknown:
			undecided++
		}
		return true
	})
	slices.SortFunc(rows, func(x, y row) int {
		keys := strings.Compare(x.key, y.key)
		if strings.HasPrefix(q.Sort, "-") {
			keys = -keys
		}
		if q.Sort == "-id" {
			return strings.Compare(y.id, x.id)
		}
		return cmp.Or(keys, strings.Compare(x.id, y.id))
	})
	var ids []string
	for _, r := range rows {
		ids = append(ids, r.id)
	}
	return ids, fmt.Sprint(levels, retired, undecided)
}

// What rows come to is worked out again when a device in one changes, or a moment comes: for that row alone.
func TestRowsAreWorkedOutWhenTheirMomentComes(t *testing.T) {
	t.Parallel()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	report := func(from, to int) {
		t.Helper()
		var lines strings.Builder
		for i := from; i < to; i++ {
			fmt.Fprintf(&lines, `{"source":"desk","identity":{"id":"d%d"},"evidence":{"form":"laptop"}}`+"\n", i)
		}
		if in, err := s.Intake.Ingest(t.Context(), "desk", "", strings.NewReader(lines.String()), "ndjson"); err != nil || in.Rejected > 0 {
			t.Fatal(in.Rejected, err)
		}
	}
	report(0, 600)
	var rows fold.Rows[int]
	works, joins := 0, 0
	var mu sync.Mutex
	over := func(now, until, together int64) (sum int) {
		works, joins = 0, 0
		for _, n := range rows.Over(s.Snapshot(), now, func(row iter.Seq[*state.Device]) (int, int64) {
			n := 0
			for range row {
				n++
			}
			mu.Lock()
			defer mu.Unlock()
			works++
			if works == 1 {
				return n, until
			}
			return n, condition.Always
		}, func(rows []int) (sum int, until int64) {
			mu.Lock()
			defer mu.Unlock()
			joins++
			for _, n := range rows {
				sum += n
			}
			return sum, together
		}) {
			sum += n
		}
		return sum
	}
	all := fold.PageSize / 32 * 3
	for i, step := range []struct {
		now, until, together int64
		devices, works       int
		joined               bool
	}{
		{1, 10, condition.Always, 600, all, true},
		{9, 10, condition.Always, 600, 0, false},
		{10, 20, condition.Always, 600, 1, true},
		{19, 20, condition.Always, 600, 0, false},
		{20, condition.Always, 30, 600, 1, true},
		{30, condition.Always, condition.Always, 600, 0, true},
		{1 << 50, condition.Always, condition.Always, 600, 0, false},
	} {
		if n := over(step.now, step.until, step.together); n != step.devices || works != step.works || joins > 0 != step.joined {
			t.Errorf("step %d: %d devices, %d rows worked out, %d times put together; want %+v", i, n, works, joins, step)
		}
	}
	report(5, 6)
	if n := over(1<<50, condition.Always, condition.Always); n != 600 || works != 1 || joins != 1 {
		t.Errorf("after a report: %d devices, %d rows worked out, %d times put together", n, works, joins)
	}
	report(600, 601)
	if n := over(1<<50, condition.Always, condition.Always); n != 601 || works != 1 {
		t.Errorf("after a first report: %d devices, %d rows worked out", n, works)
	}
}
