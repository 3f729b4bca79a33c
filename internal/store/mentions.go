package store

import (
	"context"
	"errors"
	"time"

	"ironledger.example/internal/store/mention"
)

// mentionPause is for how long others have the disk between two parts of what is written of mentions.
const mentionPause = 20 * time.Millisecond

// KeepMentions keeps who the entries speak of, as far as there are enough of them, and returns how many there must be
// for more; see package mention.
func (s *Store) KeepMentions(ctx context.Context) (size int64, err error) {
	for {
		run, err := mention.Next(ctx, s.read)
		if err != nil || s.Sealed().Size < (run+1)*mention.Run {
			return (run + 1) * mention.Run, err
		}
		parts, err := mention.Parts(ctx, s.read, run)
		if err != nil {
			return 0, err
		}
		for i := range parts {
			if err := s.Commit(&Batch{mentions: &parts[i]}); err != nil {
				return 0, err
			}
			select {
			case <-time.After(mentionPause):
			case <-ctx.Done():
				return 0, ctx.Err()
			}
		}
	}
}

// CheckMentions holds what is kept of who entries speak of against the entries, from one on to the end of its run. It
// returns [mention.ErrWrong] when that is something else; then it is dropped, to be made anew.
func (s *Store) CheckMentions(ctx context.Context, first int64) error {
	v, err := s.View(ctx) // so that nothing is redacted between the two
	if err != nil {
		return err
	}
	run := (first - 1) / mention.Run
	if err = errors.Join(mention.Check(ctx, v.tx, run), v.Close()); errors.Is(err, mention.ErrWrong) {
		err = errors.Join(err, s.Commit(&Batch{mentions: mention.Anew(run)}))
	}
	return err
}
