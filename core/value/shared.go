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

// Recent is a table of what came lately. Its zero value is empty; it is safe for concurrent use.
type Recent[T any] struct {
	seen [1 << 12]atomic.Uint64 // the hash of what came last
	kept [1 << 12]atomic.Pointer[T]
}

// At returns the place for a hash, what is kept there, and whether the last
// that came there had the same hash.
func (r *Recent[T]) At(hash uint64) (place *atomic.Pointer[T], kept *T, again bool) {
	i := hash % uint64(len(r.kept))
	place = &r.kept[i]
	if again = r.seen[i].Load() == hash; !again {
		r.seen[i].Store(hash)
	}
	return place, place.Load(), again
}

var texts Recent[string]

// shared returns b as text.
func shared(b []byte) string {
	if len(b) == 0 || len(b) > sharedText {
		return string(b)
	}
	place, kept, again := texts.At(maphash.Bytes(seed, b))
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

var decodings Recent[decoded]

// sharedOf reads a list or a version.
func sharedOf(t Type, raw json.RawMessage, read func(Type, json.RawMessage) (Value, error)) (Value, error) {
	if len(raw) > sharedDecoded {
		return read(t, raw)
	}
	place, kept, again := decodings.At(maphash.Bytes(seed, raw))
	if kept != nil && kept.elem == t.Elem && kept.raw == string(raw) {
		return kept.value, nil
	}
	v, err := read(t, raw)
	if err == nil && again {
		place.Store(&decoded{t.Elem, string(raw), v})
	}
	return v, err
}

var scalars Recent[Value]

var unknown, falsehood, truth = Value{}, OfBool(false), OfBool(true)

// Shared returns a place where a value is kept, which may be that of others who keep the same. Nobody may change it.
func Shared(v Value) *Value {
	switch {
	case v.kind == None && v.str == "":
		return &unknown
	case v.kind == Bool && v.num == 0:
		return &falsehood
	case v.kind == Bool:
		return &truth
	case v.kind == List || v.kind == Record || len(v.str) > sharedText:
		return keep(v)
	}
	hash := maphash.String(seed, v.str) ^ uint64(v.num)*0x9e3779b97f4a7c15 ^ uint64(v.kind)<<32
	place, kept, again := scalars.At(hash ^ hash>>32)
	if kept != nil && kept.kind == v.kind && kept.num == v.num && kept.str == v.str && kept.ext == v.ext {
		return kept
	}
	one := keep(v)
	if again {
		place.Store(one)
	}
	return one
}

// keep moves a value to a place of its own.
func keep(v Value) *Value { return &v }
