package feed

import (
	"fmt"
	"hash/fnv"
	"strconv"
	"strings"
	"time"

	"ironledger.example/core/value"
)

// How a run ended.
const (
	Done      = "done"
	Unchanged = "unchanged" // the partner says that nothing differs
	Failed    = "failed"
)

// Run is one time that a feed was fetched.
type Run struct {
	Number    int    `json:"number"` // from 1
	StartedAt string `json:"started_at"`
	EndedAt   string `json:"ended_at,omitempty"` // "" while it goes on
	Outcome   string `json:"outcome,omitempty"`
	By        string `json:"by,omitempty"` // who asked for it; "" for the schedule
	Full      bool   `json:"full"`         // not what changed alone
	Pages     int    `json:"pages"`
	Items     int    `json:"items"`
	Bytes     int64  `json:"bytes"`
	Accepted  int    `json:"accepted"`
	Rejected  int    `json:"rejected"` // items of which nothing was taken
	Waiting   int    `json:"waiting"`  // of devices that nobody knows yet
	Refused   int    `json:"refused"`  // attributes
	New       int    `json:"new"`      // devices, or people
	Moved     int    `json:"moved"`    // devices that changed level
	Gone      int    `json:"gone"`     // devices that are no longer listed
	// GoneHeld is why nobody was taken for gone, or some were not.
	GoneHeld string   `json:"gone_held,omitempty"`
	Reasons  []Reason `json:"reasons,omitempty"` // of what was not taken as it came
	Error    string   `json:"error,omitempty"`
	Clock    string   `json:"clock,omitempty"` // how far the partner's clock is off
}

// Reason is why something was not taken as it came, and how often.
type Reason struct {
	What    string `json:"what"` // the attribute; "item" for all of one
	Message string `json:"message"`
	Count   int    `json:"count"`
	Example string `json:"example,omitempty"` // which item: its number
}

const (
	maxReasons = 40
	maxMessage = 300
	others     = "for other reasons"
)

// Say counts a reason.
func (r *Run) Say(what, message string, item int) {
	if len(message) > maxMessage {
		message = strings.ToValidUTF8(message[:maxMessage], "") + "…"
	}
	for i := range r.Reasons {
		if x := &r.Reasons[i]; x.What == what && x.Message == message ||
			i == maxReasons-1 && x.Message == others {
			x.Count++
			return
		}
	}
	if len(r.Reasons) == maxReasons-1 {
		what, message = "item", others
	}
	r.Reasons = append(r.Reasons, Reason{what, message, 1, "item " + strconv.Itoa(item)})
}

// Place is where a feed has come to.
type Place struct {
	Runs     []Run `json:"runs,omitempty"`   // the newest first
	Number   int   `json:"number,omitempty"` // of the last that ended
	NextAt   int64 `json:"next_at"`          // in microseconds since the Unix epoch, as all moments here
	Failures int   `json:"failures,omitempty"`
	// FailingSince is when the first of the failures in a row was.
	FailingSince int64 `json:"failing_since,omitempty"`
	// Tag and Modified are the validators of what was taken last (RFC 9110, section 8.8).
	Tag      string `json:"tag,omitempty"`
	Modified string `json:"modified,omitempty"`
	// Since is when the last run that was done began, FullAt the last full one.
	Since  int64 `json:"since,omitempty"`
	FullAt int64 `json:"full_at,omitempty"`
	// Book is the version of the rulebook under which that was: another may take more.
	Book int64 `json:"book,omitempty"`
}

// keepRuns is how many runs are kept.
const keepRuns = 20

// sinceOverlap is how much further back a run asks than the one before began: clocks differ.
const sinceOverlap = 5 * value.Minute

// Full reports whether a run at now, under a version of the rulebook, asks for everything.
func (p *Place) Full(s *Settings, book, now int64) bool {
	if s.Since.Parameter == "" || p.Book != book || p.Since == 0 || p.FullAt == 0 {
		return true
	}
	full, err := value.ParseDuration(s.Since.FullEvery)
	return err != nil || now-p.FullAt >= full.Num()
}

// Moment is what a run that asks for changes alone asks with.
func (p *Place) Moment(s *Settings) string {
	t := time.UnixMicro(p.Since - sinceOverlap).UTC()
	switch s.Since.Form {
	case "unix":
		return strconv.FormatInt(t.Unix(), 10)
	case "unix-ms":
		return strconv.FormatInt(t.UnixMilli(), 10)
	}
	return t.Format(time.RFC3339)
}

// The first run after a failure is not before firstRetry, and not later than the schedule has it, but
// for a partner that asks for more time, up to maxAsked.
const (
	firstRetry = value.Minute
	maxAsked   = value.Day
)

// Ended moves the place on after a run that began and ended at moments. asked is after how long the
// partner wants to be asked again; 0 when it does not say.
func (p *Place) Ended(s *Settings, r *Run, began, now, asked int64) {
	p.Number = r.Number
	p.Runs = append([]Run{*r}, p.Runs[:min(len(p.Runs), keepRuns-1)]...)
	every := value.Day
	if d, err := value.ParseDuration(s.Every); err == nil {
		every = d.Num()
	}
	if r.Outcome == Failed {
		if p.Failures++; p.Failures == 1 {
			p.FailingSince = began
		}
		wait := min(firstRetry<<min(p.Failures-1, 10), every)
		p.NextAt = now + max(spread(s.ID, p.Failures, wait), min(asked, maxAsked))
		return
	}
	p.Failures, p.FailingSince = 0, 0
	p.Since = began
	if r.Full {
		p.FullAt = began
	}
	p.NextAt = max(began+spread(s.ID, int(began/value.Minute), every), now+min(asked, maxAsked))
}

// spread is a wait with up to a tenth more or less, so that feeds do not all run at once. It
// is the same for the same feed and turn.
func spread(id string, turn int, wait int64) int64 {
	h := fnv.New32a()
	_, _ = fmt.Fprintf(h, "%s %d", id, turn) // a hash takes everything
	return wait - wait/10 + int64(h.Sum32())%(wait/5+1)
}

// Guard says why so many devices cannot be gone at once; "" when they can. An inventory that shrinks by a
// tenth and more is more likely cut short than true.
func Guard(gone, listed int) string {
	const few, share = 5, 10
	if gone > 0 && listed == 0 {
		return "no device is listed at all. Nothing was taken from any; if it is so, say: ironledger feed run " +
			"--accept REASON"
	}
	if gone <= few || gone*share <= gone+listed {
		return ""
	}
	return fmt.Sprintf("%d of %d devices are no longer listed: that is more than leave at a time. Nothing was "+
		"taken from them; "+
		"if it is so, say: ironledger feed run --accept REASON", gone, gone+listed)
}
