// Package radius is a server of RADIUS: it takes packets over UDP and TLS, lets none in that is not authentic, answers
// each once, and carries conversations of EAP-TLS. What is granted, its caller decides.
//
// Packets are those of layeh.com/radius; what this package adds is what RFC 2869, 3579, 5080, 5997 and 6614 ask of a
// server beside them.
package radius

import (
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"

	"ironledger.example/core/value"
)

// The errors for which a packet is dropped (RFC 2865, section 3; RFC 3579, section 3.2).
var (
	ErrUnknown   = errors.New("no access point is known at this address")
	ErrMalformed = errors.New("this is no packet of RADIUS")
	ErrForged    = errors.New("it was not made with the secret that was agreed")
	ErrUnsigned  = errors.New("it has no Message-Authenticator")
	ErrUnwanted  = errors.New("this kind of packet is not taken here")
	ErrBusy      = errors.New("too much comes at once")
)

// headLength is how many bytes stand before the attributes.
const headLength = 20

// zeros stands for the authenticator of requests that hash over none.
var zeros [16]byte

// read parses a packet and checks that it was made with a secret. signed asks for a Message-Authenticator where the
// packet may do without.
func read(raw, secret []byte, signed bool) (*radius.Packet, error) {
	if len(raw) < headLength {
		return nil, ErrMalformed
	}
	n := int(binary.BigEndian.Uint16(raw[2:]))
	if n < headLength || n > len(raw) || n > radius.MaxPacketLength {
		return nil, ErrMalformed
	}
	raw = raw[:n] // what stands behind is padding (RFC 2865, section 3)
	p, err := radius.Parse(raw, secret)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	over := p.Authenticator[:]
	switch p.Code {
	case radius.CodeAccessRequest, radius.CodeStatusServer:
		signed = true
	case radius.CodeAccountingRequest, radius.CodeCoARequest, radius.CodeDisconnectRequest:
		if over = zeros[:]; !radius.IsAuthenticRequest(raw, secret) {
			return nil, ErrForged
		}
	default:
		return nil, ErrUnwanted
	}
	return p, proven(raw, over, secret, signed)
}

// proven checks the Message-Authenticator of a packet (RFC 2869, section 5.14), computed with over for its
// authenticator.
func proven(raw, over, secret []byte, wanted bool) error {
	at := 0
	for i := headLength; i < len(raw); i += int(raw[i+1]) { // the attributes parsed, so their lengths fit
		if radius.Type(raw[i]) != rfc2869.MessageAuthenticator_Type {
			continue
		}
		if at != 0 || raw[i+1] != 2+md5.Size {
			return fmt.Errorf("%w: its Message-Authenticator has another form", ErrMalformed)
		}
		at = i + 2
	}
	if at == 0 {
		if wanted {
			return ErrUnsigned
		}
		return nil
	}
	if !hmac.Equal(raw[at:at+md5.Size], authenticator(raw, over, at, secret)) {
		return ErrForged
	}
	return nil
}

// authenticator is the Message-Authenticator of a packet in which it stands at a place.
func authenticator(raw, over []byte, at int, secret []byte) []byte {
	sum := hmac.New(md5.New, secret)
	sum.Write(raw[:4])
	sum.Write(over)
	sum.Write(raw[headLength:at])
	sum.Write(zeros[:])
	sum.Write(raw[at+md5.Size:])
	return sum.Sum(nil)
}

// encode writes a packet with a Message-Authenticator, which stands first: what is put before it by somebody in
// between cannot be hidden.
func encode(p *radius.Packet) ([]byte, error) {
	p.Attributes.Del(rfc2869.MessageAuthenticator_Type)
	first := &radius.AVP{Type: rfc2869.MessageAuthenticator_Type, Attribute: make([]byte, md5.Size)}
	p.Attributes = append(radius.Attributes{first}, p.Attributes...)
	raw, err := p.MarshalBinary()
	if err != nil {
		return nil, err
	}
	over := p.Authenticator[:]
	if p.Code == radius.CodeCoARequest || p.Code == radius.CodeDisconnectRequest || p.Code == radius.CodeAccountingRequest {
		over = zeros[:]
	}
	copy(first.Attribute, authenticator(raw, over, headLength+2, p.Secret))
	return p.Encode()
}

// Authentic checks the answer to a request that was sent as it is here. The error is that of a packet that is dropped.
func Authentic(raw, request, secret []byte) (*radius.Packet, error) {
	if len(raw) < headLength {
		return nil, ErrMalformed
	}
	n := int(binary.BigEndian.Uint16(raw[2:]))
	if n < headLength || n > len(raw) {
		return nil, ErrMalformed
	}
	raw = raw[:n]
	p, err := radius.Parse(raw, secret)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
	case raw[1] != request[1] || !radius.IsAuthenticResponse(raw, request, secret):
		return nil, ErrForged
	}
	err = proven(raw, request[4:headLength], secret, false)
	if err != nil && request[0] != byte(radius.CodeAccessRequest) {
		// Some hash over none in answers to what is no Access-Request; the answer is authentic all the same.
		err = proven(raw, zeros[:], secret, false)
	}
	return p, err
}

// Encode writes a request to an access point, with its Message-Authenticator.
func Encode(p *radius.Packet) ([]byte, error) { return encode(p) }

// Station is the hardware address of the device that a request is about, as [value.HardwareAddress] writes it; "" when
// it does not say, or says something else (RFC 2865, section 5.31; RFC 3580, section 3.21).
func Station(p *radius.Packet) string {
	return value.HardwareAddress(rfc2865.CallingStationID_GetString(p))
}

// Called tells the access point and the network that a device called: AA-BB-CC-DD-EE-FF:SSID (RFC 3580, section 3.20).
func Called(p *radius.Packet) (station, ssid string) {
	text := rfc2865.CalledStationID_GetString(p)
	if len(text) >= 17 {
		if mac := value.HardwareAddress(text[:17]); mac != "" {
			return mac, strings.TrimPrefix(text[17:], ":")
		}
	}
	return text, ""
}
