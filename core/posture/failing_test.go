package posture

import (
	"encoding/json"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
)

// What is kept of rules that have been failing is what a JSON object of moments by name tells, and is found again under
// other rules, in another order.
func TestFailingIsKeptByTheKeysOfRules(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	names := []string{"disk.encrypted", "os <new>", `a "quoted" rule`, "schöne regel", "z"}
	someOf := func() []string {
		keys := slices.Clone(names)
		r.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
		return keys[:r.IntN(len(keys)+1)]
	}
	for range 2000 {
		keys, others := someOf(), someOf()
		var since []int64
		if r.IntN(5) > 0 {
			since = make([]int64, len(keys))
			for i := range since {
				since[i] = int64(r.IntN(3)) * 1_777_000_000_000_000
			}
		}
		kept := AppendFailing(nil, keys, since)
		var told map[string]int64
		if err := json.Unmarshal(kept, &told); err != nil || !maps.Equal(told, Failing(keys, since)) {
			t.Fatalf("%v %v is kept as %s: %v", keys, since, kept, err)
		}
		var want []int64
		if len(told) > 0 {
			want = make([]int64, len(others))
			for i, k := range others {
				want[i] = told[k]
			}
		}
		if got, err := ReadFailing(kept, others); err != nil || !reflect.DeepEqual(got, want) {
			t.Fatalf("%s is read as %v under %v, want %v: %v", kept, got, others, want, err)
		}
		moved := MovedFailing(since, keys, others)
		if (moved == nil) != (since == nil) || want != nil && !slices.Equal(moved, want) {
			t.Fatalf("%v of %v is moved to %v of %v, want %v", since, keys, moved, others, want)
		}
		same := maps.Equal(told, Failing(others, moved))
		if SameFailing(keys, since, others, moved) != same || !SameFailing(keys, since, keys, slices.Clone(since)) {
			t.Fatalf("%v of %v is not told from %v of %v", since, keys, moved, others)
		}
	}
	if !SameFailing(names, nil, names, make([]int64, len(names))) || SameFailing(names, nil, names, []int64{0, 1, 0, 0, 0}) {
		t.Error("nothing remembered is not told from nothing failing")
	}
	for _, damaged := range []string{"", "null", "[]", "{", `{"a":"b"}`, `{"a":1.5}`, `{"a":}`, `{"a"`, `{"a":99999999999999999999}`} {
		if got, err := ReadFailing([]byte(damaged), names); err == nil {
			t.Errorf("%q is read as %v", damaged, got)
		}
	}
}
