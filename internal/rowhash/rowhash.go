// Package rowhash hashes rows of a database, so that no two of different values have the same hash.
package rowhash

import (
	"encoding/binary"
	"fmt"
	"sync"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/mod/sumdb/tlog"
)

// Of is the hash of what fill appends to what it is given, BLAKE2b (RFC 7693) with 256 bits.
func Of(fill func([]byte) []byte) tlog.Hash {
	room := rooms.Get().(*[]byte)
	*room = fill((*room)[:0])
	sum := blake2b.Sum256(*room)
	rooms.Put(room)
	return sum
}

// rooms holds room for what rows are hashed of.
var rooms = sync.Pool{New: func() any { return new([]byte) }}

// AppendText appends a text, with its kind and its length.
func AppendText(b []byte, kind byte, text string) []byte {
	return append(binary.BigEndian.AppendUint64(append(b, kind), uint64(len(text))), text...)
}

// AppendBlob appends bytes.
func AppendBlob(b, blob []byte) []byte {
	return append(binary.BigEndian.AppendUint64(append(b, 'b'), uint64(len(blob))), blob...)
}

// AppendNumber appends a number.
func AppendNumber(b []byte, n int64) []byte {
	return binary.BigEndian.AppendUint64(append(b, 'i'), uint64(n))
}

// AppendValue appends a value of a column: a string, bytes or an int64.
func AppendValue(b []byte, v any) []byte {
	switch v := v.(type) {
	case string:
		return AppendText(b, 't', v)
	case []byte:
		return AppendBlob(b, v)
	case int64:
		return AppendNumber(b, v)
	case nil: // an empty blob: no column of the state may be NULL
		return AppendBlob(b, nil)
	}
	panic(fmt.Sprintf("a row has a %T", v)) // rows are made by the store
}
