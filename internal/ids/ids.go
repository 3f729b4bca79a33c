// Package ids makes the names of decisions, tokens, enrolments and exceptions.
package ids

import (
	"crypto/rand"
	"encoding/base32"
	"encoding/binary"
	"sync/atomic"
	"time"
)

var idEncoding = base32.NewEncoding("0123456789abcdefghjkmnpqrstvwxyz").WithPadding(base32.NoPadding)

// Maker makes ids that rise with time, even within one millisecond, and cannot
// be guessed: 48 bits of milliseconds, 16 of a count, and 36 random ones, in 20
// characters without look-alikes.
type Maker struct{ last atomic.Uint64 }

// Next makes an id at now, in microseconds since the Unix epoch.
func (s *Maker) Next(now int64) string {
	var random [5]byte
	rand.Read(random[:])
	at := countedFrom(now)
	for {
		last := s.last.Load()
		at = max(at, last+1)
		if s.last.CompareAndSwap(last, at) {
			break
		}
	}
	return idOf(at, random)
}

// countedFrom is the time and the count of the first id of a millisecond.
func countedFrom(now int64) uint64 { return uint64(now/1000) << 16 }

func idOf(at uint64, random [5]byte) string {
	b := append(binary.BigEndian.AppendUint64(make([]byte, 0, 13), at), random[:]...)
	return idEncoding.EncodeToString(b)[:20]
}

// maxDrift bounds how much earlier than its entry the id of a decision can be
// from, in microseconds.
const maxDrift = int64(time.Hour / time.Microsecond)

// IsID reports whether a text has the form of an id.
func IsID(text string) bool {
	_, err := idEncoding.DecodeString(text)
	return err == nil && len(text) == 20
}

// Earliest is the least id that a decision whose entry is of a moment, or later, can
// have.
func Earliest(moment int64) string { return idOf(countedFrom(max(0, moment-maxDrift)), [5]byte{}) }
