package value

import (
	"hash/maphash"
	"sync/atomic"
)

// recent holds texts that were read lately, each where its hash says: most
// texts of a fleet - models, vendors, builds, names of apps - are those of
// thousands of other devices, and need to be in memory but once.
var recent [1 << 12]atomic.Pointer[string]

var seed = maphash.MakeSeed()

// sharedLength is up to how many bytes a text is likely to come again.
const sharedLength = 40

// shared returns b as text.
func shared(b []byte) string {
	if len(b) == 0 || len(b) > sharedLength {
		return string(b)
	}
	place := &recent[maphash.Bytes(seed, b)%uint64(len(recent))]
	if s := place.Load(); s != nil && *s == string(b) {
		return *s
	}
	s := string(b)
	place.Store(&s)
	return s
}
