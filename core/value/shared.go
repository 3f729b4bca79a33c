package value

import (
	"encoding/json"
	"hash/maphash"
	"sync/atomic"
)

// Most texts of a fleet - models, vendors, builds, names of apps - and many
// lists are those of thousands of other devices, and need to be in memory but
// once. What was read lately is found where its hash says; a text or a list is
// kept when it comes for the second time, since many never do.

var seed = maphash.MakeSeed()

const (
	sharedText    = 40  // up to how many bytes a text is likely to come again
	sharedDecoded = 400 // the same of a list or a version, as JSON
)

// recent is a table of what was read lately.
type recent[T any] struct {
	seen [1 << 12]atomic.Uint64 // the hash of what came last
	kept [1 << 12]atomic.Pointer[T]
}

// at returns the place for a hash, what is kept there, and whether the last
// that came there had the same hash.
func (r *recent[T]) at(hash uint64) (place *atomic.Pointer[T], kept *T, again bool) {
	i := hash % uint64(len(r.kept))
	place = &r.kept[i]
	if again = r.seen[i].Load() == hash; !again {
		r.seen[i].Store(hash)
	}
	return place, place.Load(), again
}

var texts recent[string]

// shared returns b as text.
func shared(b []byte) string {
	if len(b) == 0 || len(b) > sharedText {
		return string(b)
	}
	place, kept, again := texts.at(maphash.Bytes(seed, b))
	if kept != nil && *kept == string(b) {
		return *kept
	}
	s := string(b)
	if again {
		keep := s
		place.Store(&keep)
	}
	return s
}

// decoded is a list or a version as it was read.
type decoded struct {
	elem  *Type // of a list
	raw   string
	value Value
}

var decodings recent[decoded]

// sharedOf reads a list or a version.
func sharedOf(t Type, raw json.RawMessage, read func(Type, json.RawMessage) (Value, error)) (Value, error) {
	if len(raw) > sharedDecoded {
		return read(t, raw)
	}
	place, kept, again := decodings.at(maphash.Bytes(seed, raw))
	if kept != nil && kept.elem == t.Elem && kept.raw == string(raw) {
		return kept.value, nil
	}
	v, err := read(t, raw)
	if err == nil && again {
		place.Store(&decoded{t.Elem, string(raw), v})
	}
	return v, err
}
