package ledger

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/sha256"
	"encoding/binary"
	"sync"

	"golang.org/x/mod/sumdb/tlog"
)

// Digest is the hash of a set of rows, kept up as rows come and go: adding and
// removing commute, and a set has one digest however it came to be. It is LtHash
// with 1024 components of 16 bits (Bellare and Micciancio, "A new paradigm for
// collision-free hashing", 1997; Lewi and others, "Securing update propagation with
// homomorphic hashing", 2019). Each row is spread over the components by AES-256 in
// counter mode under its hash. The zero Digest is that of no rows.
type Digest struct {
	lanes [digestBytes / 8]uint64 // four components each, little endian
}

const digestBytes = 2048

// high are the highest bits of the components in a lane.
const high = 0x8000_8000_8000_8000

// rooms holds room for what rows contribute.
var rooms = sync.Pool{New: func() any { return new([digestBytes]byte) }}

var (
	start [aes.BlockSize]byte // of the counter
	zeros [digestBytes]byte   // what the key stream is laid over
)

// spread is what a row contributes, in room that goes back to rooms.
func spread(row tlog.Hash) *[digestBytes]byte {
	block, err := aes.NewCipher(row[:])
	if err != nil {
		panic(err) // a hash is a key of AES-256
	}
	out := rooms.Get().(*[digestBytes]byte)
	cipher.NewCTR(block, start[:]).XORKeyStream(out[:], zeros[:])
	return out
}

// Add adds a row by its hash.
func (d *Digest) Add(row tlog.Hash) {
	s := spread(row)
	for i := range d.lanes {
		a, b := d.lanes[i], binary.LittleEndian.Uint64(s[8*i:])
		d.lanes[i] = ((a &^ high) + (b &^ high)) ^ ((a ^ b) & high)
	}
	rooms.Put(s)
}

// Remove removes a row by its hash.
func (d *Digest) Remove(row tlog.Hash) {
	s := spread(row)
	for i := range d.lanes {
		a, b := d.lanes[i], binary.LittleEndian.Uint64(s[8*i:])
		d.lanes[i] = ((a | high) - (b &^ high)) ^ ((a ^ ^b) & high)
	}
	rooms.Put(s)
}

// Join adds all rows of another digest.
func (d *Digest) Join(o *Digest) {
	for i, b := range o.lanes {
		a := d.lanes[i]
		d.lanes[i] = ((a &^ high) + (b &^ high)) ^ ((a ^ b) & high)
	}
}

// Sum is the digest in short.
func (d *Digest) Sum() tlog.Hash {
	var raw [digestBytes]byte
	for i, x := range d.lanes {
		binary.LittleEndian.PutUint64(raw[8*i:], x)
	}
	return sha256.Sum256(raw[:])
}
