// Package condition is the small typed language in which rules, scopes, gates
// and searches are written:
//
//	platform == macos and os.version >= 14.6
//	any c in certs (c.issuer_id == "device-ca" and c.trusted and not c.revoked and until(c.not_after) > 2d)
//	level >= sound and (auth.mfa or "office" in request.places)
//
// The package syntax turns text into a tree of nodes that print themselves in one
// canonical way. [Compile] checks a tree against a [Dictionary] of names and
// gives a [Program]: closures over slots that evaluate to [True], [False] or
// [Unknown] without allocating. The same program can say which leaves decided
// ([Program.Explain]) and when its value could next differ by the passing of
// time alone ([Program.Next]).
//
// Truth is three-valued, after Kleene: what nobody has reported is neither
// true nor false, and only the parts of a condition that depend on it become
// unknown. The package knows nothing of devices, rules or rulebooks; whoever
// calls it brings the dictionary and the [Env].
package condition

import "fmt"

// Tri is a truth value of Kleene's strong three-valued logic. The numbers
// make conjunction the minimum, disjunction the maximum and negation the sign.
type Tri int8

// The three truth values.
const (
	False   Tri = -1
	Unknown Tri = 0
	True    Tri = 1
)

func (t Tri) String() string {
	switch t {
	case True:
		return "true"
	case False:
		return "false"
	}
	return "unknown"
}

// MarshalText writes true, false or unknown.
func (t Tri) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (t *Tri) UnmarshalText(text []byte) error {
	for _, x := range []Tri{True, False, Unknown} {
		if string(text) == x.String() {
			*t = x
			return nil
		}
	}
	return fmt.Errorf("%q is not true, false or unknown", text)
}

func triOf(b bool) Tri {
	if b {
		return True
	}
	return False
}
