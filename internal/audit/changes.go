package audit

import (
	"context"
	"slices"
	"time"

	"ironledger.example/core/ledger"
)

// Changes is what the ledger has grown by: the kinds of the new entries and what
// they are about, each once.
type Changes struct {
	Seq   int64         `json:"seq"`           // of the newest entry
	All   bool          `json:"all,omitempty"` // there were too many to tell
	Kinds []ledger.Kind `json:"kinds"`
	About []string      `json:"about"`
}

const (
	// gather is how long entries are waited for once there is one, so that many
	// that come together are told together.
	gather = 200 * time.Millisecond
	// maxMentioned bounds how many entries are told one by one.
	maxMentioned = 1000
)

// Changes waits until the ledger has grown beyond a sequence number, and tells
// by what. When ctx ends before it does, it returns nil.
func (s *Service) Changes(ctx context.Context, after int64) (*Changes, error) {
	if s.Follow(ctx, after) <= after {
		return nil, nil
	}
	select {
	case <-time.After(gather):
	case <-ctx.Done():
		return nil, nil
	}
	out := &Changes{Seq: s.Store.Sealed().Size, Kinds: []ledger.Kind{}, About: []string{}}
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
