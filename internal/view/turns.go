package view

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"sync"
	"sync/atomic"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
	"ironledger.example/internal/tally"
)

// Of so many rules at most it is kept what they began to say, and of so many devices at most before another is added.
const (
	mostRules = 16
	mostTurns = 500_000
)

// turns keeps of the rules that somebody looked at last of which devices they began to say something else.
type turns struct {
	mu sync.Mutex
	by map[string]*ruleTurns
}

// ruleTurns are those of one rule: read once, and kept up from entries that came since.
type ruleTurns struct {
	asked int64        // when somebody asked last
	size  atomic.Int64 // of moves

	mu    sync.Mutex
	moves tally.Kept[[]verdictMove]
}

// of are those of a rule, in place of those of the rule that nobody asked about for longest.
func (t *turns) of(key string, now int64) *ruleTurns {
	t.mu.Lock()
	defer t.mu.Unlock()
	r := t.by[key]
	if r == nil {
		for len(t.by) >= mostRules || len(t.by) > 0 && t.all() > mostTurns {
			delete(t.by, t.oldest())
		}
		if t.by == nil {
			t.by = map[string]*ruleTurns{}
		}
		r = &ruleTurns{}
		t.by[key] = r
	}
	r.asked = now
	return r
}

func (t *turns) all() (n int64) {
	for _, r := range t.by {
		n += r.size.Load()
	}
	return n
}

// oldest is the rule that nobody asked about for longest.
func (t *turns) oldest() (key string) {
	for k, r := range t.by {
		if key == "" || r.asked < t.by[key].asked {
			key = k
		}
	}
	return key
}

// since are those since a moment, oldest first. Nobody may change them.
func (r *ruleTurns) since(ctx context.Context, records *store.Store, key string, since, now int64) ([]verdictMove, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.moves.Bring(ctx, records, since,
		func(moves []verdictMove, _, behind, last int64) ([]verdictMove, error) {
			return turnsOf(ctx, records, key, moves, behind, last, quickly)
		}); err != nil {
		return nil, err
	}
	old := now - keptBack
	r.moves.Forget(old-old%value.Day, since, func(moves []verdictMove, old int64) []verdictMove {
		return slices.Clone(moves[firstSince(moves, old):])
	})
	moves := r.moves.Of
	r.size.Store(int64(len(moves)))
	return moves[firstSince(moves, since):len(moves):len(moves)], nil
}

// firstSince is the place of the first since a moment.
func firstSince(moves []verdictMove, since int64) int {
	return sort.Search(len(moves), func(i int) bool { return moves[i].at >= since })
}

// reading is what the body of an entry tells of a rule: of which device it began to say what. It reports false for one
// that tells of nothing.
type reading func(body []byte, key string) (device string, c event.VerdictChange, ok bool)

// plainly reads all of it.
func plainly(body []byte, key string) (device string, c event.VerdictChange, ok bool) {
	told, ok := event.As[*event.StandingChanged](&ledger.Entry{Kind: ledger.StandingChanged, Body: body})
	if !ok {
		return "", c, false
	}
	i := slices.IndexFunc(told.Changed, func(c event.VerdictChange) bool { return c.Rule == key })
	if i < 0 {
		return "", c, false
	}
	return told.Device, told.Changed[i], true
}

// quickly reads of it what is needed. A rule is named with letters that stand in JSON as they are.
func quickly(body []byte, key string) (device string, c event.VerdictChange, ok bool) {
	quoted := []byte(`"` + key + `"`)
	if !bytes.Contains(body, quoted) {
		return "", c, false
	}
	for name, raw := range value.Members(body) {
		switch string(name) {
		case "device":
			ok = json.Unmarshal(raw, &device) == nil
		case "changed":
			for x := range value.Elements(raw) {
				if c.Rule != key && bytes.Contains(x, quoted) && json.Unmarshal(x, &c) != nil {
					return plainly(body, key)
				}
			}
		}
	}
	return device, c, ok && c.Rule == key
}

// turnsOf adds what entries behind one and up to another tell of a rule.
func turnsOf(ctx context.Context, records *store.Store, key string, moves []verdictMove, behind, last int64,
	read reading) ([]verdictMove, error) {
	err := records.Bodies(ctx, ledger.StandingChanged, behind, last, 0, func(at int64, body []byte) {
		if device, c, ok := read(body, key); ok {
			moves = append(moves, verdictMove{at: at, device: device, from: c.From, to: c.To})
		}
	})
	return moves, err
}

// check compares what is kept with what the entries tell of, and returns where the two differ.
func (t *turns) check(ctx context.Context, records *store.Store) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key, r := range t.by {
		if err := r.check(ctx, records, key); err != nil {
			return err
		}
	}
	return nil
}

func (r *ruleTurns) check(ctx context.Context, records *store.Store, key string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	var told []verdictMove
	is, err := r.moves.Told(ctx, records, func(_, behind, last int64) (err error) {
		told, err = turnsOf(ctx, records, key, nil, behind, last, plainly)
		return err
	})
	if err == nil && is && !slices.Equal(told, r.moves.Of) {
		err = fmt.Errorf("of the rule %s %d changes of what it says are kept, and entries tell of %d, or of others",
			key, len(r.moves.Of), len(told))
	}
	return err
}
