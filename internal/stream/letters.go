package stream

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/signal"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// maxLetters bounds the events of a stream that were given up: more, and it is paused,
// so that none is lost.
const maxLetters = 1000

// told takes an event as told. One that was given up before is no longer among the dead
// letters.
func (x *sender) told(ctx context.Context, it *item) {
	if it.letter {
		err := x.service.Do(ctx, func(c *state.Change) error {
			if state.Get(c, state.LetterKind, it.jti) != nil {
				state.Drop(c, state.LetterKind, it.jti)
			}
			return nil
		})
		if err != nil && ctx.Err() == nil { // it comes twice rather than not at all
			x.service.Log.Error("an event that was told stays among the dead letters", "stream", x.id, "error", err)
		}
	}
	x.acknowledge(it.jti, "") // of one that was dropped meanwhile this says nothing
}

// bury gives an event up: it is kept, on disk, for somebody to look at, and those behind
// it go on. Of an event about the stream itself nothing is kept.
func (x *sender) bury(ctx context.Context, it *item, why error) error {
	if it.signal.Type != signal.Verification {
		full := false
		err := x.service.Do(ctx, func(c *state.Change) error {
			if state.Get(c, state.StreamKind, x.id) == nil {
				return nil
			}
			old := state.Get(c, state.LetterKind, it.jti)
			if full = old == nil && letters(c, x.id) >= maxLetters; full {
				return nil
			}
			l := &kept.Letter{Stream: x.id, JTI: it.jti, Seq: it.entry, Event: signal.Short(it.signal.Type),
				Device: it.signal.Device, Person: it.signal.Person, At: it.signal.At, Since: c.Now, Attempts: it.tries,
				Why: event.Clipped(why.Error(), fault.MaxReason)}
			if old != nil {
				l.Attempts += old.Attempts
			}
			return state.Put(c, state.LetterKind, it.jti, l)
		})
		if err != nil {
			return err
		}
		if full {
			why := fmt.Sprintf("%d events could not be told; send them again or drop them, then have the stream go on",
				maxLetters)
			x.service.pauseItself(x.id, why)
			return errors.New(why)
		}
	}
	x.acknowledge(it.jti, why.Error())
	x.service.Log.Warn("an event could not be told", "stream", x.id, "jti", it.jti, "error", why)
	x.mu.Lock()
	stop := x.refused >= maxRefused
	x.mu.Unlock()
	if stop {
		x.service.pauseItself(x.id, fmt.Sprintf("%d events one after another could not be told: %s", maxRefused, why))
	}
	return nil
}

// letters counts the events of a stream that were given up.
func letters(c *state.Change, stream string) (n int) {
	for _, l := range state.All(c, state.LetterKind) {
		if l.Stream == stream {
			n++
		}
	}
	return n
}

// lettersOf are the events of a stream that were given up, the oldest first; of the ids
// given, or all when there are none.
func lettersOf(snap *state.Snapshot, stream string, ids []string) ([]kept.Letter, error) {
	var out []kept.Letter
	for _, l := range snap.Letters.List() {
		if l.Stream == stream && (len(ids) == 0 || slices.Contains(ids, l.JTI)) {
			out = append(out, l)
		}
	}
	for i, id := range ids {
		if !slices.ContainsFunc(out, func(l kept.Letter) bool { return l.JTI == id }) {
			return nil, fault.Inputf(fmt.Sprintf("/ids/%d", i), "the stream has no event %s that was given up", id)
		}
	}
	slices.SortFunc(out, func(a, b kept.Letter) int {
		return cmp.Or(cmp.Compare(a.Seq, b.Seq), strings.Compare(a.JTI, b.JTI))
	})
	return out, nil
}

// Letters are the events of a stream that were given up, the oldest first.
func (s *Service) Letters(id string) ([]api.StreamLetter, error) {
	snap := s.Snapshot()
	if snap.Streams.Get(id) == nil {
		return nil, fault.NotFound("stream", id)
	}
	list, err := lettersOf(snap, id, nil)
	if err != nil {
		return nil, err
	}
	out := []api.StreamLetter{}
	for _, l := range list {
		out = append(out, api.StreamLetter{ID: l.JTI, Seq: l.Seq, Event: l.Event, Device: l.Device, Person: l.Person,
			At: value.FormatTime(l.At), Since: value.FormatTime(l.Since), Attempts: l.Attempts, Why: l.Why})
	}
	return out, nil
}

// Resend sends events that were given up once more: those of the ids given, or all. Each
// is made of its entry anew, of what the receiver is given today; those that it is given
// no longer are dropped. They stay dead letters until the receiver has them.
func (s *Service) Resend(ctx context.Context, actor, id string, ids []string) (*api.StreamResent, error) {
	snap := s.Snapshot()
	st, x := snap.Streams.Get(id), s.sender(id)
	switch {
	case st == nil:
		return nil, fault.NotFound("stream", id)
	case st.Status != kept.StreamEnabled || x == nil:
		return nil, fault.Inputf("", "the stream is %s; have it go on first", st.Status)
	}
	list, err := lettersOf(snap, id, ids)
	if err != nil {
		return nil, err
	}
	given, err := s.given(snap, st)
	if err != nil {
		return nil, fault.Input("", err.Error())
	}
	out := &api.StreamResent{}
	var again []*item
	var gone []string
	for _, l := range list {
		it, err := s.remake(ctx, st, given, &l)
		if err != nil {
			return nil, err
		}
		if it == nil {
			gone = append(gone, l.JTI)
		} else {
			again = append(again, it)
		}
	}
	if len(list) > 0 {
		err = s.dropLetters(ctx, actor, st, gone, fmt.Sprintf("%d are sent again; %d of which the receiver may "+
			"not hear "+
			"any more are dropped", len(again), len(gone)), event.StreamResent)
	}
	if err != nil {
		return nil, err
	}
	out.Sent, out.Dropped = x.resend(again), len(gone)
	return out, nil
}

// remake makes a dead letter's event of its entry; nil when the receiver may not hear of
// it any more.
func (s *Service) remake(ctx context.Context, st *kept.Stream, given *signal.Given, l *kept.Letter) (*item, error) {
	var entries []ledger.Entry
	err := s.Store.ProvenBetween(ctx, l.Seq, l.Seq, func(e ledger.Entry) error {
		entries = append(entries, e)
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i := range entries {
		what, err := happened(&entries[i], given)
		if err != nil {
			return nil, err
		}
		for _, sig := range given.Of(what, entries[i].At) {
			if named(l, jtiOf(st.ID, l.Seq, sig.Type)) && st.Hears(sig.Device, sig.Person) {
				return &item{entry: l.Seq, jti: l.JTI, signal: sig, made: s.Now(), letter: true}, nil
			}
		}
	}
	return nil, nil
}

// resend puts events behind those that wait, but for those that do already.
func (x *sender) resend(list []*item) (n int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, it := range list {
		if x.byID[it.jti] == nil {
			it.seq = x.read + 1
			x.add(it)
			n++
		}
	}
	return n
}

// DropLetters drops events that were given up, for a reason: those of the ids given, or
// all.
func (s *Service) DropLetters(ctx context.Context, actor, id string, ids []string, reason string) (int, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return 0, err
	}
	snap := s.Snapshot()
	st := snap.Streams.Get(id)
	if st == nil {
		return 0, fault.NotFound("stream", id)
	}
	list, err := lettersOf(snap, id, ids)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	drop := []string{}
	for _, l := range list {
		drop = append(drop, l.JTI)
	}
	return len(drop), s.dropLetters(ctx, actor, st, drop, reason, event.StreamDropped)
}

// dropLetters drops events that were given up, and records what was done and why.
func (s *Service) dropLetters(ctx context.Context, actor string, st *kept.Stream, ids []string, reason,
	what string) error {
	return s.Do(ctx, func(c *state.Change) error {
		n := 0
		for _, id := range ids {
			if state.Get(c, state.LetterKind, id) != nil {
				state.Drop(c, state.LetterKind, id)
				n++
			}
		}
		c.Record(actor, &event.StreamChanged{Stream: st.ID, Receiver: st.Receiver, Change: what, Letters: n,
			Reason: reason})
		return nil
	})
}

// RotateSecret has the events of a web hook signed with another secret, and for a while
// with the one before too. The secret is returned once.
func (s *Service) RotateSecret(ctx context.Context, actor, id string, d api.StreamSecretDraft) (*api.Stream, error) {
	if err := fault.CheckReason(&d.Reason); err != nil {
		return nil, err
	}
	overlap := int64(defaultOverlap)
	if d.Overlap != "" {
		v, err := value.ParseDuration(d.Overlap)
		if overlap = v.Num(); err != nil || overlap < 0 || overlap > maxOverlap {
			return nil, fault.Inputf("/overlap", "%q is not a duration of at most 30d, as 24h; 0s ends the "+
				"secret before at once",
				d.Overlap)
		}
	}
	secret, sealed := s.newSecret(id)
	st, err := s.change(ctx, actor, id, "", func(st *kept.Stream, c *state.Change) (*event.StreamChanged, error) {
		if len(st.Secrets) == 0 {
			return nil, fault.Input("", "events of this stream are signed with the key of the service, not "+
				"with a secret")
		}
		list := []kept.StreamSecret{sealed}
		for _, old := range st.Secrets {
			if old.Until == 0 || old.Until > c.Now+overlap {
				old.Until = c.Now + overlap
			}
			if old.Signs(c.Now) && len(list) < maxSecrets {
				list = append(list, old)
			}
		}
		st.Secrets = list
		return &event.StreamChanged{Change: event.StreamSecret, Reason: d.Reason}, nil
	})
	if err != nil {
		return nil, err
	}
	out := s.shown(st)
	out.Secret = secret
	return out, nil
}

// How secrets follow each other.
const (
	defaultOverlap = 24 * 3600 * 1_000_000      // microseconds
	maxOverlap     = 30 * 24 * 3600 * 1_000_000 // microseconds
	maxSecrets     = 3                          // that sign at once
)
