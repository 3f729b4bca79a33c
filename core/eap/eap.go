// Package eap reads and writes the packets of the Extensible Authentication Protocol (RFC 3748) and the fragments
// in which EAP-TLS carries TLS (RFC 5216, section 3; RFC 9190).
//
// Nothing here waits or keeps a connection: a [Reassembler] and a [Fragmenter] are one side's memory of one
// conversation, and have bounds.
package eap

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Code is what a packet is (RFC 3748, section 4).
type Code byte

// The codes.
const (
	Request  Code = 1
	Response Code = 2
	Success  Code = 3
	Failure  Code = 4
)

// Type is the method of a request or a response (RFC 3748, section 5).
type Type byte

// The types that are known here.
const (
	Identity     Type = 1
	Notification Type = 2
	Nak          Type = 3 // of the type that was asked for, with those that would do
	TLS          Type = 13
)

// MaxPacket bounds a packet, in bytes: what fits into the attributes of one packet of RADIUS.
const MaxPacket = 4096

// Packet is a packet. Success and Failure have neither type nor data.
type Packet struct {
	Code Code
	ID   byte // by which an answer is found
	Type Type
	Data []byte
}

// ErrMalformed is the error of a packet that is none.
var ErrMalformed = errors.New("this is no EAP packet")

func malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrMalformed, fmt.Sprintf(format, args...))
}

// Parse reads a packet. Data is a part of b. The error is an [ErrMalformed].
func Parse(b []byte) (Packet, error) {
	if len(b) < 4 || len(b) > MaxPacket {
		return Packet{}, malformed("it has %d bytes, and may have 4 to %d", len(b), MaxPacket)
	}
	p := Packet{Code: Code(b[0]), ID: b[1]}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n != len(b) { // padding is for links (section 4.1); attributes have none
		return Packet{}, malformed("it says that it has %d bytes, and has %d", n, len(b))
	}
	switch p.Code {
	case Success, Failure:
		if n != 4 {
			return Packet{}, malformed("an end of %d bytes", n)
		}
		return p, nil
	case Request, Response:
		if n < 5 {
			return Packet{}, malformed("it has no type")
		}
		p.Type, p.Data = Type(b[4]), b[5:]
		return p, nil
	}
	return Packet{}, malformed("the code %d", p.Code)
}

// Append appends a packet as it is sent.
func (p Packet) Append(b []byte) []byte {
	n := 4
	if p.Code == Request || p.Code == Response {
		n = 5 + len(p.Data)
	}
	b = append(b, byte(p.Code), p.ID, byte(n>>8), byte(n))
	if n > 4 {
		b = append(append(b, byte(p.Type)), p.Data...)
	}
	return b
}

// The flags of a packet of EAP-TLS (RFC 5216, section 3.1).
const (
	flagLength = 0x80 // the length of the whole message follows
	flagMore   = 0x40 // fragments follow
	flagStart  = 0x20
)

// Start is the data of the request that begins a conversation (RFC 5216, section 2.1.1).
func Start() []byte { return []byte{flagStart} }

// MaxMessage bounds a message of TLS in fragments, in bytes: certificates with their authorities are far smaller.
const MaxMessage = 64 << 10

// Fragment is what the data of one packet of EAP-TLS says.
type Fragment struct {
	More  bool
	Start bool
	Total int // the length of the whole message; 0: not said
	Data  []byte
}

// ParseFragment reads the data of a packet of the type [TLS]. The error is an [ErrMalformed].
func ParseFragment(data []byte) (f Fragment, err error) {
	if len(data) == 0 {
		return f, malformed("a packet of EAP-TLS has flags")
	}
	flags, rest := data[0], data[1:]
	f.More, f.Start = flags&flagMore != 0, flags&flagStart != 0
	if flags&flagLength != 0 {
		if len(rest) < 4 {
			return f, malformed("the length of the message is cut")
		}
		total := binary.BigEndian.Uint32(rest)
		if total > MaxMessage {
			return f, malformed("a message of %d bytes, and at most %d are taken", total, MaxMessage)
		}
		f.Total, rest = int(total), rest[4:]
	}
	f.Data = rest
	return f, nil
}

// Reassembler joins the fragments of a message. Its zero value waits for the first.
type Reassembler struct {
	have  []byte
	total int
}

// Add takes a fragment. It returns the message once it is whole, and nil while more is to come, for which the
// sender waits for an empty packet. The error is an [ErrMalformed]: the conversation is over.
func (r *Reassembler) Add(f Fragment) (message []byte, err error) {
	first := r.have == nil
	switch {
	case f.Start:
		return nil, malformed("whom one asks does not start")
	case f.Total != 0 && !first && f.Total != r.total:
		return nil, malformed("a message of %d bytes became one of %d", r.total, f.Total)
	case f.More && len(f.Data) == 0:
		return nil, malformed("a fragment of nothing")
	case first && f.More && f.Total == 0:
		return nil, malformed("the first fragment does not say how long the message is")
	}
	if first {
		r.total, r.have = f.Total, make([]byte, 0, max(f.Total, len(f.Data)))
	}
	r.have = append(r.have, f.Data...)
	if len(r.have) > MaxMessage || r.total != 0 && len(r.have) > r.total {
		return nil, malformed("the fragments are longer than the message")
	}
	if f.More {
		return nil, nil
	}
	if r.total != 0 && len(r.have) != r.total {
		return nil, malformed("a message of %d bytes ends after %d", r.total, len(r.have))
	}
	message, *r = r.have, Reassembler{}
	return message, nil
}

// Waits reports whether more fragments are to come.
func (r *Reassembler) Waits() bool { return r.have != nil }

// Fragmenter cuts messages into the data of packets. Its zero value has nothing to send.
type Fragmenter struct {
	rest  []byte
	total int // of the message of which nothing was sent yet; else 0
}

// Send begins a message.
func (f *Fragmenter) Send(message []byte) { f.rest, f.total = message, len(message) }

// Pending reports whether there is more to send.
func (f *Fragmenter) Pending() bool { return len(f.rest) > 0 }

// Next is the data of the next packet: at most size bytes, which is 16 at least.
func (f *Fragmenter) Next(size int) []byte {
	out := []byte{0}
	room := max(size, 16) - 1
	if len(f.rest) > room && f.total > 0 { // the first of several says how long all are
		out[0] |= flagLength
		out = binary.BigEndian.AppendUint32(out, uint32(f.total))
		room -= 4
	}
	f.total = 0
	n := min(room, len(f.rest))
	out = append(out, f.rest[:n]...)
	if f.rest = f.rest[n:]; len(f.rest) > 0 {
		out[0] |= flagMore
	}
	return out
}
