package network

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"time"

	libradius "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/rfc3576"

	"ironledger.example/core/access"
	"ironledger.example/core/event"
	"ironledger.example/core/value"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/radius"
	"ironledger.example/internal/state"
)

// tellers is how many access points are told at once.
const tellers = 32

// usualPort is where access points are told (RFC 5176, section 2.1).
const usualPort = 3799

// Ended implements [decision.Watch]: some may be those of devices on networks.
func (s *Service) Ended(list []*decision.Session) {
	gone := map[string]bool{}
	for _, x := range list {
		gone[x.Decision] = true
	}
	for id, x := range s.Snapshot().Stays.All() {
		if gone[x.Decision] {
			s.enqueue(id)
		}
	}
}

// enqueue has a stay looked at soon, once.
func (s *Service) enqueue(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.enqueueHeld(id)
}

// enqueueHeld does so for who holds the lock.
func (s *Service) enqueueHeld(id string) {
	if _, busy := s.busy[id]; busy || s.queued[id] {
		if busy {
			s.busy[id] = true
		}
		return
	}
	select {
	case s.work <- id:
		s.queued[id] = true
	default: // it is looked at in its turn
	}
}

// working looks at stays whose ground may be gone, until the service stops.
func (s *Service) working() {
	for {
		select {
		case id := <-s.work:
			s.mu.Lock()
			delete(s.queued, id)
			s.busy[id] = false
			s.mu.Unlock()
			release, ok := s.place(id)
			if !ok {
				continue
			}
			if err := s.settle(s.ctx, id); err != nil && s.ctx.Err() == nil {
				s.Log.Warn("a stay is not looked at", "stay", id, "error", err)
			}
			release()
			s.mu.Lock()
			again := s.busy[id]
			delete(s.busy, id)
			s.mu.Unlock()
			if again {
				s.enqueue(id)
			}
		case <-s.ctx.Done():
			return
		}
	}
}

// atOnePoint is how many stays at one access point are looked at at once, so that one that does not answer leaves others
// their place; one that did not answer last is tried with one. Who finds no place waits.
const atOnePoint = 4

// place takes a place for looking at a stay; false when it has to wait for one.
func (s *Service) place(id string) (release func(), ok bool) {
	x := s.Snapshot().Stays.Get(id)
	if x == nil {
		return func() {}, true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	most := atOnePoint
	if s.away[x.From] {
		most = 1
	}
	if s.telling[x.From] >= most {
		s.waiting[x.From] = append(s.waiting[x.From], id)
		return nil, false
	}
	s.telling[x.From]++
	return func() { s.release(x.From) }, true
}

// release gives a place at an access point back, to who waits for one.
func (s *Service) release(at netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.telling[at]--; s.telling[at] == 0 {
		delete(s.telling, at)
	}
	list := s.waiting[at]
	for n := min(len(list), atOnePoint); n > 0; n-- { // more than one, where it answers again
		delete(s.busy, list[0])
		s.enqueueHeld(list[0])
		list = list[1:]
	}
	if s.waiting[at] = list; len(list) == 0 {
		delete(s.waiting, at)
	}
}

// answers notes whether an access point answered.
func (s *Service) answers(at netip.Addr, does bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if does {
		delete(s.away, at)
	} else {
		s.away[at] = true
	}
}

// looking looks at all stays now and then: at those whose session is gone, as after a restart, at those of which an
// access point could not be told, and at those that are over.
func (s *Service) looking() {
	tick := time.NewTicker(s.timing.Look)
	defer tick.Stop()
	for {
		now := s.Micros()
		for id, x := range s.Snapshot().Stays.All() {
			if s.due(x, now) {
				s.enqueue(id)
			}
		}
		select {
		case <-tick.C:
		case <-s.ctx.Done():
			return
		}
	}
}

// due reports whether a stay is to be looked at.
func (s *Service) due(x *kept.Stay, now int64) bool {
	if x.Untold != 0 {
		return now-x.Untold >= int64(s.timing.Again/time.Microsecond)
	}
	if now >= x.Until {
		return now > x.Until+afterEnd // until then the access point ends it, or asks again, by itself
	}
	decision, grant, _ := s.decisions.Relied(actor(x.AccessPoint), x.Asked)
	return decision == "" || !grant.Same(x.Granted)
}

// settle looks at a stay: it ends what is over, and tells the access point when something else is granted.
func (s *Service) settle(ctx context.Context, id string) error {
	x := s.Snapshot().Stays.Get(id)
	if x == nil {
		return nil
	}
	now := s.Micros()
	if now > x.Until+afterEnd {
		if x.HeardAt > x.Until+leastStay { // it is said to be there, though its time is over
			s.fault(x.AccessPoint, "it lets devices stay for longer than it was told")
			return s.tell(ctx, x, nil, x.Decision, 0)
		}
		return s.drop(ctx, x)
	}
	if now >= x.Until && x.Untold == 0 {
		return nil // it ends, or asks again, by itself
	}
	if x.Untold != 0 && x.Granting == nil {
		return s.tell(ctx, x, nil, x.Decision, 0) // it has to leave, whatever is granted meanwhile
	}
	if s.Snapshot().Book.Rulebook.Network(x.Network) == nil { // whatever is allowed, nothing is granted
		return s.tell(ctx, x, nil, x.Decision, 0)
	}
	by, grant, until := s.decisions.Relied(actor(x.AccessPoint), x.Asked)
	if by != "" && grant.Same(x.Granted) && x.Untold == 0 {
		return s.follow(ctx, x, by)
	}
	if by == "" {
		asked := asIs(s.Snapshot(), x.Asked, now)
		if !x.Watched && x.Untold == 0 { // no session says when it ends: it is tried before it is answered again
			if a := s.decisions.Ask(asked); a.Outcome == access.Allow && a.Grant.Same(x.Granted) {
				return nil
			}
		}
		a, err := s.decisions.Decide(actor(x.AccessPoint), asked)
		if err != nil {
			return err
		}
		by, grant, until = a.ID, a.Grant, reliedUntil(a)
		y := *x
		y.Asked, y.Device, y.Level, y.Person = asked, a.Device, a.Level, ""
		if asked.Subject.Type == "user" {
			y.Person = asked.Subject.ID
		}
		x = &y
		if a.Outcome != access.Allow || grant.Same(x.Granted) && x.Untold == 0 {
			// Its session ended before its time, and it is granted the same: somebody ended it, or it is another's.
			return s.tell(ctx, x, nil, by, 0)
		}
	}
	if grant == nil { // a break-glass account for which nothing is granted
		grant = &access.Granted{}
	}
	return s.tell(ctx, x, grant, by, max(until, s.Micros()+leastStay))
}

// follow notes by which decision a stay goes on, if it is still the same.
func (s *Service) follow(ctx context.Context, x *kept.Stay, by string) error {
	if x.Decision == by {
		return nil
	}
	return s.Do(context.WithoutCancel(ctx), func(c *state.Change) error {
		now := state.Get(c, state.StayKind, x.ID)
		if now == nil || now.At != x.At {
			return nil
		}
		y := *now
		y.Decision = by
		return state.Put(c, state.StayKind, x.ID, &y)
	})
}

func (s *Service) drop(ctx context.Context, x *kept.Stay) error {
	return s.Do(context.WithoutCancel(ctx), func(c *state.Change) error {
		if now := state.Get(c, state.StayKind, x.ID); now != nil && now.At == x.At {
			state.Drop(c, state.StayKind, x.ID)
		}
		return nil
	})
}

// tell tells an access point what a device on a network is granted now, by a decision and until when; nil has it leave.
// One that does not take the change has it leave, and one that is not reached is told again.
func (s *Service) tell(ctx context.Context, x *kept.Stay, grant *access.Granted, by string, until int64) error {
	how, why := event.StayLeft, error(nil)
	if grant != nil {
		how = event.StayMoved
		why = s.request(ctx, x, libradius.CodeCoARequest, func(p *libradius.Packet) error {
			return cmp.Or(rfc2865.SessionTimeout_Set(p, rfc2865.SessionTimeout(seconds(until-s.Micros()))),
				rfc2865.TerminationAction_Set(p, rfc2865.TerminationAction_Value_RADIUSRequest), granted(p, grant))
		})
	}
	var refused *refusedError
	if grant == nil || errors.As(why, &refused) {
		if how, why = event.StayLeft, s.request(ctx, x, libradius.CodeDisconnectRequest, nil); errors.As(why, &refused) &&
			refused.cause == rfc3576.ErrorCause_Value_SessionContextNotFound {
			why = nil // it is not there
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return s.told(ctx, x, grant, by, until, how, why)
}

// told notes what became of telling an access point.
func (s *Service) told(ctx context.Context, x *kept.Stay, grant *access.Granted, by string, until int64, how string,
	why error) error {
	relied, _, _ := s.decisions.Relied(actor(x.AccessPoint), x.Asked)
	e := &event.StayChanged{Decision: by, AccessPoint: x.AccessPoint, Network: x.Network, Device: x.Device,
		Person: x.Person, Address: x.Address, From: briefly(x.Granted), To: briefly(grant), How: how}
	return s.Do(context.WithoutCancel(ctx), func(c *state.Change) error {
		now := state.Get(c, state.StayKind, x.ID)
		if now == nil || now.At != x.At { // it left, or proved itself again, meanwhile
			if why == nil {
				c.Record(actor(x.AccessPoint), e)
			}
			return nil
		}
		y := *now
		y.Decision, y.Asked, y.Device, y.Level, y.Person = by, x.Asked, x.Device, x.Level, x.Person
		switch {
		case why != nil:
			y.Granting, y.UntoldWhy = grant, why.Error()
			if again := y.Untold != 0; again {
				return state.Put(c, state.StayKind, x.ID, &y)
			}
			y.Untold = c.Now
			e.How, e.Why, e.Until = event.StayUntold, event.Clipped(why.Error(), event.MaxReason), value.FormatTime(y.Until)
		case how == event.StayLeft:
			state.Drop(c, state.StayKind, x.ID)
			c.Record(actor(x.AccessPoint), e)
			return nil
		default:
			y.Granted, y.Granting, y.Untold, y.UntoldWhy = grant, nil, 0, ""
			y.Until = until
			y.Watched, y.ToldAt = relied == by, c.Now
		}
		c.Record(actor(x.AccessPoint), e)
		return state.Put(c, state.StayKind, x.ID, &y)
	})
}

// briefly tells a grant, "" for none.
func briefly(g *access.Granted) string {
	if g == nil {
		return ""
	}
	return g.String()
}

// refusedError is an access point that does not do what it is told (RFC 5176, section 3.5).
type refusedError struct{ cause rfc3576.ErrorCause }

func (e *refusedError) Error() string { return "it refuses: " + e.cause.String() }

// request tells an access point something about a stay, and waits for its answer. The error is a [*refusedError], or
// says why it was not reached.
func (s *Service) request(ctx context.Context, x *kept.Stay, code libradius.Code,
	fill func(*libradius.Packet) error) error {
	a := s.Snapshot().AccessPoints.Get(x.AccessPoint)
	if a == nil {
		return errors.New("it is an access point of ours no more")
	}
	secret, err := radius.SecretOverTLS, error(nil)
	if len(a.Secret) > 0 {
		if secret, err = s.secretOf(a); err != nil {
			return err
		}
	}
	p := libradius.New(code, []byte(secret))
	errs := []error{rfc2865.UserName_SetString(p, plain(x.Name)),
		rfc2869.EventTimestamp_Set(p, s.Now())}
	if x.Address != "" {
		errs = append(errs, rfc2865.CallingStationID_SetString(p, stationText(x.Address)))
	}
	if x.Session != "" {
		errs = append(errs, rfc2866.AcctSessionID_SetString(p, x.Session))
	}
	if x.Port != "" {
		errs = append(errs, rfc2869.NASPortID_SetString(p, x.Port))
	}
	if fill != nil {
		errs = append(errs, fill(p))
	}
	if err := cmp.Or(errs...); err != nil {
		return err
	}
	answer, err := s.exchange(ctx, a, x.From, p)
	if s.answers(x.From, err == nil); err != nil {
		return err
	}
	if want := code + 1; answer.Code != want { // the ACK follows the request, and the NAK it
		if answer.Code != code+2 {
			return fmt.Errorf("it answers with %s", answer.Code)
		}
		return &refusedError{rfc3576.ErrorCause_Get(answer)}
	}
	return nil
}

// exchange sends a request and waits for the answer: over the access point's own connection where it came by TLS.
func (s *Service) exchange(ctx context.Context, a *kept.AccessPoint, to netip.Addr,
	p *libradius.Packet) (*libradius.Packet, error) {
	raw, err := radius.Encode(p)
	if err != nil {
		return nil, err
	}
	if len(a.Secret) == 0 {
		return s.server.Exchange(ctx, a.ID, to, raw, time.Duration(s.timing.Tries)*s.timing.Wait)
	}
	port := int(a.Told)
	if port == 0 {
		port = usualPort
	}
	where := net.JoinHostPort(to.String(), strconv.Itoa(port))
	conn, err := net.Dial("udp", where)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	buffer := make([]byte, libradius.MaxPacketLength)
	for try := range s.timing.Tries {
		if _, err = conn.Write(raw); err != nil {
			continue
		}
		if err = conn.SetReadDeadline(time.Now().Add(s.timing.Wait << try)); err != nil {
			return nil, err
		}
		for {
			var n int
			if n, err = conn.Read(buffer); err != nil {
				break
			}
			if answer, bad := radius.Authentic(buffer[:n], raw, p.Secret); bad == nil {
				return answer, nil
			}
			s.fault(a.ID, "it answers what it was told with a packet that was not made with its secret")
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		err = errors.New("it does not answer at " + where)
	}
	return nil, err
}

// stationText writes a hardware address as access points do (RFC 3580, section 3.21).
func stationText(address string) string {
	out := []byte(address)
	for i, b := range out {
		switch {
		case b == ':':
			out[i] = '-'
		case b >= 'a':
			out[i] = b - 'a' + 'A'
		}
	}
	return string(out)
}

// disconnect has an access point put out a device that nobody let in.
func (s *Service) disconnect(r *radius.Request, session string) {
	x := &kept.Stay{AccessPoint: r.Peer.ID, From: r.Peer.At, Address: radius.Station(r.Packet), Session: session,
		Name: rfc2865.UserName_GetString(r.Packet), Port: plain(portOf(r))}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx == nil || s.ctx.Err() != nil {
		return
	}
	select {
	case s.aside <- struct{}{}:
	default:
		return // it tells of it again
	}
	s.wg.Go(func() {
		defer func() { <-s.aside }()
		if err := s.request(s.ctx, x, libradius.CodeDisconnectRequest, nil); err != nil {
			s.Log.Warn("a device that nobody let in stays", "access_point", x.AccessPoint, "address", x.Address, "error", err)
		}
	})
}
