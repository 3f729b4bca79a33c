package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
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
	until  int64
	device *Device // as it stood when the allow was last found to hold; nil: none
	book   *Book
	people *People
}

// sessions are the live sessions, by what was asked and by device.
type sessions struct {
	mu       sync.Mutex
	byKey    map[asking]*LiveSession
	byDevice map[string]map[asking]*LiveSession
	swept    int64
}

// maxSessions bounds how many sessions are kept; past it an allow is given and
// not kept.
const maxSessions = 200_000

// asking is what makes two questions the same.
type asking struct {
	actor, kind, subject, action, resource, ip, country, at, methods string

	device access.DeviceRef
	mfa    int8 // 0 not said, 1 true, -1 false
}

func askingOf(actor string, e *access.Evaluation) asking {
	k := asking{actor: actor, kind: e.Subject.Type, subject: e.Subject.ID, action: e.Action.Name, resource: e.Resource.ID}
	c := e.Context
	if c == nil {
		return k
	}
	if k.ip, k.country = c.IP, c.Country; c.Device != nil {
		k.device = *c.Device
	}
	if a := c.Auth; a != nil {
		k.at, k.methods = a.At, strings.Join(a.Methods, "\n")
		switch {
		case a.MFA == nil:
		case *a.MFA:
			k.mfa = 1
		default:
			k.mfa = -1
		}
	}
	return k
}

// begin notes an allow that may be relied on for a while, in place of an
// earlier one to the same question.
func (l *sessions) begin(snap *Snapshot, actor string, a *Answer, now int64) {
	if a.Outcome != access.Allow || a.BreakGlass {
		return
	}
	until, err := time.Parse(time.RFC3339, a.ValidUntil)
	if err != nil || until.UnixMicro() <= now {
		return
	}
	s := &LiveSession{Decision: a.ID, Person: a.Asked.Subject.ID, Device: a.Device, Level: a.Level, Resource: a.Asked.Resource.ID, Action: a.Asked.Action.Name, Enforcer: actor,
		At: a.At, Until: a.ValidUntil, key: askingOf(actor, a.Asked), asked: a.Asked, until: until.UnixMicro(), book: snap.Book, people: snap.People}
	if a.Device != "" {
		s.device = snap.Fleet.Get(a.Device)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.byKey == nil {
		l.byKey, l.byDevice = map[asking]*LiveSession{}, map[string]map[asking]*LiveSession{}
	}
	l.sweep(now)
	if len(l.byKey) >= maxSessions && l.byKey[s.key] == nil {
		return // forward-auth then decides each request anew
	}
	l.byKey[s.key] = s
	if s.Device != "" {
		if l.byDevice[s.Device] == nil {
			l.byDevice[s.Device] = map[asking]*LiveSession{}
		}
		l.byDevice[s.Device][s.key] = s
	}
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
	if l.byKey[s.key] == s {
		delete(l.byKey, s.key)
	}
	if of := l.byDevice[s.Device]; of[s.key] == s {
		if delete(of, s.key); len(of) == 0 {
			delete(l.byDevice, s.Device)
		}
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

func (l *sessions) of(device string) []*LiveSession {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []*LiveSession
	for _, s := range l.byDevice[device] {
		out = append(out, s)
	}
	return out
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
	q, _ := snap.request(s.asked, now)
	return snap.Book.Gates.Trial().Try(q, now).Outcome == access.Allow
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
	Cause    string `json:"cause"`
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
			snap.from(q, s.asked, d, c.now)
			level = snap.Book.Rulebook.LevelName(d.Result.Level)
		}
		outcome := trial.Try(q, c.now).Outcome
		if outcome == access.Allow {
			return
		}
		c.record(ledger.SessionEnded, ledger.Clock, s.Decision, SessionEnd{s.Decision, s.Person, s.Device, s.Resource, s.Enforcer, level, string(outcome), cause})
		c.after(func() {
			c.s.sessions.mu.Lock()
			defer c.s.sessions.mu.Unlock()
			c.s.sessions.drop(s)
		})
	}
	if c.next == nil {
		for id, d := range c.devices {
			for _, s := range c.s.sessions.of(id) {
				end(s, d, "standing")
			}
		}
		return
	}
	all := c.s.sessions.all(c.now)
	if len(all) == 0 {
		return
	}
	rebuilt := map[string]*Device{}
	for _, p := range c.rebuilt {
		for _, d := range p.devices {
			rebuilt[d.ID] = d
		}
	}
	for _, s := range all {
		d := rebuilt[s.Device]
		if d == nil && s.Device != "" {
			if d = c.base.Fleet.Get(s.Device); d != nil {
				d = snap.at(d, c.now)
			}
		}
		end(s, d, "rulebook")
	}
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
			s.sessions.begin(snap, e.Actor, &a, now)
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
