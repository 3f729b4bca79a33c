package rowhash

import (
	"testing"

	"golang.org/x/mod/sumdb/tlog"
)

// Rows hash alike only if their values and kinds are the same, wherever one ends and the next begins.
func TestRowsDiffer(t *testing.T) {
	row := func(values ...any) tlog.Hash {
		return Of(func(b []byte) []byte {
			for _, v := range values {
				b = AppendValue(b, v)
			}
			return b
		})
	}
	seen := map[tlog.Hash]int{}
	for i, h := range []tlog.Hash{row(), row(""), row("", ""), row("ab", "c"), row("a", "bc"), row("abc"),
		row([]byte("abc")), row(int64(1)), row(int64(256)), row("1"), row("\x00\x00\x00\x00\x00\x00\x00\x01")} {
		if at, same := seen[h]; same {
			t.Errorf("rows %d and %d hash alike", at, i)
		}
		seen[h] = i
	}
	first, again := row("x", int64(2)), row("x", int64(2))
	if first != again || row(nil) != row([]byte{}) {
		t.Error("the same row hashes otherwise")
	}
}
