package value

import (
	"bytes"
	"encoding/json"
	"iter"
)

// Members yields the keys and raw values of a JSON object, and Elements those
// of a list, without copying. Both ask for text that [json.Valid] has accepted:
// then a value ends where its quotes and brackets close, and finding that is
// all that is left to do. Evidence arrives in bulk, and a map for each object
// in it cost more than everything else done with it.
func Members(object []byte) iter.Seq2[[]byte, json.RawMessage] {
	return func(yield func([]byte, json.RawMessage) bool) {
		for i := next(object, 1); i < len(object) && object[i] == '"'; {
			end := skip(object, i)
			if end <= i+1 {
				return // not valid JSON
			}
			key := object[i+1 : end-1]
			if bytes.IndexByte(key, '\\') >= 0 {
				s, err := decodeString(object[i:end])
				if err != nil {
					return
				}
				key = []byte(s)
			}
			begin := next(object, next(object, end)+1) // behind the colon
			end = skip(object, begin)
			if !yield(key, object[begin:end]) {
				return
			}
			if i = next(object, end); i < len(object) && object[i] == ',' {
				i = next(object, i+1)
			}
		}
	}
}

// Elements yields the members of a JSON list; see [Members].
func Elements(list []byte) iter.Seq[json.RawMessage] {
	return func(yield func(json.RawMessage) bool) {
		for i := next(list, 1); i < len(list) && list[i] != ']'; {
			end := skip(list, i)
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

// skip returns the place behind the value that begins at i.
func skip(b []byte, i int) int {
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
	return i
}
