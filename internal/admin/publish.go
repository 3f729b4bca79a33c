package admin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/account"
	"ironledger.example/core/event"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// ConflictError says that another version was published in between.
type ConflictError struct{ Base, Current int64 }

func (e *ConflictError) Error() string {
	return fmt.Sprintf("version %d is in force, not %d that this change started from", e.Current, e.Base)
}

// UnchangedError says that the files are those that are in force: no version is made of them.
type UnchangedError struct{ Book *store.Rulebook }

func (e *UnchangedError) Error() string {
	return fmt.Sprintf("version %d, in force, has the same files", e.Book.Version)
}

// digest is the SHA-256 of a rulebook's files, in hex.
func digest(files []rulebook.File) string {
	h := sha256.New()
	for _, f := range files {
		fmt.Fprintf(h, "%d:%s%d:%s", len(f.Name), f.Name, len(f.Text), f.Text)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// ExampleError says that a rulebook's own examples do not come out as they must.
type ExampleError struct{ Failed []rehearsal.Outcome }

func (e *ExampleError) Error() string {
	parts := make([]string, len(e.Failed))
	for i, o := range e.Failed {
		parts[i] = fmt.Sprintf("%s:%d: %s: want %s, got %s", o.File, o.Line, o.Title, o.Want, o.Got)
	}
	return "examples fail: " + strings.Join(parts, "; ")
}

// Publish puts a rulebook in force: the whole fleet is appraised under it, and
// the version, every change of standing and the new state become durable
// together. The error is [rulebook.Problems], an [*ExampleError], an
// [*ImpactError], a [*ConflictError] or an [*UnchangedError] when the draft is to blame; then nothing has changed.
func (s *Service) Publish(ctx context.Context, actor string, draft api.Draft) (*store.Rulebook, int, error) {
	files := slices.Clone(draft.Files)
	slices.SortFunc(files, func(a, b rulebook.File) int { return strings.Compare(a.Name, b.Name) })
	book, err := state.CompileBook(&store.Rulebook{Author: actor, Message: draft.Message, Digest: digest(files),
		Files: files})
	if err != nil {
		return nil, 0, err
	}
	outcomes := rehearsal.Examples(book.Rulebook, s.Micros())
	if failed := slices.DeleteFunc(outcomes, func(o rehearsal.Outcome) bool { return o.Passed }); len(failed) > 0 {
		return nil, 0, &ExampleError{failed}
	}
	var impacts []Impact
	changed := 0
	weigh := func(snap *state.Snapshot) (err error) {
		if draft.Base != nil && *draft.Base != snap.Book.Info.Version {
			return &ConflictError{*draft.Base, snap.Book.Info.Version}
		}
		if snap.Book.Info.Digest == book.Info.Digest {
			return &UnchangedError{&snap.Book.Info}
		}
		book.Inherit(snap.Book)
		if impacts, err = s.guard(ctx, snap, snap.TryOut(book, snap.People, snap.Roster), nil, nil); err != nil {
			return err
		}
		if len(impacts) > 0 && strings.TrimSpace(draft.AcceptImpact) == "" {
			return &ImpactError{impacts}
		}
		return nil
	}
	err = s.Weighed(ctx, weigh, func(c *state.Change) error {
		var err error
		if changed, err = c.Publish(book, state.Cause{Kind: event.ByRulebook, Actor: actor}); err != nil {
			return err
		}
		rules, gates := account.Served(book.Rulebook, book.RuleKeys)
		c.Record(actor, &event.RulebookPublished{Version: book.Info.Version, Digest: book.Info.Digest,
			Message: event.Clipped(draft.Message, fault.MaxReason), Name: book.Rulebook.Name, Rules: rules, Gates: gates,
			Accepted: event.Accept(impacts, draft.AcceptImpact)})
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	s.Log.Info("rulebook published", "version", book.Info.Version, "by", actor, "moved", changed)
	return &book.Info, changed, nil
}
