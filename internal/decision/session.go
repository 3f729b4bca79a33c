package decision

import (
	"cmp"
	"context"
	"encoding/binary"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// Session is an allow that an enforcer may still rely on.
type Session struct {
	api.LiveSession

	key    asking
	asked  *access.Evaluation
	number int64 // counts the sessions
	until  int64
	grant  *access.Granted // that the admission carries, of one to a network
	found  *state.Device   // that the question named, as it was then; nil: none that was known
	book   *state.Book
	people *state.People

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
	byNamed  map[evidence.Key][]*Session // by the keys that the question named a device by
	// byDecision has those that were restored, while they are.
	byDecision map[string]*Session
	begun      int64 // how many ever were
	swept      int64
	watch      Watch // nil for nobody
	rechecks   []recheck
	recent     map[whose]revocation // the last of each, for allows that are on their way to the disk
}

// whose are sessions: of a device, of a person, of a resource, or of what is all that is said.
type whose struct{ device, person, resource string }

// revocation is when sessions ended, and why.
type revocation struct {
	at int64
	by state.Cause
}

// recentFor is how long revocations are remembered, when they are many: an allow is on its way to the
// disk for less.
const (
	recentFor  = int64(10 * time.Minute / time.Microsecond)
	manyRecent = 10_000
)

// noteRevoked remembers whose sessions ended.
func (l *sessions) noteRevoked(list []state.Revocation, at int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.recent == nil {
		l.recent = map[whose]revocation{}
	}
	if len(l.recent) > manyRecent {
		maps.DeleteFunc(l.recent, func(_ whose, r revocation) bool { return r.at < at-recentFor })
	}
	for _, r := range list {
		l.recent[whose{r.Device, r.Person, r.Resource}] = revocation{at, r.By}
	}
}

// revokedSince finds what ended the sessions to which one belongs that was decided at a moment.
func (l *sessions) revokedSince(s *Session, decided int64) (by state.Cause, revoked bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for parts := range 1 << 3 { // whatever a revocation says of it
		var w whose
		if parts&1 != 0 {
			w.device = s.Device
		}
		if parts&2 != 0 {
			w.person = s.Person
		}
		if parts&4 != 0 {
			w.resource = s.Resource
		}
		if r, is := l.recent[w]; is && w != (whose{}) && decided <= r.at {
			return r.by, true
		}
	}
	return by, false
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
	say(c.Proof)
	n := cmp.Or(c.Network, &access.Joining{})
	for _, s := range [...]string{n.Address, n.At, n.Called, n.Port, strconv.FormatBool(n.Claimed)} {
		say(s)
	}
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
// earlier one to the same question. found is the device that the question named.
// It returns nil when there is nothing to rely on.
func (l *sessions) begin(snap *state.Snapshot, actor string, a *Answer, found *state.Device, now int64) *Session {
	if a.Outcome != access.Allow || a.BreakGlass {
		return nil
	}
	until, err := time.Parse(time.RFC3339, a.ValidUntil)
	if err != nil || until.UnixMicro() <= now {
		return nil
	}
	shown := api.LiveSession{Decision: a.ID, Person: a.Asked.Subject.ID, Device: a.Device, Level: a.Level,
		Resource: a.Asked.Resource.ID, Action: a.Asked.Action.Name, Enforcer: actor, At: a.At, Until: a.ValidUntil}
	s := &Session{LiveSession: shown, key: askingOf(actor, a.Asked), asked: a.Asked,
		until: until.UnixMicro(), grant: a.Grant, book: snap.Book, people: snap.People, found: found}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.byKey == nil {
		l.byKey, l.byDevice, l.byPerson, l.byNamed = map[asking]*Session{}, map[string][]*Session{},
			map[string][]*Session{}, map[evidence.Key][]*Session{}
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
	for _, k := range s.asked.Keys() {
		l.byNamed[k] = append(l.byNamed[k], s)
	}
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
	for _, k := range s.asked.Keys() {
		unlist(l.byNamed, k, s)
	}
}

func unlist[K comparable](by map[K][]*Session, id K, s *Session) {
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

// at returns the sessions that a device has or may get, each once: those decided from
// it, and those whose question names one of some keys.
func (l *sessions) at(device string, keys []evidence.Key) []*Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := slices.Clone(l.byDevice[device])
	for _, k := range keys {
		for _, s := range l.byNamed[k] {
			if !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// concerned returns the sessions of people, each once.
func (l *sessions) concerned(persons []string, now int64) []*Session {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []*Session
	for _, id := range persons {
		out = append(out, l.byPerson[id]...)
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

// restsOn reports whether what a session was decided from is what a snapshot has: the
// book, the people, and the device that its question names.
func (s *Session) restsOn(snap *state.Snapshot) bool {
	var d *state.Device
	if id, known := s.asked.Find(snap.Find); known {
		d = snap.Fleet.Get(id)
	}
	return s.book == snap.Book && s.people == snap.People && d == s.found
}

// holds reports whether a session's allow still stands at now: nothing that it
// was decided from has changed, or it would be decided the same.
func (l *sessions) holds(snap *state.Snapshot, s *Session, now int64) bool {
	if !l.same(snap, s, now) {
		return false
	}
	if s.restsOn(snap) && (s.found == nil || now < s.found.Wake) {
		return true
	}
	return s.sameAs(snap.Book.Gates.Evaluator().Evaluate(Pose(snap, s.asked, now).Request, now))
}

// Granted is what the allow carries, of one to a network; nil for others.
func (s *Session) Granted() *access.Granted { return s.grant }

// joins reports whether a session is that of a device on a network.
func (s *Session) joins() bool { return s.asked.Context != nil && s.asked.Context.Network != nil }

// same reports whether a session's question would be asked the same.
func (l *sessions) same(snap *state.Snapshot, s *Session, now int64) bool {
	return l.watch == nil || !s.joins() || l.watch.Still(snap, s.asked, now)
}

// sameAs reports whether an answer is the session's: an allow, that carries the same.
func (s *Session) sameAs(v access.Verdict) bool {
	return v.Outcome == access.Allow && s.grant.Is(v.Grant)
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
	change *state.Change
	next   *state.Snapshot   // the state after it
	gates  *access.Evaluator // made when the first session is looked at
	begun  int64             // how many sessions had been begun when they were looked at
	looked []recheck         // looked at again
	ended  []*Session        // claimed
}

// Before ends the sessions that a change takes the ground from. That is written
// together with the change, before it takes effect.
func (l *sessions) Before(c *state.Change, next *state.Snapshot) engine.Part {
	e := &ending{of: l, change: c, next: next, begun: l.count()}
	for s, by := range e.atStake() {
		e.look(s, by, false)
	}
	for s, by := range l.revoked(c) {
		e.look(s, by, true)
	}
	e.looked = l.takeRechecks()
	for _, x := range e.looked {
		if l.lives(x.Session) {
			e.look(x.Session, x.by, x.revoked)
		}
	}
	return e
}

// atStake yields the sessions that the change may take the ground from, and why.
func (e *ending) atStake() iter.Seq2[*Session, state.Cause] {
	return func(yield func(*Session, state.Cause) bool) {
		c, l := e.change, e.of
		if h := c.House; h != nil && h.Everybody {
			for _, s := range l.all(c.Now) {
				if !yield(s, h.By) {
					return
				}
			}
			return
		}
		if h := c.House; h != nil {
			for _, s := range l.concerned(h.Persons, c.Now) {
				if !yield(s, h.By) {
					return
				}
			}
		}
		for d := range c.Changed() {
			by := state.Cause{Kind: event.ByStanding, Actor: c.Actor(d.ID)}
			if c.House != nil {
				by = c.House.By
			}
			for _, s := range l.at(d.ID, rekeyed(c.Base.Fleet.Get(d.ID), d)) {
				if !yield(s, by) {
					return
				}
			}
		}
	}
}

// rekeyed lists the keys by which a device is found in one of two states alone, its
// id among them when it was not known.
func rekeyed(was, is *state.Device) []evidence.Key {
	if was == nil {
		return append(slices.Clone(is.Keys), evidence.Folded(evidence.ByID, is.ID))
	}
	if slices.Equal(was.Keys, is.Keys) {
		return nil
	}
	out := slices.DeleteFunc(slices.Clone(is.Keys),
		func(k evidence.Key) bool { return slices.Contains(was.Keys, k) })
	return slices.AppendSeq(out, func(yield func(evidence.Key) bool) {
		for _, k := range was.Keys {
			if !slices.Contains(is.Keys, k) && !yield(k) {
				return
			}
		}
	})
}

// revoked yields the sessions that a change ends though nothing else is said of them, and why.
func (l *sessions) revoked(c *state.Change) iter.Seq2[*Session, state.Cause] {
	return func(yield func(*Session, state.Cause) bool) {
		for _, r := range c.Revoked {
			var list []*Session
			switch {
			case r.Person != "":
				list = l.concerned([]string{r.Person}, c.Now)
			case r.Device != "":
				list = l.at(r.Device, nil)
			case r.Resource != "":
				list = l.all(c.Now)
			}
			for _, s := range list {
				if (r.Device == "" || s.Device == r.Device) && (r.Resource == "" || s.Resource == r.Resource) &&
					!yield(s, r.By) {
					return
				}
			}
		}
	}
}

// look ends a session that is revoked, or whose question is no longer answered with an allow.
func (e *ending) look(s *Session, by state.Cause, revoked bool) {
	if e.gates == nil {
		e.gates = e.next.Book.Gates.Evaluator()
	}
	now, level := e.change.Now, ""
	q := Pose(e.next, s.asked, now)
	if q.device != nil {
		level = e.next.Book.Rulebook.LevelName(e.next.At(q.device, now).Result.Level)
	}
	v := e.gates.Evaluate(q.Request, now)
	outcome := v.Outcome
	if s.sameAs(v) && e.of.same(e.next, s, now) && !revoked || !e.of.claim(s) {
		return
	}
	e.ended = append(e.ended, s)
	e.change.Batch.Entries = append(e.change.Batch.Entries, s.ends(by.Actor, now, level, outcome, by.Kind)...)
}

// Done makes the end of sessions seen, now that the change is, or takes it back
// when the change could not be recorded. It reports whether there are sessions to be
// looked at again: those that were begun while the change was on its way.
func (e *ending) Done(err error) bool {
	if err != nil {
		e.of.release(e.ended)
		e.of.lookAgain(e.looked...)
		return false
	}
	for _, s := range e.ended {
		e.of.remove(s)
	}
	if list := slices.DeleteFunc(slices.Clone(e.ended), func(s *Session) bool { return !s.joins() }); e.of.watch != nil &&
		len(list) > 0 {
		e.of.watch.Ended(list)
	}
	if len(e.change.Revoked) > 0 {
		e.of.noteRevoked(e.change.Revoked, e.change.Now)
	}
	if e.change.Redacts != "" {
		e.of.forget(e.change.Redacts)
	}
	if e.of.count() == e.begun {
		return false
	}
	var again []recheck
	for s, by := range e.atStake() {
		if s.number > e.begun && !s.restsOn(e.next) {
			again = append(again, recheck{s, by, false})
		}
	}
	for s, by := range e.of.revoked(e.change) { // begun while the change was on its way: it is revoked too
		if s.number > e.begun {
			again = append(again, recheck{s, by, true})
		}
	}
	e.of.lookAgain(again...)
	return len(again) > 0
}

// recheck is a session that was begun while what it was decided from changed, and
// what changed that.
type recheck struct {
	*Session
	by      state.Cause
	revoked bool
}

// lookAgain notes sessions that the next change is to look at.
func (l *sessions) lookAgain(list ...recheck) {
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

// Kept is a session as it is kept, whether or not its allow still holds.
type Kept struct {
	*Session
	Asked  *access.Evaluation
	Allows int // that may be relied on and end with it, its own among them
}

// Kept lists every session that is kept. Of one whose question would be answered
// otherwise by now the end is on its way.
func (s *Service) Kept() []Kept {
	now, out := s.Micros(), []Kept{}
	for _, x := range s.sessions.all(now) {
		out = append(out, Kept{x, x.asked, len(x.relied(now))})
	}
	return out
}

// Sessions lists the allows that may still be relied on, the newest first.
func (s *Service) Sessions(person, device, resource string) []api.LiveSession {
	snap, now := s.Snapshot(), s.Micros()
	out := []api.LiveSession{}
	for _, x := range s.sessions.all(now) {
		if (person == "" || x.Person == person) && (device == "" || x.Device == device) &&
			(resource == "" || x.Resource == resource) && s.sessions.holds(snap, x, now) {
			out = append(out, x.LiveSession)
		}
	}
	slices.SortFunc(out, func(a, b api.LiveSession) int {
		return cmp.Or(strings.Compare(b.Decision, a.Decision), strings.Compare(a.Person, b.Person))
	})
	return out
}

// EndSessions ends all sessions of a device, of a person, of a resource, or of what is all that is said, by hand:
// those that there are, and allows that are on their way. It returns how many there were. Who asks anew is answered
// anew.
func (s *Service) EndSessions(ctx context.Context, actor, device, person, resource, reason string) (int, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return 0, err
	}
	if device == "" && person == "" && resource == "" {
		return 0, fault.Input("", "say whose sessions end: device, person or resource")
	}
	n := 0
	err := s.Do(ctx, func(c *state.Change) error {
		if device != "" {
			known := c.Device(c.Resolve(device))
			if known == nil {
				return fault.NotFound("device", device)
			}
			device = known.ID
		}
		n = len(s.Sessions(person, device, resource))
		c.Record(actor, &event.SessionsEnded{Device: device, Person: person, Resource: resource, Reason: reason})
		c.Revoked = append(c.Revoked, state.Revocation{Device: device, Person: person, Resource: resource,
			By: state.Cause{Kind: event.ByOrder, Actor: actor}})
		return nil
	})
	return n, err
}

// restoreSessions finds the allows that still may be relied on in the ledger. Each
// counts only if its entry, and all that came after it, are in the signed tree: an
// end that was hidden would bring it back.
func (s *Service) restoreSessions(ctx context.Context) error {
	snap, now := s.Snapshot(), s.Micros()
	longest := int64(0)
	for _, g := range snap.Book.Rulebook.Gates {
		longest = max(longest, g.ValidFor)
	}
	for _, n := range snap.Book.Rulebook.Networks {
		for _, g := range n.Grants {
			longest = max(longest, g.Session)
		}
	}
	first := int64(0)
	err := s.DecisionsSince(ctx, now-longest, func(e ledger.Entry) error {
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
	err = s.Store.ProvenAhead(ctx, first, func(e ledger.Entry) error {
		if e.Body == nil {
			return nil // redacted
		}
		switch e.Kind {
		case ledger.SessionEnded:
			s.sessions.end(e.About)
		case ledger.SignalReceived: // of an allow that was on its way to the disk then, no end is told
			if said, ok := event.As[*event.SignalReceived](&e); ok {
				s.sessions.noteRevoked([]state.Revocation{{Device: said.Device, Person: said.Person}}, e.At)
			}
		case ledger.SessionsEnded:
			if said, ok := event.As[*event.SessionsEnded](&e); ok {
				s.sessions.noteRevoked([]state.Revocation{{Device: said.Device, Person: said.Person,
					Resource: said.Resource}}, e.At)
			}
		case ledger.DecisionMade:
			return s.restoreAllow(snap, &e, now)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, x := range s.sessions.all(now) {
		s.sessions.lookAgain(recheck{Session: x, by: state.Cause{Kind: event.ByRestart, Actor: ledger.Clock}})
	}
	return nil
}

// restoreAllow begins the session of a decision again, if it may still be relied on.
func (s *Service) restoreAllow(snap *state.Snapshot, e *ledger.Entry, now int64) error {
	made, err := event.Read(e)
	if err != nil {
		return err
	}
	a := made.(*event.DecisionMade)
	if a.ID = e.About; a.Decision == nil || a.Asked == nil {
		return nil
	}
	decided, err := value.ParseTime(a.At)
	if err != nil {
		return err
	}
	if a.Outcome != access.Allow {
		// An allow that it ended, it ended by an entry of its own. One that was on its way to the disk at the
		// same time it did not end, and somebody may rely on that.
		return nil
	}
	x := s.sessions.begin(snap, e.Actor, a, nil, now)
	if x == nil {
		s.sessions.supersede(askingOf(e.Actor, a.Asked)) // a newer answer took its place
		return nil
	}
	if _, revoked := s.sessions.revokedSince(x, decided.Num()); revoked {
		s.sessions.supersede(x.key)
		return nil
	}
	x.book = nil // nobody knows whether it holds: see holds
	return nil
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
	snap, now := s.Snapshot(), s.Micros()
	if t := s.Store.Trouble(); t != nil { // what would end a session cannot be recorded
		return "", nil, t
	}
	if x := s.sessions.find(actor, e, now); x != nil && s.sessions.holds(snap, x, now) {
		return x.Decision, nil, nil
	}
	a, err := s.Decide(actor, e)
	if err != nil {
		return "", nil, err
	}
	if a.Outcome == access.Allow {
		return a.ID, nil, nil
	}
	return a.ID, a, nil
}

// Watch has somebody who lets devices into networks take part in what becomes of sessions.
type Watch interface {
	// Still reports whether a question about a network would be asked the same in a state: of the same device and
	// person. It must not wait.
	Still(snap *state.Snapshot, asked *access.Evaluation, now int64) bool
	// Ended is told of sessions of devices on networks once they have ended before their time, and everybody sees that.
	Ended(list []*Session)
}

// Watched has somebody watch sessions. It is called before the engine starts.
func (s *Service) Watched(by Watch) { s.sessions.watch = by }

// Relied is the decision by which an enforcer may rely on the answer to a question, "" for none, what it grants, and
// until when, in microseconds since the Unix epoch.
func (s *Service) Relied(actor string, e *access.Evaluation) (decision string, grant *access.Granted, until int64) {
	now := s.Micros()
	if x := s.sessions.find(actor, e, now); x != nil && s.sessions.holds(s.Snapshot(), x, now) {
		return x.Decision, x.grant, x.until
	}
	return "", nil, 0
}

// SessionCount is how many sessions there are; of some that have ended by themselves nobody may have taken notice yet.
func (s *Service) SessionCount() int {
	s.sessions.mu.Lock()
	defer s.sessions.mu.Unlock()
	return len(s.sessions.byKey)
}
