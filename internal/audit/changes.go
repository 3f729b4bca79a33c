package audit

import (
	"context"
	"slices"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
)

const (
	// gather is how long entries are waited for once there is one, so that many
	// that come together are told together.
	gather = 200 * time.Millisecond
	// maxMentioned bounds how many entries are told one by one.
	maxMentioned = 1000
)

// Changes waits until the ledger has grown beyond a sequence number, and tells
// by what. When ctx ends before it does, it returns nil.
func (s *Service) Changes(ctx context.Context, after int64) (*api.Changes, error) {
	if s.Follow(ctx, after) <= after {
		return nil, nil
	}
	select {
	case <-time.After(gather):
	case <-ctx.Done():
		return nil, nil
	}
	out := &api.Changes{Seq: s.Store.Sealed().Size, Kinds: []ledger.Kind{}, About: []string{}}
	if out.Seq-after > maxMentioned {
		out.All = true
		return out, nil
	}
	err := s.Store.Mentions(ctx, after+1, out.Seq, func(kind ledger.Kind, about string) {
		out.Kinds, out.About = append(out.Kinds, kind), append(out.About, about)
	})
	slices.Sort(out.Kinds)
	slices.Sort(out.About)
	out.Kinds, out.About = slices.Compact(out.Kinds), slices.Compact(out.About)
	return out, err
}
