package shell

import (
	"cmp"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/condition"
)

// Sentences puts each sentence of a reason on a line of its own.
func Sentences(reason string) string { return strings.ReplaceAll(reason, ". ", ".\n") }

// Seen is what was observed, or why nothing was.
func Seen(w condition.Leaf) string {
	if w.Unknown != "" {
		return w.Unknown
	}
	return w.Observed
}

// brevity is a JSON value for a table.
func brevity(v any) string {
	if v == nil {
		return "(nothing)"
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return Clip(string(raw), 60)
}

// Number is the number of a gate, or nothing.
func Number(g api.GateRuling) string {
	if g.Number == 0 {
		return ""
	}
	return fmt.Sprint(g.Number)
}

// GatesOf names the gates that made the outcome.
func GatesOf(d *api.Answer) string {
	if d.BreakGlass {
		return "break-glass"
	}
	var list []string
	for _, g := range d.Gates {
		if !g.Shadow && (string(g.Verdict) != "met" || d.Outcome == api.Outcome(access.Allow)) {
			list = append(list, cmp.Or(Number(g), g.Gate))
		}
	}
	return Joined(list)
}

// Only returns a text if a condition holds, else nothing.
func Only(cond bool, text string) string {
	if cond {
		return text
	}
	return ""
}

// NextChange tells when a standing may change by itself, in a clause; "" for never.
func NextChange(at *string) string {
	if at == nil {
		return ""
	}
	return ", may change by itself " + ShortTime(*at)
}

var markdownLink = regexp.MustCompile(`\[([^\]\n]*)\]\(([^)\n]*)\)`)

// PlainLinks writes [text](address) as text (address).
func PlainLinks(s string) string { return markdownLink.ReplaceAllString(s, "$1 ($2)") }

// Numbers writes counts for a table, none as a dot.
func Numbers(list []int) []string {
	out := make([]string, len(list))
	for i, n := range list {
		if out[i] = fmt.Sprint(n); n == 0 {
			out[i] = "·"
		}
	}
	return out
}

// FailedIf makes the command fail after it has said why itself.
func FailedIf(bad bool) error {
	if bad {
		return ErrSaid
	}
	return nil
}

// Named are attributes given as NAME=JSON.
func Named(set []string) (map[string]json.RawMessage, error) {
	out := map[string]json.RawMessage{}
	for _, s := range set {
		name, text, ok := strings.Cut(s, "=")
		if !ok || name == "" || !json.Valid([]byte(text)) {
			return nil, Usagef("--set %q is not NAME=JSON, as custom.sealed=true", s)
		}
		out[name] = json.RawMessage(text)
	}
	return out, nil
}
