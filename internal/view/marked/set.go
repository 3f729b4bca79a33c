package marked

import (
	"iter"
	"math/bits"

	"ironledger.example/internal/versioned"
)

// Set is some of the places of a page.
type Set [versioned.PageSize / 64]uint64

// Put adds a place.
func (s *Set) Put(place int) { s[place/64] |= 1 << (place % 64) }

func (s *Set) drop(place int) { s[place/64] &^= 1 << (place % 64) }

// Has reports whether a place is in it.
func (s *Set) Has(place int) bool { return s[place/64]&(1<<(place%64)) != 0 }

// Len is how many places are in it.
func (s *Set) Len() (n int) {
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

// Both is what is in both of two sets.
func (s Set) Both(o *Set) Set {
	for i := range s {
		s[i] &= o[i]
	}
	return s
}

// Without is what is not in another set.
func (s Set) Without(o *Set) Set {
	for i := range s {
		s[i] &^= o[i]
	}
	return s
}

// Places yields the places in order.
func (s Set) Places() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, w := range s {
			for ; w != 0; w &= w - 1 {
				if !yield(i*64 + bits.TrailingZeros64(w)) {
					return
				}
			}
		}
	}
}
