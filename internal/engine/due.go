package engine

import (
	"container/heap"
	"slices"
	"time"

	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/state"
)

// nextDue is when a device that has changed is to be looked at, if that is at another
// moment than before.
func nextDue(d, was *state.Device) (due, bool) {
	return due{d.Wake, d.ID}, d.Wake < condition.Always && (was == nil || was.Wake != d.Wake)
}

// due is when a device's standing can next change by itself.
type due struct {
	at int64
	id string
}

// dueHeap orders devices by when they are due. An element may be outdated: the
// device has been appraised since and is due at another time.
type dueHeap []due

func (h dueHeap) Len() int { return len(h) }

func (h dueHeap) Less(i, j int) bool { return h[i].at < h[j].at }

func (h dueHeap) Swap(i, j int) { h[i], h[j] = h[j], h[i] }

func (h *dueHeap) Push(x any) { *h = append(*h, x.(due)) }

func (h *dueHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// push adds a device to those due. Outdated elements are dropped when they are
// most of the heap.
func (e *Engine) push(x due, f *state.Fleet) {
	if len(e.due) > 4*f.Len()+1024 {
		e.due = slices.DeleteFunc(e.due, func(x due) bool { d := f.Get(x.id); return d == nil || d.Wake != x.at })
		heap.Init(&e.due)
	}
	heap.Push(&e.due, x)
	e.dueNow.Store(int64(len(e.due)))
}

// Waiting is how many jobs wait for the writer, and Due how many moments it has to wake at.
func (e *Engine) Waiting() int { return len(e.jobs) }

// Due is how many moments the writer has to wake at; some are of devices that were appraised since.
func (e *Engine) Due() int64 { return e.dueNow.Load() }

// untilDue is how long the writer may sleep.
func (e *Engine) untilDue() time.Duration {
	if len(e.due) == 0 {
		return time.Hour
	}
	wait := max(0, time.Duration(e.due[0].at-e.Micros())*time.Microsecond)
	if e.failing {
		wait = max(wait, time.Second) // the disk may come back; do not spin
	}
	return min(time.Hour, wait)
}

// appraiseDue appraises every device whose moment has come.
func (e *Engine) appraiseDue(c *state.Change) error {
	book := c.Base.Book
	for len(e.due) > 0 && e.due[0].at <= c.Now {
		x := heap.Pop(&e.due).(due)
		old := c.Device(x.id)
		if old == nil || old.Wake != x.at {
			continue
		}
		d, was := old.Copied(), state.Stood(book, old)
		if c.Appraise(c.Base, d, was, state.Cause{Kind: event.ByTime, Actor: ledger.Clock}) {
			c.Keep(book, d, was)
		}
	}
	return nil
}
