package state

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/house"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/store"
)

// undo leads from a device back to what it was before a change. What did not
// change is nil.
type undo struct {
	Evidence json.RawMessage   `json:"evidence,omitempty"` // see [evidence.Record.AppendUndo]
	Failing  *map[string]int64 `json:"failing,omitempty"`
	Keys     *int              `json:"keys,omitempty"`     // how many there were, when some were only added
	KeyList  *[][2]string      `json:"key_list,omitempty"` // which there were, otherwise
	Level    *string           `json:"level,omitempty"`
	Since    *int64            `json:"since,omitempty"`
	Waivers  *[]*Waiver        `json:"waivers,omitempty"`
	Vouches  *[]*Vouch         `json:"vouches,omitempty"`
	Retired  *[]*Retirement    `json:"retired,omitempty"` // one or none
	Held     *[]*Admission     `json:"held,omitempty"`    // one or none

	Quarantine *[]*kept.Quarantine `json:"quarantine,omitempty"` // one or none
	Tags       *[]*kept.Tags       `json:"tags,omitempty"`       // one or none
}

// undoOf works out how d, which stands under a book, leads back to the device it
// was made from.
func (d *Device) undoOf(book *Book, was Before) string {
	old := was.device
	var u undo
	if ev := d.Record.AppendUndo(nil, old.Record); len(ev) > 0 {
		u.Evidence = ev
	}
	if !posture.SameFailing(was.book.RuleKeys, old.Result.Since, book.RuleKeys, d.Result.Since) {
		failing := posture.Failing(was.book.RuleKeys, old.Result.Since)
		u.Failing = &failing
	}
	switch n := len(old.Keys); {
	case slices.Equal(old.Keys, d.Keys):
	case n <= len(d.Keys) && slices.Equal(old.Keys, d.Keys[:n]):
		u.Keys = &n
	default:
		list := make([][2]string, n)
		for i, k := range old.Keys {
			list[i] = [2]string{string(k.Kind), k.Text}
		}
		u.KeyList = &list
	}
	if !old.Held.Same(d.Held) {
		u.Held = oneOrNone(old.Held)
	}
	if level := was.Level; d.Since != old.Since {
		u.Level, u.Since = &level, &old.Since
	}
	if !slices.Equal(old.Waivers, d.Waivers) {
		u.Waivers = listed(old.Waivers)
	}
	if !slices.Equal(old.Vouches, d.Vouches) {
		u.Vouches = listed(old.Vouches)
	}
	if old.Retired != d.Retired {
		u.Retired = oneOrNone(old.Retired)
	}
	if old.Quarantine != d.Quarantine {
		u.Quarantine = oneOrNone(old.Quarantine)
	}
	if old.Tags != d.Tags {
		u.Tags = oneOrNone(old.Tags)
	}
	if routine := u.Failing == nil && u.Keys == nil && u.KeyList == nil && u.Held == nil && u.Since == nil &&
		u.Waivers == nil && u.Vouches == nil && u.Retired == nil && u.Quarantine == nil &&
		u.Tags == nil; routine && u.Evidence != nil {
		return `{"evidence":` + string(u.Evidence) + `}`
	}
	return string(value.JSON(u))
}

// oneOrNone is what a device had, as a list: none is told too, which nil would not.
func oneOrNone[T any](had *T) *[]*T {
	if had == nil {
		return &[]*T{}
	}
	return &[]*T{had}
}

// again makes what a device had what such a list tells; nil tells nothing.
func again[T any](into **T, list *[]*T) {
	if list == nil {
		return
	}
	if *into = nil; len(*list) > 0 {
		*into = (*list)[0]
	}
}

// listed is a list as it is told when it is empty, too: not as null.
func listed[T any](list []T) *[]T {
	if list == nil {
		list = []T{}
	}
	return &list
}

// houseUndo is what people or roster entries were before a change, by id; nil for
// one that there was not.
type houseUndo[T any] map[string]*T

// rewind takes a device row back by steps, newest first.
func rewind(row *store.DeviceRow, steps []store.PastStep, e *pastExtras) error {
	if len(steps) == 0 {
		return nil
	}
	damaged := func(revision int64, err error) error {
		return fmt.Errorf("the past of device %s is damaged at revision %d: %w", row.ID, revision, err)
	}
	past, err := evidence.ReadPast([]byte(row.Evidence))
	if err != nil {
		return damaged(row.Revision, err)
	}
	var keys []json.RawMessage
	if err := json.Unmarshal([]byte(row.Keys), &keys); err != nil {
		return damaged(row.Revision, err)
	}
	for _, s := range steps {
		var u undo
		if err := json.Unmarshal([]byte(s.Undo), &u); err != nil {
			return damaged(s.Revision, err)
		}
		if u.Evidence != nil {
			if err := past.Undo(u.Evidence); err != nil {
				return damaged(s.Revision, err)
			}
		}
		if u.Failing != nil {
			row.Failing = string(value.JSON(*u.Failing))
		}
		if u.Keys != nil {
			if *u.Keys < 0 || *u.Keys > len(keys) {
				return damaged(s.Revision, fmt.Errorf("there were %d keys, of %d", *u.Keys, len(keys)))
			}
			keys = keys[:*u.Keys]
		}
		if u.KeyList != nil {
			keys = keys[:0]
			for _, k := range *u.KeyList {
				keys = append(keys, value.JSON(k))
			}
		}
		again(&e.held, u.Held)
		if u.Level != nil && u.Since != nil {
			row.Level, row.Since = *u.Level, *u.Since
		}
		if u.Waivers != nil {
			e.waivers = *u.Waivers
		}
		if u.Vouches != nil {
			e.vouches = *u.Vouches
		}
		again(&e.retired, u.Retired)
		again(&e.barred, u.Quarantine)
		again(&e.tags, u.Tags)
		row.Revision = s.Revision - 1
	}
	row.Evidence, row.Keys = string(past.Kept()), string(value.JSON(keys))
	return nil
}

// pastExtras are what a device had beside what its row tells.
type pastExtras struct {
	waivers []*Waiver
	vouches []*Vouch
	retired *Retirement
	held    *Admission
	barred  *kept.Quarantine
	tags    *kept.Tags
}

// DeviceThen brings back a device as it was, under the snapshot and at the moment
// now: from its row as it is kept, and steps back from there, newest first. present
// is the device as it was found before the row was read, nil for none.
func (snap *Snapshot) DeviceThen(row store.DeviceRow, steps []store.PastStep, present *Device,
	now int64) (*Device, error) {
	extras := pastExtras{}
	if present != nil {
		extras = pastExtras{present.Waivers, present.Vouches, present.Retired, present.Held, present.Quarantine,
			present.Tags}
	}
	if err := rewind(&row, steps, &extras); err != nil {
		return nil, err
	}
	d, err := deviceOf(snap.Book, &row, exceptions{
		waivers: map[string][]*Waiver{row.ID: extras.waivers},
		vouches: map[string][]*Vouch{row.ID: extras.vouches},
		retired: map[string]*Retirement{row.ID: extras.retired},
		barred:  map[string]*kept.Quarantine{row.ID: extras.barred},
		tags:    map[string]*kept.Tags{row.ID: extras.tags}})
	if err != nil {
		return nil, err
	}
	d.Held = extras.held
	if len(steps) > 0 {
		d.SeenAt = 0
		for r := range d.Record.All() {
			d.SeenAt = max(d.SeenAt, r.At)
		}
	}
	snap.appraise(d, &posture.Result{}, now)
	return d, nil
}

// HouseThen is the people and the roster of before, under a book, with no devices:
// steps lead back from the snapshot's, newest first. Those that lead to the snapshot's
// own are left out.
func (snap *Snapshot) HouseThen(book *Book, people, roster []store.PastStep) (*Snapshot, error) {
	persons := make(map[string]directory.Person, snap.People.Len())
	for _, p := range snap.People.List() {
		persons[p.ID] = p
	}
	entries := map[string]RosterEntry{}
	for id, e := range snap.Roster.All() {
		entries[id] = *e
	}
	backPeople, err := rewindHouse(persons, people, snap.People.Revision)
	if err != nil {
		return nil, err
	}
	backRoster, err := rewindHouse(entries, roster, snap.Roster.Revision)
	if err != nil {
		return nil, err
	}
	then := &Snapshot{Book: book, People: house.NewPeople(slices.Collect(maps.Values(persons))),
		Roster: house.NewRoster(entries), Fleet: &Fleet{}}
	then.People.Revision, then.Roster.Revision = backPeople, backRoster
	return then, nil
}

// rewindHouse takes the people or the roster, which are of a revision, back by steps,
// newest first, and returns the revision that they are then.
func rewindHouse[T any](all map[string]T, steps []store.PastStep, revision int64) (int64, error) {
	for _, s := range steps {
		if s.Revision > revision {
			continue // it came after
		}
		var was houseUndo[T]
		if err := json.Unmarshal([]byte(s.Undo), &was); err != nil {
			return 0, fmt.Errorf("the past of the house is damaged at revision %d: %w", s.Revision, err)
		}
		for id, v := range was {
			if v == nil {
				delete(all, id)
			} else {
				all[id] = *v
			}
		}
		revision = s.Revision - 1
	}
	return revision, nil
}
