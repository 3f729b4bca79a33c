package mapping

import (
	"fmt"
	"strconv"
	"strings"
)

// pointer is where a value stands: the tokens of a JSON Pointer (RFC 6901), or one name of
// a column.
type pointer []string

// parsePointer reads a JSON Pointer, or the name of a column, which begins with no slash.
func parsePointer(text string) (pointer, error) {
	if text == "" {
		return nil, nil
	}
	if !strings.HasPrefix(text, "/") {
		return pointer{text}, nil
	}
	parts := strings.Split(text[1:], "/")
	for i, p := range parts {
		for j := 0; j < len(p); j++ {
			if p[j] == '~' && (j+1 == len(p) || p[j+1] != '0' && p[j+1] != '1') {
				return nil, fmt.Errorf("%q is not a JSON Pointer (RFC 6901): ~ stands as ~0, and / in a name "+
					"as ~1", text)
			}
		}
		parts[i] = strings.ReplaceAll(strings.ReplaceAll(p, "~1", "/"), "~0", "~")
	}
	return parts, nil
}

// String is the pointer as it is written.
func (p pointer) String() string {
	var out strings.Builder
	for _, t := range p {
		out.WriteString("/" + strings.ReplaceAll(strings.ReplaceAll(t, "~", "~0"), "/", "~1"))
	}
	return out.String()
}

// in is the value at which a pointer points; false when there is none.
func (p pointer) in(x any) (any, bool) {
	for _, token := range p {
		switch v := x.(type) {
		case map[string]any:
			next, is := v[token]
			if !is {
				return nil, false
			}
			x = next
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 || i >= len(v) || strconv.Itoa(i) != token {
				return nil, false
			}
			x = v[i]
		default:
			return nil, false
		}
	}
	return x, true
}
