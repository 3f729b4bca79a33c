package ledger

import (
	"bytes"
	"fmt"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// Canonical returns the canonical form (RFC 8785) of a JSON value: raw itself
// if it is that already. raw is not changed. Numbers are double precision
// there, as the RFC has it.
func Canonical(raw []byte) ([]byte, error) {
	if plain(raw) {
		return raw, nil
	}
	v := jsontext.Value(raw).Clone()
	if err := v.Canonicalize(); err != nil {
		return nil, fmt.Errorf("no canonical JSON: %w", err)
	}
	return v, nil
}

// plain reports whether a JSON value is in its canonical form for sure. It
// knows the commonest shapes only: keys in ASCII, whole numbers that double
// precision holds, text with no escapes but those of quotes and backslashes. Making entries in that shape spares most of the
// cost of canonicalising.
func plain(raw []byte) bool {
	end := plainValue(raw, 0, 0)
	return end > 0 && end == len(raw)
}

const maxPlainDepth = 50

// plainValue returns the place behind the value that begins at i, 0 when that
// may not be canonical.
func plainValue(b []byte, i, depth int) int {
	if i >= len(b) || depth > maxPlainDepth {
		return 0
	}
	switch c := b[i]; {
	case c == '"':
		return plainText(b, i, true)
	case c == '{':
		return plainObject(b, i+1, depth+1)
	case c == '[':
		return plainList(b, i+1, depth+1)
	case c >= '1' && c <= '9':
		end := i + 1
		for end < len(b) && b[end] >= '0' && b[end] <= '9' {
			end++
		}
		const exact = 16 // digits, of a number below 2^53
		if end-i > exact || end-i == exact && c == '9' || end < len(b) &&
			(b[end] == '.' || b[end] == 'e' || b[end] == 'E') {
			return 0
		}
		return end
	case c == '0' && i+1 < len(b) && (b[i+1] == ',' || b[i+1] == '}' || b[i+1] == ']'):
		return i + 1
	}
	for _, word := range []string{"true", "false", "null"} {
		if bytes.HasPrefix(b[i:], []byte(word)) {
			return i + len(word)
		}
	}
	return 0
}

func plainObject(b []byte, i, depth int) int {
	if i < len(b) && b[i] == '}' {
		return i + 1
	}
	for last := []byte(nil); ; {
		if i >= len(b) || b[i] != '"' {
			return 0
		}
		end := plainText(b, i, false)
		if end == 0 || end >= len(b) || b[end] != ':' {
			return 0
		}
		key := b[i+1 : end-1]
		if last != nil && bytes.Compare(last, key) >= 0 {
			return 0
		}
		last = key
		if i = plainValue(b, end+1, depth); i == 0 || i >= len(b) {
			return 0
		}
		if b[i] == '}' {
			return i + 1
		}
		if b[i] != ',' {
			return 0
		}
		i++
	}
}

func plainList(b []byte, i, depth int) int {
	if i < len(b) && b[i] == ']' {
		return i + 1
	}
	for {
		if i = plainValue(b, i, depth); i == 0 || i >= len(b) {
			return 0
		}
		if b[i] == ']' {
			return i + 1
		}
		if b[i] != ',' {
			return 0
		}
		i++
	}
}

// plainText returns the place behind the text that begins at i. Bytes beyond
// ASCII are taken when beyond is set.
func plainText(b []byte, i int, beyond bool) int {
	wide := false
	for end := i + 1; end < len(b); end++ {
		c := b[end]
		if ordinary[c] {
			continue
		}
		switch {
		case c == '"':
			if wide && (!beyond || !utf8.Valid(b[i:end])) {
				return 0
			}
			return end + 1
		case c == '\\' && beyond && end+1 < len(b) &&
			(b[end+1] == '"' || b[end+1] == '\\'): // a key is compared as it stands
			end++
		case c < utf8.RuneSelf:
			return 0
		default:
			wide = true
		}
	}
	return 0
}

// ordinary are the bytes that stand for themselves in any text.
var ordinary = func() (table [256]bool) {
	for c := 0x20; c < utf8.RuneSelf; c++ {
		table[c] = c != '"' && c != '\\'
	}
	return table
}()
