package value

import (
	"bytes"
	"encoding/json"
	"iter"
	"unicode/utf8"
)

// Walk visits the members of the JSON object that begins at i, without copying,
// and returns the place behind it. visit is given the key and the place where
// the value begins, and returns the place behind the value: [Skip] finds it,
// or Walk when the value is an object that is visited too. It returns false
// to stop.
//
// Walk, [Members] and [Elements] ask for text that [json.Valid] has accepted:
// then a value ends where its quotes and brackets close, and finding that is
// all that is left to do. Evidence arrives in bulk, and a map for each object
// in it cost more than everything else done with it. A decoder of tokens takes
// 1.5 to 1.8 times as long for a report, the check counted, and makes 30 pieces of
// garbage (BenchmarkMembers).
func Walk(b []byte, i int, visit func(key []byte, at int) (end int, more bool)) int {
	for i = next(b, i+1); i < len(b) && b[i] == '"'; {
		end := Skip(b, i)
		if end <= i+1 {
			return len(b) // not valid JSON
		}
		key := b[i+1 : end-1]
		if !simple(key) && (bytes.IndexByte(key, '\\') >= 0 || !utf8.Valid(key)) {
			s, err := decodeString(b[i:end])
			if err != nil {
				return len(b)
			}
			key = []byte(s)
		}
		at := next(b, next(b, end)+1) // behind the colon
		if at >= len(b) {
			return len(b)
		}
		end, more := visit(key, at)
		if i = next(b, end); !more || i >= len(b) || end <= at {
			return i
		}
		if b[i] == ',' {
			i = next(b, i+1)
		}
	}
	return min(i+1, len(b))
}

// simple reports whether a key is ASCII without a backslash, as nearly all are.
func simple(key []byte) bool {
	for _, c := range key {
		if c >= utf8.RuneSelf || c == '\\' {
			return false
		}
	}
	return true
}

// Members yields the keys and raw values of a JSON object; see [Walk].
func Members(object []byte) iter.Seq2[[]byte, json.RawMessage] {
	return func(yield func([]byte, json.RawMessage) bool) {
		Walk(object, 0, func(key []byte, at int) (int, bool) {
			end := Skip(object, at)
			return end, end > at && yield(key, object[at:end])
		})
	}
}

// Member is the raw value that a JSON object has under a name; nil when it has none, or is no object. The rest of the
// object is stepped over; see [Walk].
func Member(object []byte, name string) json.RawMessage {
	if len(object) == 0 || object[0] != '{' {
		return nil
	}
	for key, raw := range Members(object) {
		if string(key) == name {
			return raw
		}
	}
	return nil
}

// Spelt is what a raw JSON text says, nil for what is none. It is a part of raw unless there is a backslash in it.
func Spelt(raw []byte) []byte {
	n := len(raw)
	if n >= 2 && raw[0] == '"' && raw[n-1] == '"' && bytes.IndexByte(raw, '\\') < 0 {
		return raw[1 : n-1]
	}
	var s *string
	if json.Unmarshal(raw, &s) != nil || s == nil {
		return nil
	}
	return []byte(*s)
}

// Elements yields the raw members of a JSON list; see [Walk].
func Elements(list []byte) iter.Seq[json.RawMessage] {
	return func(yield func(json.RawMessage) bool) {
		for i := next(list, 1); i < len(list) && list[i] != ']'; {
			end := Skip(list, i)
			if end <= i || !yield(list[i:end]) {
				return
			}
			if i = next(list, end); i < len(list) && list[i] == ',' {
				i = next(list, i+1)
			}
		}
	}
}

// next returns the place of the next byte that is not white space.
func next(b []byte, i int) int {
	for i < len(b) && (b[i] == ' ' || b[i] == '\n' || b[i] == '\t' || b[i] == '\r') {
		i++
	}
	return i
}

// closing returns the place of the quote that ends a string, from inside it.
func closing(b []byte, i int) int {
	for i < len(b) {
		n := bytes.IndexByte(b[i:], '"')
		if n < 0 {
			break
		}
		i += n
		slashes := 0
		for i-slashes > 0 && b[i-slashes-1] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return i
		}
		i++
	}
	return len(b)
}

// Skip returns the place behind the value that begins at i; see [Walk].
func Skip(b []byte, i int) int {
	depth := 0
	for ; i < len(b); i++ {
		switch b[i] {
		case '"':
			if i = closing(b, i+1); depth == 0 {
				return min(i+1, len(b))
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				return i + 1
			}
			if depth < 0 {
				return i
			}
		case ',', ':', ' ', '\n', '\t', '\r':
			if depth == 0 {
				return i
			}
		}
	}
	return min(i, len(b)) // what is not valid JSON may end within a string
}
