package posture

import (
	"fmt"
	"maps"
	"slices"
	"strconv"

	"ironledger.example/core/value"
)

// Failing names the rules that have been failing, and since when: microseconds since the Unix epoch. since is by rule, in
// the order of their keys; nil, or 0 of a rule, tells that none has.
func Failing(keys []string, since []int64) map[string]int64 {
	out := map[string]int64{}
	for i, at := range since {
		if at != 0 {
			out[keys[i]] = at
		}
	}
	return out
}

// SameFailing reports whether the same rules have been failing since the same moments.
func SameFailing(keys []string, since []int64, otherKeys []string, other []int64) bool {
	if !slices.Equal(keys, otherKeys) {
		return maps.Equal(Failing(keys, since), Failing(otherKeys, other))
	}
	for i := range keys {
		if at(since, i) != at(other, i) {
			return false
		}
	}
	return true
}

func at(since []int64, i int) int64 {
	if i < len(since) {
		return since[i]
	}
	return 0
}

// AppendFailing appends what [Failing] names as a JSON object, in the order of the keys.
func AppendFailing(b []byte, keys []string, since []int64) []byte {
	failing := value.Object(b).Open()
	for i, at := range since {
		if at != 0 {
			failing = strconv.AppendInt(failing.Named(keys[i]), at, 10)
		}
	}
	return failing.Close()
}

// ReadFailing lays out by keys what [AppendFailing] wrote, maybe by others: rules that are not among them are left out. It
// is nil if nothing was written. It asks for text that [encoding/json.Valid] has accepted, or that is sealed.
func ReadFailing(kept []byte, keys []string) ([]int64, error) {
	if len(kept) < 2 || kept[0] != '{' || kept[len(kept)-1] != '}' {
		return nil, fmt.Errorf("%.60q does not tell what has been failing", kept)
	}
	var since []int64
	var bad error
	next := 0 // mostly they are by the same keys
	value.Walk(kept, 0, func(key []byte, at int) (int, bool) {
		end := max(value.Skip(kept, at), at)
		moment, err := strconv.ParseInt(string(kept[at:end]), 10, 64)
		if err != nil {
			bad = fmt.Errorf("%.60q is no moment at which %.60q began to fail", kept[at:end], key)
			return end, false
		}
		if since == nil {
			since = make([]int64, len(keys))
		}
		i := next + slices.Index(keys[next:], string(key))
		if i < next {
			i = slices.Index(keys[:next], string(key))
		}
		if i >= 0 {
			since[i], next = moment, i
		}
		return end, true
	})
	return since, bad
}

// MovedFailing lays out by other keys what has been failing.
func MovedFailing(since []int64, from, to []string) []int64 {
	if since == nil {
		return nil
	}
	if slices.Equal(from, to) {
		return slices.Clone(since)
	}
	failing, out := Failing(from, since), make([]int64, len(to))
	for i, k := range to {
		out[i] = failing[k]
	}
	return out
}
