package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// PastStep leads from one state back to the one before it.
type PastStep struct {
	Revision int64 // that the change made
	At       int64 // of the change
	Undo     string
	before   []byte // the link of the one before, of a device
}

// What has a past as a whole.
const (
	peoplePast = "people"
	rosterPast = "roster"
)

// PutPeoplePast and PutRosterPast keep what the people or the roster were before a
// change to a revision.
func (b *Batch) PutPeoplePast(revision, at int64, undo string) {
	b.put(houseTable, peoplePast, revision, at, undo)
}
func (b *Batch) PutRosterPast(revision, at int64, undo string) {
	b.put(houseTable, rosterPast, revision, at, undo)
}

// PeopleRevision and RosterRevision are how often the people or the roster have
// changed.
func (s *Store) PeopleRevision(ctx context.Context) (int64, error) {
	return s.revision(ctx, peoplePast)
}
func (s *Store) RosterRevision(ctx context.Context) (int64, error) {
	return s.revision(ctx, rosterPast)
}

func (s *Store) revision(ctx context.Context, what string) (n int64, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT coalesce(max(revision), 0) FROM house_past WHERE what = ?",
		what).Scan(&n)
	return n, err
}

// Then says which state of the past is meant: the one of a revision, or the one
// at a moment when Revision is -1.
type Then struct{ Revision, At int64 }

func (t Then) clause() (string, int64) {
	if t.Revision >= 0 {
		return "revision > ?", t.Revision
	}
	return "at > ?", t.At
}

// ErrForgotten says that the past is no longer kept that far back.
var ErrForgotten = errors.New("the evidence of that time is no longer kept")

// PeoplePast and RosterPast read the steps back to an earlier state of the people or
// the roster, newest first.
func (s *Store) PeoplePast(ctx context.Context, then Then) ([]PastStep, error) {
	return s.house(ctx, peoplePast, then)
}
func (s *Store) RosterPast(ctx context.Context, then Then) ([]PastStep, error) {
	return s.house(ctx, rosterPast, then)
}

func (s *Store) house(ctx context.Context, what string, then Then) ([]PastStep, error) {
	clause, bound := then.clause()
	return steps(ctx, s.read, "SELECT revision, at, undo, x'' FROM house_past WHERE what = ? AND "+clause+
		" ORDER BY revision DESC", what, bound)
}

// DevicePast reads a device as it is kept now, and the steps back to an
// earlier state, newest first. No steps and a later first change mean that it
// was not known then.
func (s *Store) DevicePast(ctx context.Context, id string, then Then) (DeviceRow, []PastStep, error) {
	var d DeviceRow
	tx, err := s.read.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return d, nil, fmt.Errorf("read device %s: %w", id, err)
	}
	defer func() { _ = tx.Rollback() }() // it only read
	d, err = scanDevice(tx.QueryRowContext(ctx, selectDevices+" WHERE id = ?", id).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return d, nil, ErrNotFound
	}
	if err != nil {
		return d, nil, fmt.Errorf("read device %s: %w", id, err)
	}
	// The step that led to the state asked for is read too: it proves that no later
	// one was taken out.
	first := "SELECT revision FROM device_past WHERE device = ? AND revision <= ? ORDER BY revision DESC LIMIT 1"
	bound := then.Revision
	if then.Revision < 0 {
		first, bound = "SELECT revision FROM device_past WHERE device = ? AND at <= ? ORDER BY revision DESC "+
			"LIMIT 1", then.At
	}
	all, err := steps(ctx, tx, "SELECT revision, at, undo, before FROM device_past WHERE device = ? AND "+
		"revision >= coalesce(("+first+"), 0) ORDER BY revision DESC", id, id, bound)
	if err != nil {
		return d, nil, err
	}
	back, err := d.chained(all, then)
	return d, back, err
}

// chained checks that steps of a device's past, newest first, are the links of one
// chain from the device's row back, and returns those that lead back to a state.
func (d *DeviceRow) chained(all []PastStep, then Then) (back []PastStep, err error) {
	want, link := d.Revision, d.Past
	behind := func(s PastStep) bool {
		return then.Revision >= 0 && s.Revision <= then.Revision || then.Revision < 0 && s.At <= then.At
	}
	for _, s := range all {
		// Steps from before there were links have none.
		if len(link) > 0 && (s.Revision != want || !bytes.Equal(link, Link(d.ID, s, s.before))) {
			return nil, &TamperError{Message: fmt.Sprintf("the past of device %s was altered at revision %d", d.ID, want)}
		}
		if behind(s) {
			return back, nil
		}
		if s.Revision != want {
			return nil, ErrForgotten
		}
		back, link = append(back, s), s.before
		want--
	}
	if want > 1 { // the steps behind are gone: the state may have begun after that moment
		return nil, ErrForgotten
	}
	if then.Revision >= 0 && want != then.Revision {
		return nil, ErrForgotten
	}
	return back, nil
}

func steps(ctx context.Context, db querier, query string, args ...any) ([]PastStep, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("read the past: %w", err)
	}
	defer rows.Close()
	var out []PastStep
	for rows.Next() {
		var s PastStep
		if err := rows.Scan(&s.Revision, &s.At, &s.Undo, &s.before); err != nil {
			return nil, fmt.Errorf("read the past: %w", err)
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// forgetSlice bounds how many steps are forgotten in one commit.
const forgetSlice = 5000

// forgetting is a slice of the past of devices that is dropped: steps from before a
// moment, behind a device and its revision.
type forgetting struct {
	before   int64
	device   string
	revision int64

	// What became of it: how many there were, and where the next slice begins, at no
	// device behind the last.
	gone         int64
	nextDevice   string
	nextRevision int64
}

// write drops the slice. It may be called again when what it shares a commit with
// cannot be written.
func (f *forgetting) write(tx *sql.Tx) error {
	clause, args := "(device, revision) > (?, ?)", []any{f.before, f.before, f.device, f.revision}
	err := tx.QueryRow("SELECT device, revision FROM device_past WHERE (device, revision) > (?, ?) ORDER BY "+
		"device, revision LIMIT 1 OFFSET ?",
		f.device, f.revision, forgetSlice-1).Scan(&f.nextDevice, &f.nextRevision)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		f.nextDevice = ""
	case err != nil:
		return err
	default:
		clause, args = clause+" AND (device, revision) <= (?, ?)", append(args, f.nextDevice, f.nextRevision)
	}
	done, err := tx.Exec(`DELETE FROM device_past AS p WHERE at < ? AND EXISTS
		(SELECT 1 FROM device_past AS later WHERE later.device = p.device AND later.revision = p.revision + 1 AND later.at < ?) AND `+clause, args...)
	if err == nil {
		f.gone, err = done.RowsAffected()
	}
	return err
}

// Forget drops steps of devices' past from before a moment, and returns how
// many there were. The newest of each device older than that stays: it tells
// that the device stood so at that moment.
func (s *Store) Forget(ctx context.Context, before int64) (forgotten int64, err error) {
	for device, revision := "", int64(0); ; {
		f := &forgetting{before: before, device: device, revision: revision}
		if err := s.Commit(&Batch{forget: f}); err != nil {
			return forgotten, err
		}
		forgotten += f.gone
		if device, revision = f.nextDevice, f.nextRevision; device == "" || ctx.Err() != nil {
			return forgotten, ctx.Err()
		}
	}
}

// dropPast removes what led back from devices to their earlier revisions.
func dropPast(tx *sql.Tx, purged []DeviceRow) error {
	if len(purged) == 0 {
		return nil
	}
	for _, d := range purged {
		if _, err := tx.Exec("DELETE FROM device_past WHERE device = ? AND revision <= ?", d.ID, d.Revision); err != nil {
			return err
		}
	}
	_, err := tx.Exec("PRAGMA secure_delete = FAST")
	return err
}
