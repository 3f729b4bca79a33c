package service

import (
	"cmp"
	"context"
	"encoding/binary"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ironledger.example/core/access"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
)

// Session is an allow that an enforcer may still rely on.
type Session struct {
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

	// earlier are the allows to the same question that it took the place of, and that
	// may still be relied on: they end with it.
	earlier []earlier
	ending  bool // its end is on the way to the disk
}

// earlier is an allow whose place a later one took.
type earlier struct {
	decision string
	until    int64
}

// sessions are the live sessions, by what was asked, by device and by person.
type sessions struct {
	mu       sync.Mutex
	byKey    map[asking]*Session
	byDevice map[string][]*Session
	byPerson map[string][]*Session
	// byDecision has those that were restored, while they are.
	byDecision map[string]*Session
	begun      int64 // how many ever were
	swept      int64
	rechecks   []recheck
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
	for _, s := range [...]string{d.ID, d.Serial, d.HardwareID, d.CertificateSHA256, d.Untrusted} {
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
func (l *sessions) begin(snap *Snapshot, actor string, a *Answer, found *Device, now int64) *Session {
	if a.Outcome != access.Allow || a.BreakGlass {
		return nil
	}
	until, err := time.Parse(time.RFC3339, a.ValidUntil)
	if err != nil || until.UnixMicro() <= now {
		return nil
	}
	s := &Session{Decision: a.ID, Person: a.Asked.Subject.ID, Device: a.Device, Level: a.Level,
		Resource: a.Asked.Resource.ID, Action: a.Asked.Action.Name, Enforcer: actor,
		At: a.At, Until: a.ValidUntil, key: askingOf(actor, a.Asked), asked: a.Asked,
		until: until.UnixMicro(), book: snap.Book, people: snap.People}
	if a.Device != "" {
		s.device = found
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.byKey == nil {
		l.byKey, l.byDevice, l.byPerson = map[asking]*Session{}, map[string][]*Session{}, map[string][]*Session{}
	}
	l.sweep(now)
	before := l.byKey[s.key]
	if before == nil && len(l.byKey) >= maxSessions {
		return nil // forward-auth then decides each request anew
	}
	if before != nil {
		if !before.ending { // or its own end tells of those
			s.follow(before)
		}
		l.drop(before)
	}
	l.begun++
	s.number = l.begun
	if l.byDecision != nil {
		l.byDecision[s.Decision] = s
	}
	if l.byKey[s.key] = s; s.Device != "" {
		l.byDevice[s.Device] = append(l.byDevice[s.Device], s)
	}
	l.byPerson[s.Person] = append(l.byPerson[s.Person], s)
	return s
}

// maxEarlier bounds how many earlier allows to one question are kept. The oldest
// are not told of when the session ends; they end all the same.
const maxEarlier = 200

// follow takes over the allows of the session whose place is taken.
func (s *Session) follow(before *Session) {
	s.earlier, before.earlier = append(before.earlier, earlier{before.Decision, before.until}), nil
	if n := len(s.earlier); n >= 2*maxEarlier {
		s.earlier = s.earlier[:copy(s.earlier, s.earlier[n-maxEarlier:])]
	}
}

// relied lists the session's allow and those before it that may be relied on.
func (s *Session) relied(now int64) []earlier {
	list := append(slices.Clone(s.earlier), earlier{s.Decision, s.until})
	list = slices.DeleteFunc(list, func(e earlier) bool { return e.until <= now })
	return list[max(0, len(list)-maxEarlier):]
}

// claim lets the caller end a session; false when somebody else does.
func (l *sessions) claim(s *Session) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s.ending || l.byKey[s.key] != s {
		return false
	}
	s.ending = true
	return true
}

// release takes a claim back: what would have ended the session had no effect.
func (l *sessions) release(list []*Session) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range list {
		s.ending = false
	}
}

// remove forgets a session that has ended.
func (l *sessions) remove(s *Session) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.drop(s)
}

// replaced returns the session whose question was just answered otherwise, and
// claims its end; nil for none.
func (l *sessions) replaced(k asking) *Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.byKey[k]
	if s == nil || s.ending {
		return nil
	}
	s.ending = true
	return s
}

// supersede forgets the session of a question: a newer answer took its place.
func (l *sessions) supersede(k asking) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.byKey[k]; s != nil {
		l.drop(s)
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

func (l *sessions) drop(s *Session) {
	if l.byKey[s.key] != s {
		return
	}
	delete(l.byKey, s.key)
	delete(l.byDecision, s.Decision)
	unlist(l.byDevice, s.Device, s)
	unlist(l.byPerson, s.Person, s)
}

func unlist(by map[string][]*Session, id string, s *Session) {
	of := by[id]
	if i := slices.Index(of, s); i >= 0 {
		if of = slices.Delete(of, i, i+1); len(of) == 0 {
			delete(by, id)
			return
		}
		by[id] = of
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
func (l *sessions) find(actor string, e *access.Evaluation, now int64) *Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.byKey[askingOf(actor, e)]; s != nil && now < s.until {
		return s
	}
	return nil
}

// of returns the sessions of a device that were begun after the first few.
func (l *sessions) of(device string, few int64) []*Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(l.byDevice[device]), func(s *Session) bool { return s.number <= few })
}

// concerned returns the sessions of people and of devices, each once.
func (l *sessions) concerned(persons, devices []string, now int64) []*Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []*Session
	for _, id := range persons {
		out = append(out, l.byPerson[id]...)
	}
	for _, id := range devices {
		out = append(out, l.byDevice[id]...)
	}
	slices.SortFunc(out, func(a, b *Session) int { return cmp.Compare(a.number, b.number) })
	return slices.DeleteFunc(slices.Compact(out), func(s *Session) bool { return s.until <= now })
}

// count is how many sessions were ever begun.
func (l *sessions) count() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.begun
}

// lives reports whether a session is still relied on.
func (l *sessions) lives(s *Session) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.byKey[s.key] == s
}

func (l *sessions) all(now int64) []*Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sweep(now)
	out := make([]*Session, 0, len(l.byKey))
	for _, s := range l.byKey {
		if now < s.until {
			out = append(out, s)
		}
	}
	return out
}

// holds reports whether a session's allow still stands at now: nothing that it
// was decided from has changed, or it would be decided the same.
func (snap *Snapshot) holds(s *Session, now int64) bool {
	var d *Device
	if s.Device != "" {
		if d = snap.Fleet.Get(s.Device); d == nil {
			return false
		}
	}
	if s.book == snap.Book && s.people == snap.People && d == s.device && (d == nil || now < d.Wake) {
		return true
	}
	return snap.Book.Gates.Evaluator().Evaluate(snap.request(s.asked, now).Request, now).Outcome == access.Allow
}

// ends makes the entries of a session that ends, those of the allows whose place it
// took among them.
func (s *Session) ends(actor string, now int64, level string, outcome access.Outcome, cause string) []ledger.Entry {
	var out []ledger.Entry
	for _, e := range s.relied(now) {
		end := &event.SessionEnded{Decision: e.decision, Person: s.Person, Device: s.Device,
			Resource: s.Resource, Enforcer: s.Enforcer,
			Level: level, Outcome: string(outcome), Cause: cause}
		if e.decision != s.Decision {
			end.By = s.Decision
		}
		out = append(out, event.Entry(now, actor, end))
	}
	return out
}

// ending is what a change does to sessions.
type ending struct {
	of     *sessions
	change *change
	begun  int64      // how many sessions had been begun when they were looked at
	looked []recheck  // looked at again
	ended  []*Session // claimed
}

// before ends the sessions that a change takes the ground from. That is written
// together with the change, before it takes effect; [ending.done] is told when it has.
func (l *sessions) before(c *change) *ending {
	e := &ender{ending: &ending{of: l, change: c, begun: l.count()}, snap: c.base}
	if c.next != nil {
		e.snap = c.next
		e.underNext()
		return e.ending
	}
	for id, d := range c.devices {
		for _, s := range l.of(id, 0) {
			e.look(s, d, event.ByStanding, c.actors[id])
		}
	}
	e.looked = l.takeRechecks()
	for _, x := range e.looked {
		e.recheck(x)
	}
	return e.ending
}

// done makes the end of sessions seen, now that the change is, or takes it back
// when the change could not be recorded. It reports whether there are sessions to be
// looked at again.
func (e *ending) done(err error) bool {
	if err != nil {
		e.of.release(e.ended)
		e.of.lookAgainAt(e.looked)
		return false
	}
	for _, s := range e.ended {
		e.of.remove(s)
	}
	for _, r := range e.change.redacted {
		e.of.forget(r.about)
	}
	list := e.toRecheck()
	e.of.lookAgainAt(list)
	return len(list) > 0
}

// ender ends sessions whose questions are answered otherwise under a snapshot, as a
// part of a change.
type ender struct {
	*ending
	snap  *Snapshot
	gates *access.Evaluator // made when the first is looked at
}

// look ends a session unless its question is still answered with an allow. d is its
// device as it is now, nil for none.
func (e *ender) look(s *Session, d *Device, cause, actor string) {
	if e.gates == nil {
		e.gates = e.snap.Book.Gates.Evaluator()
	}
	q, level := s.asked.Request(), ""
	e.snap.People.ask(q, q.User)
	if d != nil {
		e.snap.on(q, s.asked, d, e.change.now)
		level = e.snap.Book.Rulebook.LevelName(d.Result.Level)
	}
	outcome := e.gates.Evaluate(q, e.change.now).Outcome
	if outcome == access.Allow || !e.of.claim(s) {
		return
	}
	e.ended = append(e.ended, s)
	e.change.batch.Entries = append(e.change.batch.Entries, s.ends(actor, e.change.now, level, outcome, cause)...)
}

// recheck looks at a session that was begun while what it was decided from changed.
func (e *ender) recheck(x recheck) {
	d, cause := e.change.device(x.Device), event.ByStanding
	if d != nil {
		d = e.snap.at(d, e.change.now)
	}
	switch {
	case x.book.Info.Version != e.snap.Book.Info.Version:
		cause = event.ByRulebook
	case x.people != e.snap.People:
		cause = event.ByPeople
	}
	if e.of.lives(x.Session) {
		e.look(x.Session, d, cause, x.actor)
	}
}

// underNext looks at the sessions that the next snapshot may take the ground from.
func (e *ender) underNext() {
	all := e.atStake()
	if len(all) == 0 {
		return
	}
	rebuilt := make(map[string]*Device, len(all)) // those that have sessions
	for _, s := range all {
		rebuilt[s.Device] = nil
	}
	for _, p := range e.change.rebuilt {
		for _, d := range p.devices {
			if _, has := rebuilt[d.ID]; has {
				rebuilt[d.ID] = d
			}
		}
	}
	for _, s := range all {
		d := rebuilt[s.Device]
		if d == nil && s.Device != "" {
			if d = e.change.base.Fleet.Get(s.Device); d != nil {
				d = e.snap.at(d, e.change.now)
			}
		}
		e.look(s, d, e.change.rebuiltBy.kind, e.change.rebuiltBy.actor)
	}
}

// atStake lists the sessions that the next snapshot may take the ground from.
func (e *ender) atStake() []*Session {
	if e.change.reach == nil {
		return e.of.all(e.change.now)
	}
	var devices []string
	for _, p := range e.change.rebuilt {
		for _, d := range p.devices {
			devices = append(devices, d.ID)
		}
	}
	return e.of.concerned(e.change.reach.persons, devices, e.change.now)
}

// recheck is a session that was begun while what it was decided from changed, and
// who changed that.
type recheck struct {
	*Session
	actor string
}

// lookAgainAt notes sessions that the next change is to look at.
func (l *sessions) lookAgainAt(list []recheck) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.rechecks = append(l.rechecks, list...)
}

func (l *sessions) takeRechecks() []recheck {
	l.mu.Lock()
	defer l.mu.Unlock()
	list := l.rechecks
	l.rechecks = nil
	return list
}

// toRecheck lists the sessions that a change which has landed may take the ground
// from, and that were begun when it was on its way to the disk.
func (e *ending) toRecheck() (out []recheck) {
	c, l := e.change, e.of
	if l.count() == e.begun {
		return nil
	}
	if c.next != nil {
		for _, s := range l.all(c.now) {
			if s.number > e.begun {
				out = append(out, recheck{s, c.rebuiltBy.actor})
			}
		}
		return out
	}
	for id, d := range c.devices {
		for _, s := range l.of(id, e.begun) {
			if s.device != d {
				out = append(out, recheck{s, c.actors[id]})
			}
		}
	}
	return out
}

// nothing is a change that does nothing by itself: one that has sessions looked at.
func nothing(*change) error { return nil }

// Kept is a session as it is kept, whether or not its allow still holds.
type Kept struct {
	*Session
	Asked  *access.Evaluation
	Allows int // that may be relied on and end with it, its own among them
}

// Kept lists every session that is kept. Of one whose question would be answered
// otherwise by now the end is on its way.
func (s *Service) Kept() []Kept {
	now, out := s.micros(), []Kept{}
	for _, x := range s.sessions.all(now) {
		out = append(out, Kept{x, x.asked, len(x.relied(now))})
	}
	return out
}

// Sessions lists the allows that may still be relied on, the newest first.
func (s *Service) Sessions(person, device, resource string) []*Session {
	snap, now := s.Snapshot(), s.micros()
	out := slices.DeleteFunc(s.sessions.all(now), func(x *Session) bool {
		return person != "" && x.Person != person || device != "" && x.Device != device || resource != "" &&
			x.Resource != resource || !snap.holds(x, now)
	})
	slices.SortFunc(out, func(a, b *Session) int {
		return cmp.Or(strings.Compare(b.Decision, a.Decision), strings.Compare(a.Person, b.Person))
	})
	return out
}

// restoreSessions finds the allows that still may be relied on in the ledger. Each
// counts only if its entry, and all that came after it, are in the signed tree: an
// end that was hidden would bring it back.
func (s *Service) restoreSessions(ctx context.Context) error {
	snap, now := s.Snapshot(), s.micros()
	longest := int64(0)
	for _, g := range snap.Book.Rulebook.Gates {
		longest = max(longest, g.ValidFor)
	}
	first := int64(0)
	err := s.decisionsSince(ctx, now-longest, func(e ledger.Entry) error {
		if first == 0 || e.Seq < first {
			first = e.Seq
		}
		return nil
	})
	if err != nil || first == 0 {
		return err
	}
	s.sessions.byDecision = map[string]*Session{}
	defer func() { s.sessions.byDecision = nil }()
	return s.store.Proven(ctx, first, func(e ledger.Entry) error {
		if e.Body == nil {
			return nil // redacted
		}
		switch e.Kind {
		case ledger.SessionEnded:
			s.sessions.end(e.About)
		case ledger.DecisionMade:
			made, err := event.Read(&e)
			if err != nil {
				return err
			}
			a := made.(*event.DecisionMade)
			if a.ID = e.About; a.Decision == nil || a.Asked == nil {
				return nil
			}
			if s.sessions.begin(snap, e.Actor, a, snap.Fleet.Get(a.Device), now) == nil {
				s.sessions.supersede(askingOf(e.Actor, a.Asked)) // a newer answer took its place
			}
		}
		return nil
	})
}

// end forgets the session that rests on a decision. When a later answer took its
// place, that one was ended by an entry of its own.
func (l *sessions) end(decision string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.byDecision[decision]; s != nil {
		l.drop(s)
	}
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
