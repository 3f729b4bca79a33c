package radius

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"sync"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/vendors/microsoft"

	"ironledger.example/core/eap"
)

// Bounds of conversations.
const (
	conversationLives = 30 * time.Second
	maxRounds         = 100
	maxConversations  = 4096
	maxOfOnePeer      = 1024
	stepTakes         = 5 * time.Second
	leastFragment     = 64
	usualFragment     = 1020 // of a link that does not say (RFC 3579, section 2.4)
	mostFragment      = 1400
)

// Admission is what was decided of who proved something.
type Admission interface {
	// Allowed reports whether it admits.
	Allowed() bool
	// Answer is the Access-Accept or Access-Reject for it. It is asked for once, when the conversation is over, and may
	// have become a rejection meanwhile.
	Answer(ctx context.Context, r *Request) *radius.Packet
}

// Conversations carries EAP-TLS. Its fields are set before it is used.
type Conversations struct {
	TLS func() *tls.Config
	// Decide is asked once for each conversation in which a device proved something; nil when nothing can be decided.
	Decide func(ctx context.Context, r *Request, p Proved) Admission
	// Refused is told of conversations that end before anything was decided.
	Refused func(r *Request, why string)
	Now     func() time.Time

	mu  sync.Mutex
	all map[[16]byte]*conversation
	of  map[string]int // by peer
	by  map[string]*conversation
}

// conversation is one device that proves itself.
type conversation struct {
	state    [16]byte
	peer     string
	key      string // of the station at its access point
	station  string // as Calling-Station-Id had it when it began
	called   string
	identity string
	born     time.Time

	mu       sync.Mutex // held while a packet is answered
	tls      *handshake
	in       eap.Reassembler
	out      eap.Fragmenter
	last     byte // the id of the request that was sent last
	rounds   int
	decided  Admission
	failed   string // why it ends with a failure once the device has heard TLS out; "" while it does not
	finished bool
}

// Answer answers an Access-Request that carries EAP; nil for silence.
func (c *Conversations) Answer(ctx context.Context, r *Request) *radius.Packet {
	message := rfc2869.EAPMessage_Get(r.Packet)
	p, err := eap.Parse(message)
	if err != nil || p.Code != eap.Response {
		c.Refused(r, "its EAP cannot be read")
		return nil // RFC 3748, section 4: silently
	}
	state := rfc2865.State_Get(r.Packet)
	if len(state) == 0 {
		if p.Type != eap.Identity {
			return nil
		}
		return c.begin(r, p)
	}
	t := c.find(r, state)
	if t == nil {
		c.Refused(r, "its conversation is over, or is that of another")
		return reject(r, p.ID, "")
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if p.ID != t.last || t.finished {
		return nil // an old answer, or one that was guessed
	}
	if t.rounds++; t.rounds > maxRounds {
		return c.end(t, r, p.ID, "the conversation does not end")
	}
	ctx, cancel := context.WithTimeout(ctx, stepTakes)
	defer cancel()
	switch p.Type {
	case eap.Nak:
		return c.end(t, r, p.ID, "the device cannot prove itself by a certificate (EAP-TLS)")
	case eap.TLS:
		return c.goOn(ctx, t, r, p)
	}
	return c.end(t, r, p.ID, "the device answers something else than it was asked")
}

// begin starts a conversation: a station has one at most.
func (c *Conversations) begin(r *Request, p eap.Packet) *radius.Packet {
	t := &conversation{peer: r.Peer.ID, station: rfc2865.CallingStationID_GetString(r.Packet),
		called: rfc2865.CalledStationID_GetString(r.Packet), identity: string(p.Data), born: c.Now(), last: p.ID + 1}
	if len(t.identity) > 253 {
		c.Refused(r, "its identity is too long")
		return reject(r, p.ID, "")
	}
	rand.Read(t.state[:])
	if !c.add(t, r.Peer.At.String()) {
		c.Refused(r, ErrBusy.Error())
		return nil
	}
	return challenge(t, r, eap.Packet{Code: eap.Request, ID: t.last, Type: eap.TLS, Data: eap.Start()})
}

func (c *Conversations) add(t *conversation, at string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == nil {
		c.all, c.of, c.by = map[[16]byte]*conversation{}, map[string]int{}, map[string]*conversation{}
	}
	if t.key = at + " " + t.station; t.station == "" {
		t.key = string(t.state[:])
	}
	if old := c.by[t.key]; old != nil {
		c.remove(old)
	}
	if len(c.all) >= maxConversations || c.of[t.peer] >= maxOfOnePeer {
		for _, old := range c.all {
			if c.Now().Sub(old.born) > conversationLives {
				c.remove(old)
			}
		}
		if len(c.all) >= maxConversations || c.of[t.peer] >= maxOfOnePeer {
			return false
		}
	}
	c.all[t.state], c.by[t.key] = t, t
	c.of[t.peer]++
	time.AfterFunc(conversationLives, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.remove(t)
	})
	return true
}

// remove forgets a conversation. The caller holds the lock.
func (c *Conversations) remove(t *conversation) {
	if c.all[t.state] != t {
		return
	}
	delete(c.all, t.state)
	if c.by[t.key] == t {
		delete(c.by, t.key)
	}
	if c.of[t.peer]--; c.of[t.peer] == 0 {
		delete(c.of, t.peer)
	}
	if t.tls != nil {
		t.tls.Close()
	}
}

// find is the conversation of a state, for the access point and the station with which it began.
func (c *Conversations) find(r *Request, state []byte) *conversation {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(state) != 16 {
		return nil
	}
	t := c.all[[16]byte(state)]
	if t == nil || t.peer != r.Peer.ID || t.station != rfc2865.CallingStationID_GetString(r.Packet) ||
		t.called != rfc2865.CalledStationID_GetString(r.Packet) || c.Now().Sub(t.born) > conversationLives {
		return nil
	}
	return t
}

// goOn takes a packet of EAP-TLS.
func (c *Conversations) goOn(ctx context.Context, t *conversation, r *Request, p eap.Packet) *radius.Packet {
	f, err := eap.ParseFragment(p.Data)
	var message []byte
	if err == nil {
		message, err = t.in.Add(f)
	}
	switch {
	case err != nil:
		return c.end(t, r, p.ID, err.Error())
	case message == nil: // more is to come: an empty packet asks for it
		return c.ask(t, r, []byte{0})
	case t.out.Pending() && len(message) == 0:
		return c.say(t, r)
	case t.out.Pending():
		return c.end(t, r, p.ID, "the device speaks while it is spoken to")
	case t.failed != "":
		return c.end(t, r, p.ID, t.failed)
	case t.decided != nil:
		if len(message) > 0 { // an alert, as when it does not trust us
			return c.end(t, r, p.ID, "the device goes on behind the end")
		}
		return c.finish(ctx, t, r, p.ID)
	case len(message) == 0:
		return c.end(t, r, p.ID, "the device says nothing")
	}
	if t.tls == nil && !c.speak(t) {
		return c.end(t, r, p.ID, "the conversation took too long")
	}
	out, done, err := t.tls.step(ctx, message)
	switch {
	case err != nil:
		if t.failed = "TLS: " + err.Error(); len(out) == 0 {
			return c.end(t, r, p.ID, t.failed)
		}
	case done:
		t.decided = c.Decide(ctx, r, Proved{Certificate: t.tls.certificate(), Identity: t.identity, Station: Station(r.Packet)})
		if t.decided == nil {
			c.close(t)
			return nil // it is to be asked again
		}
		if !t.decided.Allowed() {
			return c.finish(ctx, t, r, p.ID)
		}
		more, err := t.tls.commit()
		if err != nil {
			return c.end(t, r, p.ID, "TLS: "+err.Error())
		}
		out = append(out, more...)
	}
	t.out.Send(out)
	return c.say(t, r)
}

// speak begins TLS; false when the conversation was given up meanwhile.
func (c *Conversations) speak(t *conversation) bool {
	h := newHandshake(c.TLS())
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all[t.state] != t {
		h.Close()
		return false
	}
	t.tls = h
	return true
}

// say sends the next fragment of what is said.
func (c *Conversations) say(t *conversation, r *Request) *radius.Packet {
	size := usualFragment
	if mtu, err := rfc2865.FramedMTU_Lookup(r.Packet); err == nil {
		size = int(mtu) - 4 // what EAP over a LAN has before it
	}
	return c.ask(t, r, t.out.Next(min(max(size, leastFragment), mostFragment)))
}

// ask sends the next request.
func (c *Conversations) ask(t *conversation, r *Request, data []byte) *radius.Packet {
	t.last++
	return challenge(t, r, eap.Packet{Code: eap.Request, ID: t.last, Type: eap.TLS, Data: data})
}

func challenge(t *conversation, r *Request, p eap.Packet) *radius.Packet {
	out := r.Response(radius.CodeAccessChallenge)
	_ = rfc2865.State_Set(out, t.state[:])         // 16 bytes fit
	_ = rfc2869.EAPMessage_Set(out, p.Append(nil)) // it is cut into attributes
	_ = rfc2865.SessionTimeout_Set(out, 30)        // how long the device may think (RFC 3579, section 2.6.4)
	return out
}

// finish answers with what was decided: with the keys for the link when that admits.
func (c *Conversations) finish(ctx context.Context, t *conversation, r *Request, id byte) *radius.Packet {
	c.close(t)
	out := t.decided.Answer(ctx, r)
	if out == nil {
		return nil
	}
	end := eap.Packet{Code: eap.Failure, ID: id}
	if out.Code == radius.CodeAccessAccept {
		end.Code = eap.Success
		if microsoft.MSMPPERecvKey_Set(out, t.tls.keys.Receive) != nil ||
			microsoft.MSMPPESendKey_Set(out, t.tls.keys.Send) != nil {
			return nil
		}
	}
	_ = rfc2869.EAPMessage_Set(out, end.Append(nil))
	return out
}

// end ends a conversation in which nothing was decided.
func (c *Conversations) end(t *conversation, r *Request, id byte, why string) *radius.Packet {
	c.close(t)
	c.Refused(r, why)
	return reject(r, id, "")
}

func (c *Conversations) close(t *conversation) {
	t.finished = true
	c.mu.Lock()
	defer c.mu.Unlock()
	c.remove(t)
}

// reject is an Access-Reject with a failure of EAP.
func reject(r *Request, id byte, message string) *radius.Packet {
	out := r.Response(radius.CodeAccessReject)
	_ = rfc2869.EAPMessage_Set(out, eap.Packet{Code: eap.Failure, ID: id}.Append(nil))
	if message != "" {
		_ = rfc2865.ReplyMessage_SetString(out, message)
	}
	return out
}
