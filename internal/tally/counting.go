package tally

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Counting is something that entries of a kind tell of and that is counted by two of their words.
type Counting struct {
	kind ledger.Kind
	// read tells of each that a body tells of.
	read func(body []byte, tell func(first, second []byte))
}

// What is counted: changes of level by the level from which ("" for a new device) and the one to which; decisions by
// their outcome, and whether shadow gates would have come to another ("1", else "0"); what gates said in decisions, by
// gate and verdict.
var (
	Moves = Counting{ledger.StandingChanged, func(body []byte, tell func(first, second []byte)) {
		tell(words(body, "from", "to"))
	}}
	Outcomes = Counting{ledger.DecisionMade, func(body []byte, tell func(first, second []byte)) {
		outcome, shadow := words(body, "outcome", "shadow_outcome")
		if shadow != nil {
			tell(outcome, []byte("1"))
			return
		}
		tell(outcome, []byte("0"))
	}}
	Rulings = Counting{ledger.DecisionMade, func(body []byte, tell func(first, second []byte)) {
		for gate := range value.Elements(value.Member(body, "gates")) {
			tell(words(gate, "gate", "verdict"))
		}
	}}
)

// words are two texts of a JSON object, nil for one that is not there. What stands behind both is not read.
func words(object []byte, first, second string) (a, b []byte) {
	for name, raw := range value.Members(object) {
		switch {
		case a == nil && string(name) == first:
			a = value.Spelt(raw)
		case b == nil && string(name) == second:
			b = value.Spelt(raw)
		}
		if a != nil && b != nil {
			break
		}
	}
	return a, b
}

// counted is how often something happened in a stretch of time, which begins at a moment.
type counted struct {
	at int64
	of [2]string
	n  int
}

// count counts what the entries behind one and up to another tell of since a moment, by stretches of time.
func (what *Counting) count(ctx context.Context, records *store.Store,
	behind, last, since, stretch int64) ([]counted, error) {
	type key struct {
		at int64
		of [2]string
	}
	counts, known := map[key]int{}, map[string]string{}
	spelt := func(b []byte) string {
		s, is := known[string(b)]
		if !is {
			s = string(b)
			known[s] = s
		}
		return s
	}
	err := records.Bodies(ctx, what.kind, behind, last, since, func(at int64, body []byte) {
		what.read(body, func(first, second []byte) {
			counts[key{at - at%stretch, [2]string{spelt(first), spelt(second)}}]++
		})
	})
	if err != nil {
		return nil, err
	}
	out := make([]counted, 0, len(counts))
	for k, n := range counts {
		out = append(out, counted{k.at, k.of, n})
	}
	slices.SortFunc(out, func(x, y counted) int {
		return cmp.Or(cmp.Compare(x.at, y.at), strings.Compare(x.of[0], y.of[0]), strings.Compare(x.of[1], y.of[1]))
	})
	return out, nil
}
