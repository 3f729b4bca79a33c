package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/versioned"
)

// Unmatched is a report that was joined to no device: its keys point at several,
// or two machines share a serial, and a person must say whose it is; or nobody
// knows the device, and the source cannot make it known.
type Unmatched struct {
	ID         string            `json:"id"`
	At         int64             `json:"at"` // when the newest such report arrived
	Times      int               `json:"times"`
	Source     string            `json:"source"`
	ExternalID string            `json:"external_id,omitempty"`
	Identity   evidence.Identity `json:"identity"`
	Observed   int64             `json:"observed"`
	Kept       json.RawMessage   `json:"kept"`              // its readings, as evidence.Record writes them
	Why        string            `json:"why,omitempty"`     // it was not joined
	Waiting    bool              `json:"waiting,omitempty"` // for another source to make its device known

	SettledAt int64  `json:"settled_at,omitempty"`
	SettledBy string `json:"settled_by,omitempty"`
	Device    string `json:"device,omitempty"` // "" of a settled one: discarded
	Reason    string `json:"reason,omitempty"`
}

// maxKept bounds how many open reports of one source are kept aside, and how many
// wait.
const maxKept = 10_000

// keepUnmatched keeps a report that a person must settle. The newest one with the
// same source and keys counts.
func (c *change) keepUnmatched(rep *evidence.Report, conflict *evidence.ConflictError) (string, error) {
	return c.keepReport("u-", rep, Unmatched{Why: conflict.Error()})
}

// keepWaiting keeps a report until another source makes its device known. What
// came before about the same device from the source stays with it.
func (c *change) keepWaiting(rep *evidence.Report) (string, error) {
	return c.keepReport("w-", rep,
		Unmatched{Waiting: true, Why: "nobody knows the device, and " + rep.Source + " cannot make devices known"})
}

func (c *change) keepReport(prefix string, rep *evidence.Report, u Unmatched) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q", rep.Source)
	for _, k := range rep.Keys() {
		fmt.Fprintf(h, "%q%q", k.Kind, k.Text)
	}
	u.ID, u.At, u.Times = prefix+hex.EncodeToString(h.Sum(nil))[:16], c.now, 1
	u.Source, u.ExternalID, u.Identity, u.Observed = rep.Source, rep.ExternalID, rep.Identity, rep.At
	var record *evidence.Record
	if old := get(c, unmatchedKind, u.ID); old.unsettled() {
		u.Times = old.Times + 1
		if before, err := old.report(c.base.Book); err == nil {
			record = record.With(before)
		}
		u.Observed = max(u.Observed, old.Observed)
	} else if c.open(u.of()) >= maxKept {
		return "", fmt.Errorf("%d reports of %s wait already to be joined to a device", maxKept, rep.Source)
	}
	u.Kept = record.With(rep).MarshalSource(rep.Source)
	return u.ID, c.putUnmatched(u)
}

// unmatchedTable holds the reports that were joined to no device, finds those that
// wait by their keys, and counts the open ones.
type unmatchedTable struct {
	table[Unmatched]
	byKey versioned.Map[evidence.Key, []string] // to the ids of reports that wait, sorted
	count map[unmatchedOf]int
}

// unmatchedOf is whose open reports are counted, and which.
type unmatchedOf struct {
	source  string
	waiting bool
}

// index takes in what changes against the table before, nil for none.
func (t *unmatchedTable) index(changes puts[Unmatched], before *unmatchedTable) {
	if len(changes) == 0 {
		return
	}
	count, byKey := maps.Clone(t.count), t.byKey.Edit()
	if count == nil {
		count = map[unmatchedOf]int{}
	}
	note := func(u *Unmatched, n int) {
		if !u.unsettled() {
			return
		}
		if of := u.of(); count[of]+n == 0 {
			delete(count, of)
		} else {
			count[of] += n
		}
		if !u.Waiting {
			return
		}
		for _, k := range u.keys() {
			var ids []string
			if old := byKey.Get(k); old != nil {
				ids = slices.DeleteFunc(slices.Clone(*old), func(id string) bool { return id == u.ID })
			}
			if n > 0 {
				at, _ := slices.BinarySearch(ids, u.ID)
				ids = slices.Insert(ids, at, u.ID)
			}
			if byKey.Set(k, nil); len(ids) > 0 {
				byKey.Set(k, &ids)
			}
		}
	}
	for id, u := range changes {
		if before != nil {
			note(before.Get(id), -1)
		}
		note(u, 1)
	}
	t.count, t.byKey = count, byKey.Map()
}

func (u *Unmatched) of() unmatchedOf { return unmatchedOf{u.Source, u.Waiting} }

// unsettled reports whether there is such a report, and nobody has settled it.
func (u *Unmatched) unsettled() bool { return u != nil && u.SettledAt == 0 }

// putUnmatched writes an unmatched report down.
func (c *change) putUnmatched(u Unmatched) error {
	c.countUnmatched(u.ID, &u)
	if u.unsettled() && u.Waiting {
		if c.waits == nil {
			c.waits = map[evidence.Key][]string{}
		}
		for _, k := range u.keys() {
			c.waits[k] = append(c.waits[k], u.ID)
		}
	}
	return put(c, unmatchedKind, u.ID, &u)
}

// dropUnmatched forgets an unmatched report.
func (c *change) dropUnmatched(id string) {
	c.countUnmatched(id, nil)
	drop(c, unmatchedKind, id)
}

func (c *change) countUnmatched(id string, is *Unmatched) {
	if c.opened == nil {
		c.opened = map[unmatchedOf]int{}
	}
	if was := get(c, unmatchedKind, id); was.unsettled() {
		c.opened[was.of()]--
	}
	if is.unsettled() {
		c.opened[is.of()]++
	}
}

// open counts the open reports of a source.
func (c *change) open(of unmatchedOf) int { return c.base.Unmatched.count[of] + c.opened[of] }

// waiting lists the reports that wait for a device with one of some keys.
func (c *change) waiting(keys []evidence.Key) []*Unmatched {
	found := map[string]bool{}
	for _, k := range keys {
		for _, id := range c.waits[k] {
			found[id] = true
		}
		if ids := c.base.Unmatched.byKey.Get(k); ids != nil {
			for _, id := range *ids {
				found[id] = true
			}
		}
	}
	var out []*Unmatched
	for _, id := range slices.Sorted(maps.Keys(found)) {
		if u := get(c, unmatchedKind, id); u.unsettled() && u.Waiting {
			out = append(out, u)
		}
	}
	return out
}

// awaited takes in the reports that waited for a device with some keys, now that
// it is known.
func (c *change) awaited(actor string, keys []evidence.Key) {
	for _, u := range c.waiting(keys) {
		rep, err := u.report(c.base.Book)
		if err != nil {
			continue // it was kept under another rulebook, and stays where it is
		}
		j, err := c.base.Book.Resolver.Join(rep, c)
		if err != nil || j.Wait {
			continue
		}
		c.dropUnmatched(u.ID)
		rep.Refused = c.base.Book.Resolver.RefuseUnprovided(rep)
		c.apply(actor, 0, rep, j)
	}
}

// ShownUnmatched is an unmatched report as people see it.
type ShownUnmatched struct {
	ID         string         `json:"id"`
	At         string         `json:"at"`
	Times      int            `json:"times"`
	Source     string         `json:"source"`
	ObservedAt string         `json:"observed_at"`
	State      string         `json:"state"` // open, waiting, joined or discarded
	Why        string         `json:"why,omitempty"`
	Keys       []UnmatchedKey `json:"keys"`
	Readings   []ShownReading `json:"readings"`
	SettledAt  string         `json:"settled_at,omitempty"`
	SettledBy  string         `json:"settled_by,omitempty"`
	Device     string         `json:"device,omitempty"`
	Reason     string         `json:"reason,omitempty"`
}

// UnmatchedKey is a key of an unmatched report and the device it points at now.
type UnmatchedKey struct {
	Kind   evidence.KeyKind `json:"kind"`
	Text   string           `json:"text"`
	Device string           `json:"device,omitempty"`
}

// ShownReading is a reading in a few words.
type ShownReading struct {
	Attribute string `json:"attribute"`
	Text      string `json:"text"`
}

func (u *Unmatched) state() string {
	switch {
	case u.SettledAt == 0 && u.Waiting:
		return "waiting"
	case u.SettledAt == 0:
		return "open"
	case u.Device != "":
		return "joined"
	}
	return "discarded"
}

// keys are those that the report names.
func (u *Unmatched) keys() []evidence.Key {
	rep := evidence.Report{Source: u.Source, ExternalID: u.ExternalID, Identity: u.Identity}
	return rep.Identified().Keys()
}

// report makes the kept report again, for the attributes that a book declares.
func (u *Unmatched) report(book *Book) (*evidence.Report, error) {
	rep, err := book.Rulebook.Dict.UnmarshalSource(u.Source, u.Kept)
	if err != nil {
		return nil, err
	}
	rep.ExternalID, rep.Identity, rep.At = u.ExternalID, u.Identity, u.Observed
	return rep.Identified(), nil
}

// Unmatched lists the reports kept aside, the newest first: those that a person
// must settle, or all of them.
func (s *Service) Unmatched(all bool) ([]ShownUnmatched, error) {
	snap := s.Snapshot()
	out := []ShownUnmatched{}
	for _, u := range snap.Unmatched.list() {
		if u.state() != "open" && !all {
			continue
		}
		shown, err := snap.shownUnmatched(&u)
		if err != nil {
			return nil, err
		}
		out = append(out, *shown)
	}
	slices.SortFunc(out, func(a, b ShownUnmatched) int {
		return cmp.Or(strings.Compare(b.At, a.At), strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

func (snap *Snapshot) shownUnmatched(u *Unmatched) (*ShownUnmatched, error) {
	rep, err := u.report(snap.Book)
	if err != nil {
		return nil, err
	}
	shown := ShownUnmatched{ID: u.ID, At: value.FormatTime(u.At), Times: u.Times, Source: u.Source,
		ObservedAt: value.FormatTime(u.Observed), State: u.state(), Why: u.Why,
		SettledBy: u.SettledBy, Device: u.Device, Reason: u.Reason, Keys: []UnmatchedKey{},
		Readings: []ShownReading{}}
	if u.SettledAt != 0 {
		shown.SettledAt = value.FormatTime(u.SettledAt)
	}
	for _, k := range rep.Keys() {
		device, _ := snap.find(k)
		shown.Keys = append(shown.Keys, UnmatchedKey{k.Kind, k.Text, device})
	}
	for _, r := range rep.Readings {
		shown.Readings = append(shown.Readings, ShownReading{r.Name, readingText(r)})
	}
	return &shown, nil
}

// unsettled counts the reports that wait for a person.
func (s *Service) unsettled() int {
	n := 0
	for _, u := range s.Snapshot().Unmatched.list() {
		if u.state() == "open" {
			n++
		}
	}
	return n
}

// Settlement says whose an unmatched report is.
type Settlement struct {
	Device string `json:"device,omitempty"` // join it to this device
	// Discard drops the report. The next one like it is kept aside again.
	Discard bool   `json:"discard,omitempty"`
	Reason  string `json:"reason"`
	// DryRun tells what would become of it, and changes nothing.
	DryRun bool `json:"dry_run,omitempty"`
}

// Settle joins an unmatched report to a device, to which its keys point from
// then on, or discards it. The answer lists the keys that move.
func (s *Service) Settle(ctx context.Context, actor, id string, how Settlement) (*ReportResult, error) {
	if how.DryRun && strings.TrimSpace(how.Reason) == "" {
		how.Reason = "dry run"
	}
	if err := checkReason(&how.Reason); err != nil {
		return nil, err
	}
	if (how.Device == "") != how.Discard {
		return nil, &InputError{"/device", "say the device to join the report to, or discard it"}
	}
	var t ReportResult
	apply := func(c *change) error {
		kept := get(c, unmatchedKind, id)
		if kept == nil {
			return &NotFoundError{"unmatched report", id}
		}
		u := *kept
		if u.SettledAt != 0 {
			return &InputError{"", fmt.Sprintf("%s was settled on %s by %s", id, value.FormatTime(u.SettledAt),
				u.SettledBy)}
		}
		u.SettledAt, u.SettledBy, u.Reason = c.now, actor, how.Reason
		if how.Discard {
			c.record(actor, &event.ReportDiscarded{Unmatched: id, Source: u.Source, Reason: how.Reason})
		} else if err := c.join(actor, &u, how, &t); err != nil {
			return err
		}
		return c.putUnmatched(u)
	}
	if how.DryRun {
		err := s.try(ctx, apply)
		return &t, err
	}
	err := s.do(ctx, apply)
	return &t, err
}

// join gives an unmatched report, and its keys, to a device.
func (c *change) join(actor string, u *Unmatched, how Settlement, t *ReportResult) error {
	d, err := c.touch(how.Device)
	if err != nil {
		return err
	}
	rep, err := u.report(c.base.Book)
	if err != nil {
		return err
	}
	u.Device = d.ID
	before := d.Record
	keyed := event.DeviceKeyed{Source: u.Source, Reason: how.Reason}
	t.Moved = c.claim(actor, d, rep, how.Reason, &keyed)
	d.Record = d.Record.With(rep)
	d.SeenAt = max(d.SeenAt, rep.At)
	d.Spoken = evidence.With(d.Spoken, evidence.SpokenBy(rep))
	c.certify(d, &keyed)
	d.Held = c.admission(d.Keys)
	was := stood(c.base.Book, c.device(d.ID))
	c.record(actor, &event.DeviceSettled{Device: d.ID, Unmatched: u.ID, Source: u.Source, Reason: how.Reason,
		Moved: t.Moved})
	c.recordKeys(actor, d.ID, &keyed)
	c.reappraise(d, cause{kind: event.BySettling, actor: actor,
		evidence: func() []event.EvidenceChange { return evidenceChanges(before, rep) }})
	t.Device, t.Previous, t.Level = d.ID, was.level, c.base.Book.Rulebook.LevelName(d.Result.Level)
	return nil
}

// claim makes the keys of a report point at d, and no longer at another device.
func (c *change) claim(actor string, d *Device, rep *evidence.Report, reason string,
	keyed *event.DeviceKeyed) []event.MovedKey {
	var moved []event.MovedKey
	for _, k := range c.base.Book.Resolver.KeysOf(rep) {
		id, ok := c.Find(k)
		if k.Kind == evidence.ByID || ok && id == d.ID {
			continue
		}
		if ok {
			other := c.device(id).copied()
			lost := event.DeviceKeyed{Source: rep.Source, Reason: reason, To: d.ID}
			c.lose(other, k, &lost)
			other.View, other.Held = nil, c.admission(other.Keys)
			c.recordKeys(actor, id, &lost)
			c.reappraise(other, cause{kind: event.BySettling, actor: actor})
			keyed.From = id
		}
		moved = append(moved, event.MovedKey{Kind: k.Kind, Text: k.Text, From: id, To: d.ID})
		c.gain(d, k, keyed)
	}
	return moved
}
