package stream

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"hash/fnv"
	"strconv"
	"strings"
	"sync"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/signal"
	"ironledger.example/internal/kept"
)

// Bounds on what is told at once.
const (
	window = 4096 // events made and not acknowledged
	chunk  = 256  // entries read at a time
	lanes  = 8    // events sent at once; those of one device one after another
)

// item is an event that was made for a receiver and that it has not acknowledged.
type item struct {
	seq    int64 // the place of the stream lies before it until it is acknowledged
	entry  int64 // that it is made of; of an event of ours about the stream, seq
	jti    string
	signal signal.Signal
	made   time.Time
	acked  bool
	letter bool // whether it was given up before

	tries int       // how often it was sent in vain
	first time.Time // when it was sent first

	// The event as it was signed for its receiver, and when.
	signing sync.Mutex
	token   string
	signed  time.Time
}

// Failure is what went wrong with a stream last.
type Failure struct {
	At      time.Time
	Message string
}

// sender tells one stream.
type sender struct {
	service *Service
	id      string
	push    bool
	hook    bool // whether it tells a web hook, by CloudEvents
	cancel  context.CancelFunc

	mu      sync.Mutex
	read    int64 // entries up to this one have become items
	items   []*item
	byID    map[string]*item
	lanes   [lanes][]*item
	grown   chan struct{} // closed when there is more, and made anew
	counts  Counts
	failure *Failure
	refused int     // events that the receiver refused, one after another
	made    *giving // what the receiver was given when the items were made
	done    chan struct{}
}

// Counts are what became of the events of a stream since the service started.
type Counts struct {
	Delivered, Refused int64
	Last               time.Time // when the newest was acknowledged
}

func newSender(s *Service, st *kept.Stream, place int64, cancel context.CancelFunc) *sender {
	return &sender{service: s, id: st.ID, push: st.Endpoint != "", hook: st.Form == rulebook.CloudForm,
		cancel: cancel, read: place,
		byID: map[string]*item{}, grown: make(chan struct{}), done: make(chan struct{})}
}

// inherit takes over what is told of a stream from the sender before.
func (x *sender) inherit(old *sender) {
	old.mu.Lock()
	counts, failure := old.counts, old.failure
	old.mu.Unlock()
	x.mu.Lock()
	x.counts, x.failure = counts, failure
	x.mu.Unlock()
}

// end stops telling. What is on its way may still arrive, and come again.
func (x *sender) end() {
	x.cancel()
	<-x.done
	x.mu.Lock()
	x.wake() // whoever waits for events finds the sender that takes its place
	x.mu.Unlock()
}

// place is the entry up to which all has been acknowledged.
func (x *sender) place() int64 {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.items) > 0 {
		return min(x.read, x.items[0].seq-1)
	}
	return x.read
}

// wake tells whoever waits that there is more. The caller holds the lock.
func (x *sender) wake() {
	close(x.grown)
	x.grown = make(chan struct{})
}

// run makes events of entries as they come, until ctx ends.
func (x *sender) run(ctx context.Context) {
	var sending sync.WaitGroup
	if x.push {
		for lane := range lanes {
			sending.Go(func() { x.sendLane(ctx, lane) })
		}
	}
	defer close(x.done)
	defer sending.Wait()
	for ctx.Err() == nil {
		if err := x.fill(ctx); err != nil && ctx.Err() == nil {
			if !errors.Is(err, errPaused) {
				x.fail(err)
				x.service.Log.Error("a stream cannot go on", "stream", x.id, "error", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(retryFill):
			}
		}
	}
}

// retryFill is how long a stream that cannot go on, or has nothing to tell, waits before
// it looks again.
const retryFill = 5 * time.Second

// fill waits for entries behind those that were read, and makes events of them.
func (x *sender) fill(ctx context.Context) error {
	x.mu.Lock()
	read, full, grown := x.read, len(x.items) >= window, x.grown
	x.mu.Unlock()
	if full {
		select {
		case <-grown:
		case <-time.After(retryFill): // or the receiver is given something else
		case <-ctx.Done():
		}
		_, _, err := x.given()
		return err
	}
	// Not for ever: what waits may have to be made again, from further back.
	wait, cancel := context.WithTimeout(ctx, retryFill)
	size := x.service.Follow(wait, read)
	cancel()
	if size <= read || ctx.Err() != nil {
		return ctx.Err()
	}
	to := min(read+chunk, size)
	entries, err := x.service.news.Between(ctx, read+1, to)
	if err != nil {
		return err
	}
	st, given, err := x.given()
	if err != nil {
		return err
	}
	var made []*item
	for i := range entries {
		e := &entries[i]
		what, err := happened(e, given)
		if err != nil {
			return err
		}
		for _, sig := range given.Of(what, e.At) {
			if st.Hears(sig.Device, sig.Person) {
				made = append(made, &item{seq: e.Seq, entry: e.Seq, jti: jtiOf(x.id, e.Seq, sig.Type), signal: sig,
					made: x.service.Now()})
			}
		}
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.read != read { // the events before are made anew
		return nil
	}
	x.read = to
	if len(made) > 0 {
		x.add(made...)
	}
	return nil
}

// happened is what an entry says, as far as receivers hear of it. Of one whose body was
// redacted before they did, they hear how the device stands now, as if it had fallen from
// the top; or that the session ended.
func happened(e *ledger.Entry, g *signal.Given) (event.Event, error) {
	switch {
	case e.Body != nil:
		return event.Read(e)
	case e.Kind == ledger.StatementRevoked:
		return &event.StatementRevoked{Device: e.About, Cause: event.ByStanding}, nil
	case e.Kind != ledger.StandingChanged && e.Kind != ledger.SessionEnded:
		return &event.SessionEnded{}, nil // what it said is gone
	case e.Kind == ledger.SessionEnded:
		return &event.SessionEnded{Decision: e.About, Cause: event.ByStanding}, nil
	}
	top := g.Rulebook.LevelName(g.Rulebook.Top())
	level := g.Directory.Level(e.About)
	if level == "" {
		return &event.SessionEnded{}, nil // it is gone; nothing is told of nothing
	}
	return &event.StandingChanged{Device: e.About, From: top, To: level, Cause: event.ByRestart}, nil
}

// giving is what a receiver is given, as far as events that were made depend on it.
type giving struct {
	events, when   string
	device, person string
	compliant      rulebook.Level
}

// given is the stream and what its receiver is given now. The error is for a stream that
// may tell nothing. Events that were made for something else are made again.
func (x *sender) given() (*kept.Stream, *signal.Given, error) {
	snap := x.service.Snapshot()
	st := snap.Streams.Get(x.id)
	if st == nil || st.Status != kept.StreamEnabled {
		return nil, nil, errPaused // whoever changes that begins anew
	}
	g, err := x.service.given(snap, st)
	if err != nil {
		return nil, nil, err
	}
	x.remade(g)
	return st, g, nil
}

// remade drops the events that wait when the receiver is given something else than when
// they were made: they are made again from the place of the stream. It must not get what
// it may not have any more.
func (x *sender) remade(g *signal.Given) {
	now := giving{strings.Join(g.Events, " "), "", g.Device, g.Person, g.CompliantFrom}
	if g.When != nil {
		now.when = g.When.String()
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.made == nil || *x.made == now {
		x.made = &now
		return
	}
	x.made = &now
	if len(x.items) == 0 {
		return
	}
	x.read, x.items, x.byID, x.lanes = x.items[0].seq-1, nil, map[string]*item{}, [lanes][]*item{}
	x.wake()
}

// current reports whether an event is still one of those that wait.
func (x *sender) current(it *item) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.byID[it.jti] == it
}

// add appends events to those that wait. The caller holds the lock.
func (x *sender) add(made ...*item) {
	for _, it := range made {
		x.items = append(x.items, it)
		x.byID[it.jti] = it
		if x.push {
			lane := laneOf(it.signal.Device + "\n" + it.signal.Person)
			x.lanes[lane] = append(x.lanes[lane], it)
		}
	}
	x.wake()
}

// laneOf parts events so that those about one thing stay in order.
func laneOf(about string) int {
	h := fnv.New32a()
	h.Write([]byte(about))
	return int(h.Sum32() % lanes)
}

// jtiOf names an event: the same each time it is made of its entry. A command line takes it: it
// does not begin as a flag does.
func jtiOf(stream string, seq int64, typ string) string {
	sum := sha256.Sum256([]byte(stream + "\n" + strconv.FormatInt(seq, 10) + "\n" + typ))
	name := base64.RawURLEncoding.EncodeToString(sum[:18])
	if rest, dashed := strings.CutPrefix(name, "-"); dashed {
		return undashed + rest
	}
	return name
}

// undashed stands for a dash at the beginning of the name of an event.
const undashed = "."

// named reports whether a kept letter is about the event of a name, as events are named now or were before.
func named(l *kept.Letter, jti string) bool {
	rest, undashed := strings.CutPrefix(jti, undashed)
	return l.JTI == jti || undashed && l.JTI == "-"+rest
}

// note puts an event about the stream itself behind those that wait.
func (x *sender) note(sig signal.Signal, jti string) *item {
	x.mu.Lock()
	defer x.mu.Unlock()
	it := &item{seq: x.read + 1, entry: x.read + 1, jti: jti, signal: sig, made: x.service.Now()}
	x.add(it)
	return it
}

// acknowledge takes an event as told, or refused. It reports whether it waited.
func (x *sender) acknowledge(jti string, refusal string) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	it := x.byID[jti]
	if it == nil || it.acked {
		return false
	}
	it.acked = true
	delete(x.byID, jti)
	if refusal == "" {
		x.counts.Delivered++
		x.counts.Last, x.failure, x.refused = x.service.Now(), nil, 0
	} else {
		x.counts.Refused++
		x.refused++
		x.failure = &Failure{x.service.Now(), refusal}
	}
	n := 0
	for n < len(x.items) && x.items[n].acked {
		n++
	}
	if n > 0 {
		x.items = append(x.items[:0:0], x.items[n:]...)
		x.wake()
	}
	return true
}

// fail notes what went wrong.
func (x *sender) fail(err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.failure = &Failure{x.service.Now(), err.Error()}
}

// claims are those of an event (RFC 8417, section 2.2; SSF 1.0, section 4).
type claims struct {
	Issuer   string          `json:"iss"`
	ID       string          `json:"jti"`
	IssuedAt int64           `json:"iat"`
	Audience string          `json:"aud"`
	Txn      string          `json:"txn"`
	Subject  *signal.Subject `json:"sub_id"`
	Events   map[string]any  `json:"events"`
}

// signAgain is how long a signature is used: the key must be in the set long after.
const signAgain = 24 * time.Hour

// sign makes the token of an event. It may be asked for again and again.
func (x *sender) sign(it *item, audience string) (token string, err error) {
	it.signing.Lock()
	defer it.signing.Unlock()
	if now := x.service.Now(); it.token == "" || now.Sub(it.signed) > signAgain {
		if it.token, err = x.tokenOf(it, audience); err == nil {
			it.signed = now
		}
	}
	return it.token, err
}

func (x *sender) tokenOf(it *item, audience string) (string, error) {
	signer, err := x.service.keys.signer(eventType, x.service.Now())
	if err != nil {
		return "", err
	}
	raw, err := json.Marshal(claims{x.service.Issuer(), it.jti, it.made.Unix(), audience,
		jtiOf(x.id, it.entry, "txn"), it.signal.Subject, map[string]any{it.signal.Type: it.signal.Payload}})
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(raw)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}
