package ledger

import (
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"testing"

	"golang.org/x/mod/sumdb/tlog"
)

func row(n int) tlog.Hash { return sha256.Sum256(fmt.Append(nil, "row ", n)) }

// The digest of a set is the same however the set came to be, and differs from that
// of every other set.
func TestADigestIsOfTheSetAlone(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var there Digest
	in := map[int]bool{}
	for range 2000 {
		n := r.IntN(200)
		if in[n] {
			there.Remove(row(n))
			delete(in, n)
		} else {
			there.Add(row(n))
			in[n] = true
		}
	}
	var anew, left, right Digest
	for n := 199; n >= 0; n-- {
		if !in[n] {
			continue
		}
		if anew.Add(row(n)); n%2 == 0 {
			left.Add(row(n))
		} else {
			right.Add(row(n))
		}
	}
	left.Join(&right)
	if there.Sum() != anew.Sum() || left.Sum() != anew.Sum() {
		t.Error("one set has several digests")
	}
	seen := map[tlog.Hash]string{{}: "nothing"}
	note := func(d Digest, what string) {
		t.Helper()
		if other, dup := seen[d.Sum()]; dup {
			t.Errorf("%s has the digest of %s", what, other)
		}
		seen[d.Sum()] = what
	}
	note(anew, "the set")
	note(Digest{}, "the empty set")
	for n := range 200 {
		other := anew
		other.Add(row(n)) // also of one that is there: sets here are bags
		note(other, fmt.Sprintf("the set with %d added", n))
	}
	for n := range in {
		other := anew
		other.Remove(row(n))
		other.Add(row(1000 + n))
		note(other, fmt.Sprintf("the set with %d replaced", n))
	}
}

// Each component is added and taken off for itself, without a carry to the next.
func TestComponentsDoNotCarry(t *testing.T) {
	var d Digest
	want := [digestBytes / 2]uint16{}
	component := func(s *[digestBytes]byte, i int) uint16 { return uint16(s[2*i]) | uint16(s[2*i+1])<<8 }
	for n := range 300 {
		d.Add(row(n))
		s := spread(row(n))
		for i := range want {
			want[i] += component(s, i)
		}
		if n%3 == 0 {
			d.Remove(row(n / 2))
			s := spread(row(n / 2))
			for i := range want {
				want[i] -= component(s, i)
			}
		}
	}
	for i, w := range want {
		if got := uint16(d.lanes[i/4] >> (16 * (i % 4))); got != w {
			t.Fatalf("component %d is %d, want %d", i, got, w)
		}
	}
}

func BenchmarkDigest(b *testing.B) {
	var d Digest
	for n := range b.N {
		d.Add(row(n))
	}
}
