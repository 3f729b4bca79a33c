package eap

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"testing"
)

func TestPacketsAreReadAsTheyAreWritten(t *testing.T) {
	for _, p := range []Packet{{Code: Success, ID: 3}, {Code: Failure, ID: 255},
		{Code: Request, ID: 1, Type: TLS, Data: Start()}, {Code: Response, ID: 0, Type: Identity, Data: []byte("maren")},
		{Code: Response, ID: 9, Type: Nak, Data: []byte{}}} {
		b := p.Append(nil)
		got, err := Parse(b)
		if err != nil || got.Code != p.Code || got.ID != p.ID || got.Type != p.Type || !bytes.Equal(got.Data, p.Data) {
			t.Errorf("%+v is read as %+v (%v)", p, got, err)
		}
		for n := range b {
			if _, err := Parse(b[:n]); !errors.Is(err, ErrMalformed) {
				t.Errorf("%+v, cut after %d bytes: %v", p, n, err)
			}
		}
		if _, err := Parse(append(bytes.Clone(b), 0)); !errors.Is(err, ErrMalformed) {
			t.Errorf("%+v with a byte behind it: %v", p, err)
		}
	}
	for name, b := range map[string][]byte{"no code": {7, 1, 0, 4}, "a success with a type": {3, 1, 0, 5, 1},
		"no type": {1, 1, 0, 4}, "too long": make([]byte, MaxPacket+1)} {
		if _, err := Parse(b); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestMessagesGoThroughFragments(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		message := make([]byte, 1+r.IntN(6000))
		for i := range message {
			message[i] = byte(r.Uint32())
		}
		var out Fragmenter
		var in Reassembler
		var got []byte
		size, packets := 16+r.IntN(1500), 0
		for out.Send(message); got == nil; packets++ {
			data := out.Next(size)
			if len(data) > size {
				t.Fatalf("a packet of %d bytes, and %d fit", len(data), size)
			}
			f, err := ParseFragment(data)
			if err == nil {
				got, err = in.Add(f)
			}
			if err != nil || f.More != out.Pending() || in.Waits() != out.Pending() {
				t.Fatalf("%+v: %v", f, err)
			}
		}
		if !bytes.Equal(got, message) || packets > len(message)/(size-5)+1 {
			t.Fatalf("%d bytes came as %d, in %d packets of %d", len(message), len(got), packets, size)
		}
	}
}

func TestFragmentsThatDoNotFit(t *testing.T) {
	for name, list := range map[string][]Fragment{
		"of no length":         {{More: true, Data: []byte("a")}},
		"of nothing":           {{More: true, Total: 9}},
		"longer than said":     {{More: true, Total: 2, Data: []byte("a")}, {Data: []byte("bc")}},
		"shorter than said":    {{More: true, Total: 4, Data: []byte("a")}, {Data: []byte("b")}},
		"of another length":    {{More: true, Total: 4, Data: []byte("a")}, {Total: 5, Data: []byte("bcde")}},
		"that start":           {{Start: true}},
		"alone, and not whole": {{Total: 4, Data: []byte("a")}},
	} {
		var r Reassembler
		var err error
		for _, f := range list {
			if _, err = r.Add(f); err != nil {
				break
			}
		}
		if !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, data := range map[string][]byte{"no flags": {}, "a cut length": {flagLength, 0, 0, 1},
		"too long": {flagLength, 0xff, 0, 0, 0}} {
		if _, err := ParseFragment(data); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %v", name, err)
		}
	}
	var r Reassembler // many that each are small
	if _, err := r.Add(Fragment{More: true, Total: MaxMessage, Data: make([]byte, MaxMessage)}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Add(Fragment{Data: []byte("x")}); !errors.Is(err, ErrMalformed) {
		t.Errorf("past the bound: %v", err)
	}
}

// Whatever comes, nothing breaks, nothing grows past its bound, and what is read is written the same.
func FuzzPacket(f *testing.F) {
	f.Add([]byte{2, 1, 0, 10, 1, 'm', 'a', 'r', 'e', 'n'}, []byte{2, 2, 0, 6, 13, 0})
	f.Add([]byte{2, 1, 0, 11, 13, 0xc0, 0, 0, 0, 2, 7}, []byte{2, 2, 0, 7, 13, 0, 9})
	f.Fuzz(func(t *testing.T, first, second []byte) {
		var r Reassembler
		for _, b := range [][]byte{first, second} {
			p, err := Parse(b)
			if err != nil {
				continue
			}
			if !bytes.Equal(p.Append(nil), b) {
				t.Fatalf("%x is read as %+v", b, p)
			}
			fragment, err := ParseFragment(p.Data)
			if p.Type != TLS || err != nil {
				continue
			}
			message, err := r.Add(fragment)
			if err != nil {
				return
			}
			if len(message) > MaxMessage || len(r.have) > MaxMessage {
				t.Fatalf("%d bytes", len(message)+len(r.have))
			}
		}
	})
}
