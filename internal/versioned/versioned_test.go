package versioned

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"sync"
	"testing"
)

func contents(m Map[string, int]) map[string]int {
	out := map[string]int{}
	for k, v := range m.All() {
		out[k] = *v
	}
	return out
}

// Every version stays what it was, whatever is made of it: also when several are made
// of the same, and when places are given anew.
func TestEveryVersionStaysAsItWas(t *testing.T) {
	type version struct {
		m    Map[string, int]
		want map[string]int
	}
	r := rand.New(rand.NewPCG(3, 14))
	versions := []version{{}}
	for step := range 1200 {
		from := versions[len(versions)-1]
		if r.IntN(4) == 0 {
			from = versions[r.IntN(len(versions))]
		}
		changes, want := map[string]*int{}, maps.Clone(from.want)
		if want == nil {
			want = map[string]int{}
		}
		for range r.IntN(8) {
			k := fmt.Sprint("k", r.IntN(400), "/", step/200) // old names go out of use
			if r.IntN(3) == 0 {
				changes[k] = nil
				delete(want, k)
			} else {
				changes[k] = &step
				want[k] = step
			}
		}
		for k := range want { // and what is there goes too
			if r.IntN(50) == 0 {
				changes[k] = nil
				delete(want, k)
			}
		}
		versions = append(versions, version{from.m.With(changes), want})
		if len(versions) > 60 {
			versions = versions[1:]
		}
		for _, v := range []version{versions[0], versions[r.IntN(len(versions))], versions[len(versions)-1]} {
			if got := contents(v.m); !maps.Equal(got, v.want) || v.m.Len() != len(v.want) {
				t.Fatalf("step %d: %d of %v, want %v", step, v.m.Len(), got, v.want)
			}
			n := 0
			for range v.m.Values() {
				n++
			}
			if n != len(v.want) {
				t.Fatalf("step %d: %d values, want %d", step, n, len(v.want))
			}
			for k := range v.want {
				if x := v.m.Get(k); x == nil || *x != v.want[k] {
					t.Fatalf("step %d: %s is %v, want %d", step, k, x, v.want[k])
				}
			}
		}
	}
}

func TestPlacesThatNobodyUsesAreGivenUp(t *testing.T) {
	m := Map[int, int]{}
	for i := range 50_000 {
		e := m.Edit()
		e.Set(i, &i)
		if i >= 10 {
			e.Set(i-10, nil)
		}
		m = e.Map()
	}
	if m.Len() != 10 || len(m.pages) > 2*spare/PageSize+1 {
		t.Errorf("%d keys stand on %d pages", m.Len(), len(m.pages))
	}
}

// Versions that nobody keeps do not fill the places of the one that they were made of.
func TestVersionsThatComeToNothing(t *testing.T) {
	m := Of(map[string]int{"a": 1})
	for round := range 50 {
		changes := map[string]*int{}
		for i := range 2000 {
			changes[fmt.Sprint(round, "/", i)] = &i
		}
		if tried := m.With(changes); tried.Len() != 2001 || *tried.Get("a") != 1 {
			t.Fatalf("round %d: %d keys", round, tried.Len())
		}
	}
	if n := m.places.next.Load(); n > 5000 || m.Len() != 1 || *m.Get("a") != 1 {
		t.Errorf("%d places are given for %d key", n, m.Len())
	}
}

func TestReadersAndWriters(t *testing.T) {
	m := Of(map[string]int{"a": 1})
	var wg sync.WaitGroup
	for w := range 4 {
		wg.Go(func() {
			own := m
			for i := range 2000 {
				own = own.With(map[string]*int{fmt.Sprint(i): &i})
				if x := m.Get("a"); *x != 1 || m.Len() != 1 {
					t.Errorf("writer %d: the first version is otherwise", w)
					return
				}
			}
			if own.Len() != 2001 {
				t.Errorf("%d keys", own.Len())
			}
		})
	}
	wg.Wait()
}

func TestTheEmptyMap(t *testing.T) {
	var m Map[string, int]
	for range m.All() {
		t.Error("something is in it")
	}
	if m.Get("a") != nil || m.Len() != 0 || m.With(map[string]*int{"a": nil}).Len() != 0 {
		t.Error("it is not empty")
	}
}

// Marks tell in which places two pages of a marked map differ, and of a map that is not marked never that two are one.
func TestMarksTellWherePagesDiffer(t *testing.T) {
	page := func(m Map[int, int]) Page[int] {
		for _, p := range m.Pages() {
			return p
		}
		t.Fatal("no page")
		return Page[int]{}
	}
	r := rand.New(rand.NewPCG(2, 7))
	for _, marked := range []bool{true, false} {
		m := Map[int, int]{}
		if marked {
			m = m.Marked()
		}
		for i := range 100 {
			m = m.With(map[int]*int{i: &i})
		}
		before := page(m)
		if p := page(m.With(nil)); p.Mark().Is(before.Mark()) != marked || p.Mark().None() == marked {
			t.Errorf("marked %v: whether a page is itself: %v", marked, p.Mark().Is(before.Mark()))
		}
		for range 50 {
			changes := map[int]*int{}
			for range r.IntN(4) + 1 {
				changes[r.IntN(100)] = new(int)
			}
			branch := m.With(changes) // each of one that comes to nothing, and of the next
			_ = m.With(map[int]*int{r.IntN(100): nil})
			after := page(branch)
			for place := range PageSize {
				differs := after.At(place) != before.At(place)
				if told := after.Mark().Differs(before.Mark(), place); differs && !told || marked && told != differs {
					t.Fatalf("marked %v, place %d: differs %v, and it is told %v", marked, place, differs, told)
				}
			}
		}
	}
}

// All values are worked on once, those that give nothing left out, until who asked leaves.
func TestTogether(t *testing.T) {
	changes, want := map[string]*int{}, map[int]int{}
	for i := range 5*PageSize + 7 {
		changes[fmt.Sprint("k", i)] = &i
		if i%3 != 0 {
			want[-i] = 1
		}
	}
	m := Map[string, int]{}.With(changes).With(map[string]*int{"k1": nil})
	delete(want, -1)
	got := map[int]int{}
	err := Together(t.Context(), m, func(v *int) (int, bool) { return -*v, *v%3 != 0 }, func(x int) { got[x]++ })
	if err != nil || !maps.Equal(got, want) {
		t.Errorf("%d are taken, want %d (%v)", len(got), len(want), err)
	}
	if err := Together(t.Context(), Map[string, int]{}, func(*int) (int, bool) { return 0, true },
		func(int) { t.Error("there is nothing to take") }); err != nil {
		t.Error(err)
	}
	ctx, leave := context.WithCancel(t.Context())
	leave()
	if err := Together(ctx, m, func(v *int) (int, bool) { return *v, true }, func(int) {}); err == nil {
		t.Error("its caller left, and is told that all were taken")
	}
}
