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

const unmatchedDocument = "unmatched"

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
	old, ok := get(c, &c.s.unmatched.table, u.ID)
	if ok = ok && old.SettledAt == 0; ok {
		u.Times = old.Times + 1
		if before, err := old.report(c.base.Book); err == nil {
			record = record.With(before)
		}
		u.Observed = max(u.Observed, old.Observed)
	} else if c.s.unmatched.open(c, rep.Source, u.Waiting) >= maxKept {
		return "", fmt.Errorf("%d reports of %s wait already to be joined to a device", maxKept, rep.Source)
	}
	u.Kept = record.With(rep).MarshalSource(rep.Source)
	return u.ID, c.s.unmatched.put(c, u)
}

// unmatchedTable holds the reports that were joined to no device, with the keys
// of those that wait.
type unmatchedTable struct {
	table[Unmatched]
	byKey map[evidence.Key]map[string]bool // to the ids of reports that wait
	count map[unmatchedOf]int
}

// unmatchedOf is whose open reports are counted, and which.
type unmatchedOf struct {
	source  string
	waiting bool
}

func (t *unmatchedTable) put(c *change, u Unmatched) error {
	return put(c, &t.table, u.ID, u)
}

// index counts open reports, and finds those that wait by their keys. It is called
// while nobody reads.
func (t *unmatchedTable) index(was, is *Unmatched) {
	t.note(was, -1)
	t.note(is, 1)
}

func (t *unmatchedTable) note(u *Unmatched, n int) {
	if u == nil || u.SettledAt != 0 {
		return
	}
	if t.byKey == nil {
		t.byKey, t.count = map[evidence.Key]map[string]bool{}, map[unmatchedOf]int{}
	}
	t.count[unmatchedOf{u.Source, u.Waiting}] += n
	if !u.Waiting {
		return
	}
	for _, k := range u.keys() {
		ids := t.byKey[k]
		switch {
		case n < 0:
			if delete(ids, u.ID); len(ids) == 0 {
				delete(t.byKey, k)
			}
		case ids == nil:
			t.byKey[k] = map[string]bool{u.ID: true}
		default:
			ids[u.ID] = true
		}
	}
}

// open counts the open reports of a source as a change finds them.
func (t *unmatchedTable) open(c *change, source string, waiting bool) int {
	t.mu.RLock()
	n := t.count[unmatchedOf{source, waiting}]
	t.mu.RUnlock()
	for layer := c; layer != nil; layer = layer.below {
		for _, x := range layer.documents {
			if u, ok := x.(Unmatched); ok && u.Source == source && u.Waiting == waiting && u.SettledAt == 0 &&
				u.Times == 1 {
				n++ // of which one may be dropped again: the bound is no exact one
			}
		}
	}
	return n
}

// waiting lists the reports that wait for a device with one of some keys.
func (t *unmatchedTable) waiting(c *change, keys []evidence.Key) []Unmatched {
	found := map[string]bool{}
	t.mu.RLock()
	for _, k := range keys {
		for id := range t.byKey[k] {
			found[id] = true
		}
	}
	t.mu.RUnlock()
	for layer := c; layer != nil; layer = layer.below {
		for k, x := range layer.documents {
			if u, ok := x.(Unmatched); ok && u.Waiting && slices.ContainsFunc(u.keys(),
				func(k evidence.Key) bool { return slices.Contains(keys, k) }) {
				found[k.id] = true
			}
		}
	}
	var out []Unmatched
	for _, id := range slices.Sorted(maps.Keys(found)) {
		if u, ok := get(c, &t.table, id); ok && u.SettledAt == 0 {
			out = append(out, u)
		}
	}
	return out
}

// awaited takes in the reports that waited for a device with some keys, now that
// it is known.
func (c *change) awaited(actor string, keys []evidence.Key) {
	for _, u := range c.s.unmatched.waiting(c, keys) {
		rep, err := u.report(c.base.Book)
		if err != nil {
			continue // it was kept under another rulebook, and stays where it is
		}
		j, err := c.base.Book.Resolver.Join(rep, c)
		if err != nil || j.Wait {
			continue
		}
		drop(c, &c.s.unmatched.table, u.ID)
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
	for _, u := range s.unmatched.list() {
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
	shown := ShownUnmatched{ID: u.ID, At: formatTime(u.At), Times: u.Times, Source: u.Source,
		ObservedAt: formatTime(u.Observed), State: u.state(), Why: u.Why,
		SettledBy: u.SettledBy, Device: u.Device, Reason: u.Reason, Keys: []UnmatchedKey{},
		Readings: []ShownReading{}}
	if u.SettledAt != 0 {
		shown.SettledAt = formatTime(u.SettledAt)
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
	for _, u := range s.unmatched.list() {
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
		u, ok := get(c, &s.unmatched.table, id)
		if !ok {
			return &NotFoundError{"unmatched report", id}
		}
		if u.SettledAt != 0 {
			return &InputError{"", fmt.Sprintf("%s was settled on %s by %s", id, formatTime(u.SettledAt),
				u.SettledBy)}
		}
		u.SettledAt, u.SettledBy, u.Reason = c.now, actor, how.Reason
		if how.Discard {
			c.record(actor, &event.ReportDiscarded{Unmatched: id, Source: u.Source, Reason: how.Reason})
		} else if err := c.join(actor, &u, how, &t); err != nil {
			return err
		}
		return s.unmatched.put(c, u)
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
