package service

import (
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
)

// LiveSession is an allow that an enforcer may still rely on.
type LiveSession struct {
	Decision string `json:"decision"`
	Person   string `json:"person"`
	Device   string `json:"device,omitempty"`
	Level    string `json:"level"`
	Resource string `json:"resource"`
	Action   string `json:"action"`
	Enforcer string `json:"enforcer"`
	At       string `json:"at"`
	Until    string `json:"until"`

	key    asking
	asked  *access.Evaluation
	number int64 // counts the sessions
	until  int64
	device *Device // from which it was decided; nil: none
	book   *Book
	people *People
}

// sessions are the live sessions, by what was asked and by device.
type sessions struct {
	mu       sync.Mutex
	byKey    map[asking]*LiveSession
	byDevice map[string][]*LiveSession
	begun    int64 // how many ever were
	swept    int64
}

// maxSessions bounds how many sessions are kept; past it an allow is given and
// not kept.
const maxSessions = 200_000

// asking is what makes two questions the same: the enforcer and all that it
// said, each with its length before it.
type asking string

func askingOf(actor string, e *access.Evaluation) asking {
	k := make([]byte, 0, 192)
	say := func(s string) { k = append(binary.AppendUvarint(k, uint64(len(s))), s...) }
	for _, s := range [...]string{actor, e.Subject.Type, e.Subject.ID, e.Action.Name, e.Resource.ID} {
		say(s)
	}
	var c access.Context
	var d access.DeviceRef
	if e.Context != nil {
		c = *e.Context
	}
	if c.Device != nil {
		d = *c.Device
	}
	say(c.IP)
	say(c.Country)
	for _, s := range [...]string{d.ID, d.Serial, d.HardwareID, d.CertificateSHA256} {
		say(s)
	}
	if a := c.Auth; a != nil {
		say(a.At)
		mfa := byte('-')
		if a.MFA != nil {
			mfa = strconv.FormatBool(*a.MFA)[0]
		}
		k = append(k, mfa)
		for _, s := range a.Methods {
			say(s)
		}
	}
	return asking(k)
}

// begin notes an allow that may be relied on for a while, in place of an
// earlier one to the same question. found is the device from which it was decided.
// It returns nil when there is nothing to rely on.
func (l *sessions) begin(snap *Snapshot, actor string, a *Answer, found *Device, now int64) *LiveSession {
	if a.Outcome != access.Allow || a.BreakGlass {
		return nil
	}
	until, err := time.Parse(time.RFC3339, a.ValidUntil)
	if err != nil || until.UnixMicro() <= now {
		return nil
	}
	s := &LiveSession{Decision: a.ID, Person: a.Asked.Subject.ID, Device: a.Device, Level: a.Level, Resource: a.Asked.Resource.ID, Action: a.Asked.Action.Name, Enforcer: actor,
		At: a.At, Until: a.ValidUntil, key: askingOf(actor, a.Asked), asked: a.Asked, until: until.UnixMicro(), book: snap.Book, people: snap.People}
	if a.Device != "" {
		s.device = found
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.byKey == nil {
		l.byKey, l.byDevice = map[asking]*LiveSession{}, map[string][]*LiveSession{}
	}
	l.sweep(now)
	before := l.byKey[s.key]
	if before == nil && len(l.byKey) >= maxSessions {
		return nil // forward-auth then decides each request anew
	}
	if before != nil {
		l.drop(before)
	}
	l.begun++
	s.number = l.begun
	if l.byKey[s.key] = s; s.Device != "" {
		l.byDevice[s.Device] = append(l.byDevice[s.Device], s)
	}
	return s
}

// sweep forgets now and then what has run out.
func (l *sessions) sweep(now int64) {
	const pause = int64(time.Minute / time.Microsecond)
	if now < l.swept+pause && now >= l.swept {
		return
	}
	l.swept = now
	for _, s := range l.byKey {
		if s.until <= now {
			l.drop(s)
		}
	}
}

func (l *sessions) drop(s *LiveSession) {
	if l.byKey[s.key] != s {
		return
	}
	delete(l.byKey, s.key)
	of := l.byDevice[s.Device]
	if i := slices.Index(of, s); i >= 0 {
		if of = slices.Delete(of, i, i+1); len(of) == 0 {
			delete(l.byDevice, s.Device)
			return
		}
		l.byDevice[s.Device] = of
	}
}

// forget drops the sessions whose decision was redacted: what they were asked
// must go with it.
func (l *sessions) forget(decision string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.byKey {
		if s.Decision == decision {
			l.drop(s)
		}
	}
}

// find returns the live session that answers a question, or nil.
func (l *sessions) find(actor string, e *access.Evaluation, now int64) *LiveSession {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.byKey[askingOf(actor, e)]; s != nil && now < s.until {
		return s
	}
	return nil
}

// of returns the sessions of a device that were begun after the first few.
func (l *sessions) of(device string, few int64) []*LiveSession {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(l.byDevice[device]), func(s *LiveSession) bool { return s.number <= few })
}

// count is how many sessions were ever begun.
func (l *sessions) count() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.begun
}

// lives reports whether a session is still relied on.
func (l *sessions) lives(s *LiveSession) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.byKey[s.key] == s
}

func (l *sessions) all(now int64) []*LiveSession {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sweep(now)
	out := make([]*LiveSession, 0, len(l.byKey))
	for _, s := range l.byKey {
		if now < s.until {
			out = append(out, s)
		}
	}
	return out
}

// holds reports whether a session's allow still stands at now: nothing that it
// was decided from has changed, or it would be decided the same.
func (snap *Snapshot) holds(s *LiveSession, now int64) bool {
	var d *Device
	if s.Device != "" {
		if d = snap.Fleet.Get(s.Device); d == nil {
			return false
		}
	}
	if s.book == snap.Book && s.people == snap.People && d == s.device && (d == nil || now < d.Wake) {
		return true
	}
	return snap.Book.Gates.Trial().Try(snap.request(s.asked, now).Request, now).Outcome == access.Allow
}

// SessionEnd is the body of an entry about an allow that can no longer be
// relied on.
type SessionEnd struct {
	Decision string `json:"decision"`
	Person   string `json:"person"`
	Device   string `json:"device,omitempty"`
	Resource string `json:"resource"`
	Enforcer string `json:"enforcer"`
	Level    string `json:"level,omitempty"` // of the device, now
	Outcome  string `json:"outcome"`         // what the same question is answered now
	Cause    string `json:"cause"`           // standing, or what changed for the whole fleet: rulebook, people or roster
}

// endSessions ends the sessions that a change takes the ground from. That is
// written together with the change, before it takes effect.
func (c *change) endSessions() {
	snap := c.base
	if c.next != nil {
		snap = c.next
	}
	var trial *access.Trial
	end := func(s *LiveSession, d *Device, cause string) {
		if trial == nil {
			trial = snap.Book.Gates.Trial()
		}
		q := s.asked.Request()
		q.Groups = snap.People.Groups(q.User)
		level := ""
		if d != nil {
			snap.on(q, s.asked, d, c.now)
			level = snap.Book.Rulebook.LevelName(d.Result.Level)
		}
		outcome := trial.Try(q, c.now).Outcome
		if outcome == access.Allow || c.ended[s] || c.below != nil && c.below.ended[s] {
			return
		}
		if c.ended == nil {
			c.ended = map[*LiveSession]bool{}
		}
		c.ended[s] = true
		c.record(ledger.SessionEnded, ledger.Clock, s.Decision, SessionEnd{s.Decision, s.Person, s.Device, s.Resource, s.Enforcer, level, string(outcome), cause})
		c.after(func() {
			c.s.sessions.mu.Lock()
			defer c.s.sessions.mu.Unlock()
			c.s.sessions.drop(s)
		})
	}
	c.begun = c.s.sessions.count()
	if c.next == nil {
		for id, d := range c.devices {
			for _, s := range c.s.sessions.of(id, 0) {
				end(s, d, "standing")
			}
		}
		for _, s := range c.doubted {
			d, cause := c.device(s.Device), "standing"
			if d != nil {
				d = snap.at(d, c.now)
			}
			switch {
			case s.book.Info.Version != snap.Book.Info.Version:
				cause = byRulebook
			case s.people != snap.People:
				cause = byPeople
			}
			if c.s.sessions.lives(s) {
				end(s, d, cause)
			}
		}
		return
	}
	all := c.s.sessions.all(c.now)
	if len(all) == 0 {
		return
	}
	rebuilt := make(map[string]*Device, len(all)) // those that have sessions
	for _, s := range all {
		rebuilt[s.Device] = nil
	}
	for _, p := range c.rebuilt {
		for _, d := range p.devices {
			if _, has := rebuilt[d.ID]; has {
				rebuilt[d.ID] = d
			}
		}
	}
	for _, s := range all {
		d := rebuilt[s.Device]
		if d == nil && s.Device != "" {
			if d = c.base.Fleet.Get(s.Device); d != nil {
				d = snap.at(d, c.now)
			}
		}
		end(s, d, c.rebuiltBy)
	}
}

// doubt has sessions looked at again that were begun while what they were
// decided from changed.
func (s *Service) doubt(list ...*LiveSession) {
	s.submit(&job{apply: func(c *change) error {
		c.doubted = append(c.doubted, list...)
		return nil
	}})
}

// doubtful lists the sessions that a change which has landed may take the ground
// from, and that were begun when it was on its way to the disk.
func (c *change) doubtful() (out []*LiveSession) {
	l := &c.s.sessions
	if l.count() == c.begun {
		return nil
	}
	if c.next != nil {
		return slices.DeleteFunc(l.all(c.now), func(s *LiveSession) bool { return s.number <= c.begun })
	}
	for id, d := range c.devices {
		out = append(out, slices.DeleteFunc(l.of(id, c.begun), func(s *LiveSession) bool { return s.device == d })...)
	}
	return out
}

// LiveSessions lists the allows that may still be relied on, the newest first.
func (s *Service) LiveSessions(person, device, resource string) []*LiveSession {
	snap, now := s.Snapshot(), s.micros()
	out := slices.DeleteFunc(s.sessions.all(now), func(x *LiveSession) bool {
		return person != "" && x.Person != person || device != "" && x.Device != device || resource != "" && x.Resource != resource || !snap.holds(x, now)
	})
	slices.SortFunc(out, func(a, b *LiveSession) int {
		return cmp.Or(strings.Compare(b.Decision, a.Decision), strings.Compare(a.Person, b.Person))
	})
	return out
}

// restoreSessions finds the allows that still may be relied on in the ledger.
func (s *Service) restoreSessions(ctx context.Context) error {
	snap, now := s.Snapshot(), s.micros()
	longest := int64(0)
	for _, g := range snap.Book.Rulebook.Gates {
		longest = max(longest, g.ValidFor)
	}
	ended := map[string]bool{}
	err := s.store.Since(ctx, ledger.SessionEnded, now-longest, func(e ledger.Entry) error {
		ended[e.About] = true
		return nil
	})
	if err != nil {
		return err
	}
	return s.decisionsSince(ctx, now-longest, func(e ledger.Entry) error {
		var a Answer
		if err := json.Unmarshal(e.Body, &a); err != nil {
			return fmt.Errorf("entry %d cannot be read: %w", e.Seq, err)
		}
		if a.ID = e.About; !ended[e.About] && a.Decision != nil {
			s.sessions.begin(snap, e.Actor, &a, snap.Fleet.Get(a.Device), now)
		}
		return nil
	})
}

// Permit answers a request for an enforcer that asks each time: with the
// session that holds, or a new decision. It returns the id of the decision and,
// unless it is an allow, the decision.
func (s *Service) Permit(actor string, e *access.Evaluation) (id string, refused *Answer, err error) {
	snap, now := s.Snapshot(), s.micros()
	if t := s.store.Trouble(); t != nil { // what would end a session cannot be recorded
		return "", nil, t
	}
	if x := s.sessions.find(actor, e, now); x != nil && snap.holds(x, now) {
		return x.Decision, nil, nil
	}
	a, _, err := s.decide(actor, e)
	if err != nil {
		return "", nil, err
	}
	if a.Outcome == access.Allow {
		return a.ID, nil, nil
	}
	return a.ID, a, nil
}
