// Package textfile reads texts as programs of all kinds write them: with a byte order mark or without, in UTF-8 or
// UTF-16, with columns parted by one sign or another.
package textfile

import (
	"bufio"
	"bytes"
	"io"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Mark is the byte order mark that some programs begin a text with.
var Mark = []byte("\ufeff")

// Open reads a text as UTF-8 without its byte order mark: one in UTF-16 is known by its own (Unicode Standard, section
// 23.8).
func Open(in io.Reader) *bufio.Reader {
	const room = 64 << 10
	br := bufio.NewReaderSize(in, room)
	head, _ := br.Peek(len(Mark))
	switch {
	case bytes.Equal(head, Mark):
		_, _ = br.Discard(len(Mark)) // they are there
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}), bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		wide := unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder()
		return bufio.NewReaderSize(transform.NewReader(br, wide), room)
	}
	return br
}

// Separator is what parts the columns of a CSV: the one of comma, semicolon and tab that its first line has most
// outside of quotes.
func Separator(br *bufio.Reader) rune {
	head, _ := br.Peek(br.Size()) // a header that is longer is told by its beginning
	counts, quoted := map[byte]int{}, false
	for _, b := range head {
		if b == '"' {
			quoted = !quoted
		}
		if b == '\n' && !quoted {
			break
		}
		if !quoted {
			counts[b]++
		}
	}
	best := byte(',')
	for _, b := range []byte{';', '\t'} {
		if counts[b] > counts[best] {
			best = b
		}
	}
	return rune(best)
}
