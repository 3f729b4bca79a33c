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
	"sync"

	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
)

// Unmatched is a report whose keys point at different devices. It is kept
// aside until a person says whose it is.
type Unmatched struct {
	ID         string            `json:"id"`
	At         int64             `json:"at"` // when the newest such report arrived
	Times      int               `json:"times"`
	Source     string            `json:"source"`
	ExternalID string            `json:"external_id,omitempty"`
	Identity   evidence.Identity `json:"identity"`
	Observed   int64             `json:"observed"`
	Kept       json.RawMessage   `json:"kept"` // its readings, as evidence.Record writes them

	SettledAt int64  `json:"settled_at,omitempty"`
	SettledBy string `json:"settled_by,omitempty"`
	Device    string `json:"device,omitempty"` // "" of a settled one: discarded
	Reason    string `json:"reason,omitempty"`
}

const unmatchedDocument = "unmatched"

// keepAside keeps a report that points at different devices. The newest one
// with the same source and keys counts.
func (c *change) keepAside(actor string, line int, rep *evidence.Report, conflict *evidence.ConflictError) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q", rep.Source)
	for _, k := range rep.Keys() {
		fmt.Fprintf(h, "%q%q", k.Kind, k.Text)
	}
	id := "u-" + hex.EncodeToString(h.Sum(nil))[:16]
	u := Unmatched{ID: id, At: c.now, Times: 1, Source: rep.Source, ExternalID: rep.ExternalID, Identity: rep.Identity, Observed: rep.At}
	var none *evidence.Record
	u.Kept = none.With(rep).MarshalSource(rep.Source)
	if old, ok := c.s.aside.get(id); ok && old.SettledAt == 0 {
		u.Times = old.Times + 1
	}
	if err := c.batch.PutDocument(unmatchedDocument, id, u); err != nil {
		return "", err
	}
	c.after(func() { c.s.aside.put(u) })
	c.record(ledger.EvidenceRefused, actor, id, map[string]any{"line": line, "error": conflict.Error(), "unmatched": id})
	return id, nil
}

// aside holds the unmatched reports that are durable.
type aside struct {
	mu  sync.Mutex
	all map[string]Unmatched
}

func (a *aside) get(id string) (Unmatched, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	u, ok := a.all[id]
	return u, ok
}

func (a *aside) put(u Unmatched) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.all[u.ID] = u
}

func (a *aside) list() []Unmatched {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Collect(maps.Values(a.all))
}

// open counts the reports that wait for a person.
func (a *aside) open() int {
	n := 0
	for _, u := range a.list() {
		if u.SettledAt == 0 {
			n++
		}
	}
	return n
}

// ShownUnmatched is an unmatched report as people see it.
type ShownUnmatched struct {
	ID         string         `json:"id"`
	At         string         `json:"at"`
	Times      int            `json:"times"`
	Source     string         `json:"source"`
	ObservedAt string         `json:"observed_at"`
	State      string         `json:"state"` // open, joined or discarded
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
	case u.SettledAt == 0:
		return "open"
	case u.Device != "":
		return "joined"
	}
	return "discarded"
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

// Unmatched lists the reports kept aside, the newest first: the open ones, or
// all of them.
func (s *Service) Unmatched(all bool) ([]ShownUnmatched, error) {
	snap := s.Snapshot()
	out := []ShownUnmatched{}
	for _, u := range s.aside.list() {
		if u.SettledAt != 0 && !all {
			continue
		}
		rep, err := u.report(snap.Book)
		if err != nil {
			return nil, err
		}
		shown := ShownUnmatched{ID: u.ID, At: formatTime(u.At), Times: u.Times, Source: u.Source, ObservedAt: formatTime(u.Observed), State: u.state(),
			SettledBy: u.SettledBy, Device: u.Device, Reason: u.Reason, Keys: []UnmatchedKey{}, Readings: []ShownReading{}}
		if u.SettledAt != 0 {
			shown.SettledAt = formatTime(u.SettledAt)
		}
		for _, k := range rep.Keys() {
			device, _ := snap.Fleet.Find(k)
			shown.Keys = append(shown.Keys, UnmatchedKey{k.Kind, k.Text, device})
		}
		for _, r := range rep.Readings {
			shown.Readings = append(shown.Readings, ShownReading{r.Name, readingText(r)})
		}
		out = append(out, shown)
	}
	slices.SortFunc(out, func(a, b ShownUnmatched) int {
		return cmp.Or(strings.Compare(b.At, a.At), strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

// Settlement says whose an unmatched report is.
type Settlement struct {
	Device string `json:"device,omitempty"` // join it to this device
	// Discard drops the report. The next one like it is kept aside again.
	Discard bool   `json:"discard,omitempty"`
	Reason  string `json:"reason"`
}

// Settle joins an unmatched report to a device, to which its keys point from
// then on, or discards it.
func (s *Service) Settle(ctx context.Context, actor, id string, how Settlement) (*Taken, error) {
	if err := checkReason(&how.Reason); err != nil {
		return nil, err
	}
	if (how.Device == "") != how.Discard {
		return nil, &InputError{"/device", "say the device to join the report to, or discard it"}
	}
	var t Taken
	err := s.doAlone(ctx, func(c *change) error { // so that nobody else settles it at the same time
		u, ok := s.aside.get(id)
		if !ok {
			return &NotFoundError{"unmatched report", id}
		}
		if u.SettledAt != 0 {
			return &InputError{"", fmt.Sprintf("%s was settled on %s by %s", id, formatTime(u.SettledAt), u.SettledBy)}
		}
		u.SettledAt, u.SettledBy, u.Reason = c.now, actor, how.Reason
		if how.Discard {
			c.record(ledger.ReportDiscarded, actor, id, map[string]any{"source": u.Source, "reason": how.Reason})
		} else {
			d, err := c.touch(how.Device)
			if err != nil {
				return err
			}
			rep, err := u.report(c.base.Book)
			if err != nil {
				return err
			}
			u.Device = d.ID
			c.claim(d, rep)
			before := d.Record
			d.Record = d.Record.With(rep)
			d.SeenAt = max(d.SeenAt, rep.At)
			was := stood(c.base.Book, c.device(d.ID))
			c.record(ledger.DeviceSettled, actor, d.ID, map[string]any{"unmatched": id, "source": u.Source, "reason": how.Reason})
			c.settle(d, cause{kind: bySettling, actor: actor, evidence: func() []EvidenceChange { return evidenceChanges(before, rep) }})
			t = Taken{Device: d.ID, Previous: was.level, Level: c.base.Book.Rulebook.LevelName(d.Result.Level)}
		}
		if err := c.batch.PutDocument(unmatchedDocument, id, u); err != nil {
			return err
		}
		c.after(func() { s.aside.put(u) })
		return nil
	})
	return &t, err
}

// claim makes the keys of a report point at d, and no longer at another device.
func (c *change) claim(d *Device, rep *evidence.Report) {
	for _, k := range rep.Keys() {
		id, ok := c.find(k)
		if k.Kind == evidence.ByID || !ok || id == d.ID {
			continue
		}
		other := c.device(id).again()
		other.Keys = slices.DeleteFunc(slices.Clone(other.Keys), func(o evidence.Key) bool { return o == k })
		other.View = nil
		c.settle(other, cause{kind: bySettling})
	}
	c.addKeys(d, rep)
}
