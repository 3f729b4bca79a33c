package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"sync"
	"unsafe"

	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// restorer brings kept devices to the present moment: one goroutine reads the
// rows, the others work them out. Nobody sees the fleet yet.
type restorer struct {
	under   *Snapshot
	granted exceptions
	now     int64

	mu     sync.Mutex
	fleet  *fleetEdit
	digest ledger.Digest // of the rows
	batch  store.Batch
	due    dueHeap
	owned  []owned
	err    error
}

// restoreChunk is how many rows are handed over at a time.
const restoreChunk = 256

func (s *Service) restore(ctx context.Context, under *Snapshot) (*restorer, error) {
	r := &restorer{under: under, granted: under.exceptions(), now: s.micros(), fleet: under.Fleet.edit()}
	chunks := make(chan []store.DeviceRow, 8)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for rows := range chunks {
				r.take(rows)
			}
		})
	}
	rows := make([]store.DeviceRow, 0, restoreChunk)
	err := s.store.Devices(ctx, func(row store.DeviceRow) error {
		if rows = append(rows, row); len(rows) == restoreChunk {
			chunks <- rows
			rows = make([]store.DeviceRow, 0, restoreChunk)
		}
		return nil
	})
	chunks <- rows
	close(chunks)
	wg.Wait()
	under.Fleet = r.fleet.fleet()
	under.Fleet.owners, r.owned = filled(r.owned), nil
	return r, cmp.Or(err, r.err)
}

func (r *restorer) take(rows []store.DeviceRow) {
	c := &change{base: r.under, now: r.now, devices: make(map[string]*Device, len(rows)),
		actors: make(map[string]string, len(rows)), order: make([]*Device, 0, len(rows))}
	var was Device
	var digest ledger.Digest
	for i := range rows {
		row := &rows[i]
		row.Sealed = row.Hash()
		digest.Add(row.Sealed)
		if err := c.restore(r, row, &was); err != nil {
			r.mu.Lock()
			r.err = cmp.Or(r.err, err)
			r.mu.Unlock()
			return
		}
	}
	pairs := make([]owned, 0, len(rows))
	for _, d := range c.order {
		for _, owner := range ownersIn(d.Record) {
			pairs = append(pairs, owned{owner, d.ID})
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.digest.Join(&digest)
	r.owned = append(r.owned, pairs...)
	r.batch.Entries, r.batch.Devices = append(r.batch.Entries, c.batch.Entries...),
		append(r.batch.Devices, c.batch.Devices...)
	for _, d := range c.order {
		r.fleet.place(d, nil)
		if x, is := nextDue(d, nil); is {
			r.due = append(r.due, x)
		}
	}
}

// restore reads a kept device and brings its standing to the present moment. As
// it was is put into the room given.
func (c *change) restore(r *restorer, row *store.DeviceRow, room *Device) error {
	under, granted := r.under, r.granted
	d, err := deviceOf(under.Book, row, granted)
	if err != nil {
		return err
	}
	d.Held = under.Enrolments.admission(d.Keys)
	*room = *d
	was := before{under.Book, room, row.Level}
	if c.appraise(under, d, was, cause{kind: event.ByRestart, actor: ledger.Clock}) {
		c.keep(under.Book, d, was)
	}
	return nil
}

// deviceOf reads a kept device, not yet appraised. The hash of its row is known.
func deviceOf(book *Book, row *store.DeviceRow, granted exceptions) (*Device, error) {
	d := &Device{ID: row.ID, FirstSeen: row.FirstSeen, SeenAt: row.SeenAt, Since: row.Since,
		Waivers: granted.waivers[row.ID], Vouches: granted.vouches[row.ID], Retired: granted.retired[row.ID],
		Revision: row.Revision,
		seal:     row.Sealed, link: row.Past}
	damaged := func(err error) (*Device, error) {
		return nil, fmt.Errorf("the record of device %s is damaged: %w", row.ID, err)
	}
	var failing map[string]int64
	for _, part := range []struct {
		text string
		into any
	}{{row.Failing, &failing}, {row.Refused, &d.Refused}} {
		if len(part.text) == 2 {
			continue // empty
		}
		if err := json.Unmarshal([]byte(part.text), part.into); err != nil {
			return damaged(err)
		}
	}
	for pair := range value.Elements(bytesOf(row.Keys)) {
		key, ok := keyOf(pair)
		if !ok {
			return damaged(fmt.Errorf("%.60s is no key", pair))
		}
		d.Keys = append(d.Keys, key)
	}
	var err error
	if d.Spoken, err = evidence.ReadSpoken(bytesOf(row.Spoken)); err != nil {
		return damaged(err)
	}
	if d.Record, err = book.Rulebook.Dict.UnmarshalRecord(bytesOf(row.Evidence)); err != nil {
		return damaged(err)
	}
	if len(failing) > 0 {
		d.Result.Since = book.since(failing)
	}
	return d, nil
}

// bytesOf lets the bytes of a text be read, and no more.
func bytesOf(text string) []byte { return unsafe.Slice(unsafe.StringData(text), len(text)) }

// keyOf reads a key as it is kept: ["serial", "gf-1"].
func keyOf(pair []byte) (k evidence.Key, ok bool) {
	n := 0
	for part := range value.Elements(pair) {
		v, err := value.Decode(value.Of(value.Text), part)
		if err != nil || n == 2 {
			return k, false
		}
		if n++; n == 1 {
			k.Kind = evidence.KeyKind(v.Str())
		} else {
			k.Text = v.Str()
		}
	}
	return k, n == 2
}

// since lays out remembered failures in the order of the book's rules.
func (e *generation) since(failing map[string]int64) []int64 {
	out := make([]int64, len(e.ruleKeys))
	for i, k := range e.ruleKeys {
		out[i] = failing[k]
	}
	return out
}
