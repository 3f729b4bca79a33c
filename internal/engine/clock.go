package engine

import (
	"sync"
	"time"
)

// steadyClock tells a time that never runs back: neither when the machine's
// clock is set back while the service runs, nor when it stands before what the
// ledger recorded last. Forward it follows the machine's clock at once.
type steadyClock struct {
	mu     sync.Mutex
	moment time.Time // as it was told last
	read   time.Time // the machine's clock then, with its monotonic reading
}

// newSteadyClock makes a clock that tells no time before floor.
func newSteadyClock(floor time.Time) *steadyClock {
	c := &steadyClock{read: time.Now()}
	if c.moment = c.read.Round(0); c.moment.Before(floor) {
		c.moment = floor
	}
	return c
}

func (c *steadyClock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	read := time.Now()
	c.moment, c.read = c.moment.Add(read.Sub(c.read)), read
	if wall := read.Round(0); wall.After(c.moment) {
		c.moment = wall
	}
	return c.moment
}

// ahead is how far the told time is before that of the machine's clock.
func (c *steadyClock) ahead() time.Duration {
	told := c.now()
	return max(0, told.Sub(time.Now().Round(0)))
}
