package value

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Bounds on one value that crosses a trust boundary.
const (
	MaxText    = 4096   // bytes of a text
	MaxMembers = 10_000 // members of a list
	maxSegs    = 16     // segments of a version
)

// Parse reads text as a value of type t: a CSV cell, a YAML scalar, a literal.
// Lists and records have no text form.
func Parse(t Type, text string) (Value, error) {
	switch t.Kind {
	case Bool:
		switch text {
		case "true":
			return OfBool(true), nil
		case "false":
			return OfBool(false), nil
		}
		return Value{}, fmt.Errorf("%s is not true or false", quote(text))
	case Int:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return Value{}, fmt.Errorf("%s is not a whole number", quote(text))
		}
		return OfInt(n), nil
	case Text:
		if len(text) > MaxText {
			return Value{}, fmt.Errorf("text of %d bytes is longer than %d", len(text), MaxText)
		}
		return OfText(text), nil
	case Enum:
		if i := t.Enum.Index(text); i >= 0 {
			return OfEnum(t.Enum, i), nil
		}
		return Value{}, fmt.Errorf("%s is not one of %s", quote(text), strings.Join(t.Enum.Words, ", "))
	case Version:
		return ParseVersion(text)
	case Duration:
		return ParseDuration(text)
	case Time:
		return ParseTime(text)
	case Network:
		return ParseNetwork(text)
	}
	return Value{}, fmt.Errorf("a %s cannot be written as plain text", t)
}

// ParseVersion reads dotted numbers. What follows the numbers in brackets or
// after a space is dropped for comparing; missing segments count as zero.
func ParseVersion(text string) (Value, error) {
	numbers := text
	if i := strings.IndexAny(text, " (["); i > 0 {
		numbers = text[:i]
	}
	if len(text) > 256 || numbers == "" {
		return Value{}, fmt.Errorf("%s is not a version of dotted numbers", quote(text))
	}
	var key [maxSegs * 8]byte
	end, seg, packed := 0, 0, int64(0)
	for part := range strings.SplitSeq(numbers, ".") {
		n, err := strconv.ParseUint(part, 10, 64)
		if err != nil || part[0] == '+' || seg == maxSegs {
			return Value{}, fmt.Errorf("%s is not a version of dotted numbers", quote(text))
		}
		binary.BigEndian.PutUint64(key[seg*8:], n)
		packed = pack(packed, seg, n)
		if seg++; n != 0 {
			end = seg * 8
		}
	}
	return Value{kind: Version, num: packed, str: string(key[:end]), ext: text}, nil
}

// The number of a version has 14, 15, 17 and 16 bits for its first segments,
// where they begin, and a last bit that is set when there is more to tell.
var (
	segmentBits  = [...]int{14, 15, 17, 16}
	segmentShift = [...]int{49, 34, 17, 1}
)

const moreToTell = 1

// pack adds a segment, counted from 0, to the number of a version. One that does
// not fit stands as the largest, with all that follow it.
func pack(packed int64, seg int, n uint64) int64 {
	switch {
	case n == 0 || packed&moreToTell != 0:
		return packed
	case seg >= len(segmentBits):
		return packed | moreToTell
	case n < 1<<segmentBits[seg]-1:
		return packed | int64(n)<<segmentShift[seg]
	}
	return packed | (1<<(segmentShift[seg]+segmentBits[seg]) - 1)
}

// ParseDuration reads a whole number and a unit: 30d, 12h, 15m, 90s, 2w.
func ParseDuration(text string) (Value, error) {
	if n := len(text); n > 1 {
		for _, u := range units {
			if text[n-1] != u.letter {
				continue
			}
			count, err := strconv.ParseInt(text[:n-1], 10, 64)
			if err != nil || text[0] == '+' || count < 0 || count > math.MaxInt64/8/u.micros {
				break
			}
			return OfDuration(count * u.micros), nil
		}
	}
	return Value{}, fmt.Errorf("%s is not a duration such as 30d, 12h, 15m, 90s or 2w", quote(text))
}

// ParseTime reads a date or an RFC 3339 time.
func ParseTime(text string) (Value, error) {
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		if t, err = time.Parse(time.DateOnly, text); err != nil {
			return Value{}, fmt.Errorf("%s is not an RFC 3339 time such as 2026-11-01T08:00:00Z", quote(text))
		}
	}
	return OfTime(t.UnixMicro()), nil
}

// ParseNetwork reads an address or a network in CIDR form. An IPv4 address
// mapped into IPv6 (RFC 4291, 2.5.5.2) is taken as the IPv4 address it is.
func ParseNetwork(text string) (Value, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		a = a.Unmap().WithZone("")
		return OfPrefix(netip.PrefixFrom(a, a.BitLen())), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return Value{}, fmt.Errorf("%s is not an address or a network such as 10.0.0.0/8", quote(text))
	}
	return OfPrefix(p.Masked()), nil
}

// Decode reads JSON as a value of type t; the text must be valid JSON. The
// forms are the natural ones; versions, durations, times and networks are
// strings.
func Decode(t Type, raw json.RawMessage) (Value, error) {
	if len(raw) == 0 {
		return Value{}, fmt.Errorf("nothing where %s was expected", article(t))
	}
	switch t.Kind {
	case Bool:
		switch string(raw) {
		case "true":
			return OfBool(true), nil
		case "false":
			return OfBool(false), nil
		}
	case Int:
		if raw[0] == '-' || raw[0] >= '0' && raw[0] <= '9' {
			if n, err := strconv.ParseInt(string(raw), 10, 64); err == nil {
				return OfInt(n), nil
			}
			return Value{}, fmt.Errorf("%s is not a whole number", clip(string(raw)))
		}
	case List:
		if raw[0] == '[' {
			return sharedOf(t, raw, decodeList)
		}
	case Record:
		if raw[0] == '{' {
			return decodeRecord(t.Record, raw)
		}
	default:
		if n := len(raw) - 1; t.Kind == Enum && n > 0 && raw[0] == '"' {
			for i, w := range t.Enum.Words {
				if string(raw[1:n]) == w {
					return OfEnum(t.Enum, i), nil
				}
			}
		}
		switch {
		case raw[0] != '"':
		case t.Kind == Version:
			return sharedOf(t, raw, decodeWritten)
		default:
			return decodeWritten(t, raw)
		}
	}
	return Value{}, fmt.Errorf("%s stands where %s was expected", describe(raw), article(t))
}

// decodeWritten reads what stands in JSON as text.
func decodeWritten(t Type, raw json.RawMessage) (Value, error) {
	s, err := decodeString(raw)
	if err != nil {
		return Value{}, fmt.Errorf("%s is not a JSON string", clip(string(raw)))
	}
	return Parse(t, s)
}

// decodeString reads a JSON string of text that is valid JSON; one without
// escapes, as most are, stands there as it is.
func decodeString(raw []byte) (string, error) {
	if n := len(raw) - 1; n > 0 && raw[n] == '"' && bytes.IndexByte(raw, '\\') < 0 && utf8.Valid(raw) {
		return shared(raw[1:n]), nil
	}
	var s string
	err := json.Unmarshal(raw, &s)
	return s, err
}

// plain reports whether a text stands in JSON as it is.
func plain(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			return false
		}
	}
	return true
}

func decodeList(t Type, raw json.RawMessage) (Value, error) {
	members := []Value{}
	for p := range Elements(raw) {
		if len(members) == MaxMembers {
			return Value{}, fmt.Errorf("the list is longer than %d members", MaxMembers)
		}
		v, err := Decode(*t.Elem, p)
		if err != nil {
			return Value{}, fmt.Errorf("member %d: %w", len(members), err)
		}
		members = append(members, v)
	}
	return OfList(members), nil
}

func decodeRecord(t *RecordType, raw json.RawMessage) (Value, error) {
	fields := make([]Value, len(t.Fields))
	for name, p := range Members(raw) {
		i := t.Index(string(name))
		if i < 0 {
			return Value{}, fmt.Errorf("%s is not a field of a %s", quote(string(name)), t.Name)
		}
		if string(p) == "null" {
			continue
		}
		v, err := decodeField(t.Fields[i], p)
		if err != nil {
			return Value{}, fmt.Errorf("%s: %w", name, err)
		}
		fields[i] = v
	}
	return OfRecord(t, fields), nil
}

// maxHidden bounds a hidden text, which holds data and not words, in bytes.
const maxHidden = 64 << 10

func decodeField(f Field, raw json.RawMessage) (Value, error) {
	if !f.Hidden || f.Type.Kind != Text || len(raw) > maxHidden {
		return Decode(f.Type, raw)
	}
	var s string
	if err := json.Unmarshal(raw, &s); err != nil {
		return Value{}, fmt.Errorf("%s is not text", clip(string(raw)))
	}
	return OfText(s), nil
}

// MarshalJSON writes the form that [Decode] reads; unknown is null.
func (v Value) MarshalJSON() ([]byte, error) { return v.AppendJSON(nil), nil }

// AppendJSON appends the JSON form of v to b.
func (v Value) AppendJSON(b []byte) []byte {
	switch v.kind {
	case None:
		return append(b, "null"...)
	case Bool, Int:
		return append(b, v.String()...)
	case List:
		b = append(b, '[')
		for i, m := range v.Members() {
			if i > 0 {
				b = append(b, ',')
			}
			b = m.AppendJSON(b)
		}
		return append(b, ']')
	case Record:
		r := v.ext.(*record)
		b = append(b, '{')
		first := true
		for i, f := range r.typ.Fields {
			if !r.fields[i].Known() {
				continue
			}
			if !first {
				b = append(b, ',')
			}
			first = false
			b = append(appendString(b, f.Name), ':')
			b = r.fields[i].AppendJSON(b)
		}
		return append(b, '}')
	case Time:
		return append(Clock(v.num).AppendFormat(append(b, '"'), time.RFC3339Nano), '"')
	case Duration:
		return append(append(append(b, '"'), FormatDuration(v.num)...), '"')
	}
	return appendString(b, v.String())
}

func appendString(b []byte, s string) []byte {
	if plain(s) {
		return append(append(append(b, '"'), s...), '"')
	}
	q, _ := json.Marshal(s) // a string always has a JSON form
	return append(b, q...)
}

func article(t Type) string {
	s := t.String()
	if t.Kind == Enum && !t.Enum.Ordered {
		return s
	}
	if t.Kind == Enum {
		return "one of " + strings.Join(t.Enum.Words, ", ")
	}
	if t.Kind == Int {
		return "a whole number"
	}
	return "a " + s
}

func describe(raw json.RawMessage) string {
	switch raw[0] {
	case '"':
		return "the text " + clip(string(raw))
	case '[':
		return "a list"
	case '{':
		return "an object"
	}
	return clip(string(raw))
}

func quote(s string) string { return strconv.Quote(clip(s)) }

func clip(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}
