// Package value holds the types and values that evidence carries and
// conditions compare: booleans, whole numbers, text, enumerations, versions,
// durations, times, networks, lists and records.
//
// A [Value] is a small struct without pointers of its own, tagged with its
// [Kind]; the zero Value is "nothing is known". Times are microseconds since
// the Unix epoch and durations are microseconds, so that a certificate that
// ends in the year 9999 (RFC 5280, 4.1.2.5) is an ordinary time.
package value

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Kind tells which of its members a [Value] or [Type] uses.
type Kind uint8

// The kinds of value. None is the kind of the zero Value: unknown.
const (
	None Kind = iota
	Bool
	Int
	Text
	Enum
	Version
	Duration
	Time
	Network
	List
	Record
)

var kindNames = [...]string{"unknown", "bool", "int", "text", "enum", "version", "duration", "time",
	"network", "list", "record"}

func (k Kind) String() string { return kindNames[k] }

// Type describes the values an attribute may hold.
type Type struct {
	Kind   Kind
	Enum   *EnumType   // when Kind is Enum
	Elem   *Type       // when Kind is List
	Record *RecordType // when Kind is Record
}

// EnumType is a closed set of words. An ordered one may be compared with <.
type EnumType struct {
	Name    string
	Words   []string
	Ordered bool
}

// Index returns the place of word among the words, or -1.
func (e *EnumType) Index(word string) int {
	for i, w := range e.Words {
		if w == word {
			return i
		}
	}
	return -1
}

// RecordType is a fixed sequence of named fields.
type RecordType struct {
	Name   string
	Fields []Field
	// Show says in a few words what a record is; nil lists its fields.
	Show func(fields []Value) string
}

// Field is one member of a record.
type Field struct {
	Name string
	Type Type
	// Hidden fields are carried along and kept, but no condition can name them
	// and no text shows them.
	Hidden bool
}

// Index returns the place of the field called name, or -1.
func (r *RecordType) Index(name string) int {
	for i, f := range r.Fields {
		if f.Name == name {
			return i
		}
	}
	return -1
}

// Of returns the plain type of kind k.
func Of(k Kind) Type { return Type{Kind: k} }

// ListOf returns the type of lists of elem.
func ListOf(elem Type) Type { return Type{Kind: List, Elem: &elem} }

// Words returns an enumeration of words.
func Words(name string, ordered bool, words ...string) Type {
	return Type{Kind: Enum, Enum: &EnumType{Name: name, Words: words, Ordered: ordered}}
}

// Same reports whether two types hold the same values.
func (t Type) Same(u Type) bool {
	if t.Kind != u.Kind || t.Enum != u.Enum || t.Record != u.Record {
		return false
	}
	return t.Kind != List || t.Elem.Same(*u.Elem)
}

// Ordered reports whether < and its kin have a meaning for the type.
func (t Type) Ordered() bool {
	switch t.Kind {
	case Int, Version, Duration, Time:
		return true
	case Enum:
		return t.Enum.Ordered
	}
	return false
}

// String names the type as messages and documents do.
func (t Type) String() string {
	switch t.Kind {
	case Enum:
		if t.Enum.Ordered {
			return strings.Join(t.Enum.Words, " < ")
		}
		return "one of " + strings.Join(t.Enum.Words, ", ")
	case List:
		if t.Elem.Kind == Record {
			return "list of " + t.Elem.Record.Name
		}
		return "list of " + t.Elem.String()
	case Record:
		return t.Record.Name
	}
	return t.Kind.String()
}

// Value is one typed value; the zero Value is unknown.
type Value struct {
	kind Kind
	num  int64  // Bool 0 or 1, Int, Enum index, Duration and Time in microseconds, Version see Number
	str  string // Text, Enum word, Version key
	ext  any    // Version as written (string), Network (netip.Prefix), List ([]Value or *partial), Record (*record)
}

// partial is a list of which some members are not known.
type partial struct{ sure, perhaps []Value }

type record struct {
	typ    *RecordType
	fields []Value
}

// Kind returns the kind of the value, None for an unknown one.
func (v Value) Kind() Kind { return v.kind }

// Known reports whether the value is anything at all.
func (v Value) Known() bool { return v.kind != None }

// Num returns the number behind a Bool, Int, Enum, Duration or Time.
func (v Value) Num() int64 { return v.num }

// Number returns a number to compare values of one kind by: of two values the
// lesser has no larger number. For what has a [Value.Num] it is that. That of a version
// is made of its first four segments, that of a text of how it begins and of how
// long it is: see [Beginning]. Networks, lists and records have 0. [Value.Exact]
// tells whether the number says all.
func (v Value) Number() int64 {
	if v.kind == Text {
		return numberOf(v.str, len(v.str), 0)
	}
	return v.num
}

// Exact reports whether no other value of the kind has the same number: then
// values compare with this one as their numbers do, texts for being equal.
func (v Value) Exact() bool {
	switch v.kind {
	case Text:
		return len(v.str) <= Told
	case Version:
		return v.num&moreToTell == 0
	}
	return v.kind != Network && v.kind != List && v.kind != Record
}

// Told is how many bytes of a text its number tells of.
const Told = 7

// Beginning returns between which numbers, both within, those of the texts lie
// that begin with start. Numbers of no other texts do when start is no longer
// than [Told].
func Beginning(start string) (low, high int64) {
	return numberOf(start, len(start), 0), numberOf(start, math.MaxInt, 0xff)
}

// numberOf is the first bytes of a text, filled up with another, and then its
// length as far as a byte can tell, as a number that orders them so.
func numberOf(text string, length int, fill byte) int64 {
	var b [8]byte
	for i := copy(b[:Told], text); i < Told; i++ {
		b[i] = fill
	}
	b[Told] = byte(min(length, 0xff))
	return int64(binary.BigEndian.Uint64(b[:]) ^ 1<<63)
}

// Str returns the text of a Text, the word of an Enum, or the key of a
// Version: two keys compare as their versions do. Of an unknown value it says why, if anybody knows.
func (v Value) Str() string { return v.str }

// IsTrue reports whether the value is the boolean true.
func (v Value) IsTrue() bool { return v.kind == Bool && v.num == 1 }

// Members returns the members that a List surely has.
func (v Value) Members() []Value {
	switch l := v.ext.(type) {
	case []Value:
		return l
	case *partial:
		return l.sure
	}
	return nil
}

// Perhaps returns what a List has as members or has not: nobody knows. Most
// lists have none of these. What is in neither list is surely no member.
func (v Value) Perhaps() []Value {
	if l, ok := v.ext.(*partial); ok {
		return l.perhaps
	}
	return nil
}

// Prefix returns the network of a Network value.
func (v Value) Prefix() netip.Prefix {
	p, _ := v.ext.(netip.Prefix)
	return p
}

// FieldAt returns field i of a Record; unknown when the record lacks it.
func (v Value) FieldAt(i int) Value {
	if r, ok := v.ext.(*record); ok && i < len(r.fields) {
		return r.fields[i]
	}
	return Value{}
}

// Unavailable returns an unknown value that says, as its [Value.Str], why it is unknown.
func Unavailable(why string) Value { return Value{str: why} }

// OfBool returns b as a value.
func OfBool(b bool) Value {
	if b {
		return Value{kind: Bool, num: 1}
	}
	return Value{kind: Bool}
}

// OfInt returns n as a value.
func OfInt(n int64) Value { return Value{kind: Int, num: n} }

// OfText returns s as a value.
func OfText(s string) Value { return Value{kind: Text, str: s} }

// OfTexts returns a list of texts.
func OfTexts(list []string) Value {
	m := make([]Value, len(list))
	for i, s := range list {
		m[i] = OfText(s)
	}
	return OfList(m)
}

// OfPartialTexts returns a list of texts which surely has some members and
// perhaps others.
func OfPartialTexts(sure, perhaps []string) Value {
	v := OfTexts(sure)
	if len(perhaps) > 0 {
		v.ext = &partial{v.Members(), OfTexts(perhaps).Members()}
	}
	return v
}

// OfEnum returns word i of e.
func OfEnum(e *EnumType, i int) Value {
	return Value{kind: Enum, num: int64(i), str: e.Words[i]}
}

// OfTime returns a time in microseconds since the Unix epoch.
func OfTime(micros int64) Value { return Value{kind: Time, num: micros} }

// OfDuration returns a duration in microseconds.
func OfDuration(micros int64) Value { return Value{kind: Duration, num: micros} }

// OfPrefix returns a network.
func OfPrefix(p netip.Prefix) Value { return Value{kind: Network, ext: p} }

// OfList returns a list; the caller gives the slice away.
func OfList(members []Value) Value { return Value{kind: List, ext: members} }

// OfRecord returns a record; fields stand in the order of the type, unknown
// ones as zero Values. The caller gives the slice away.
func OfRecord(t *RecordType, fields []Value) Value {
	return Value{kind: Record, ext: &record{t, fields}}
}

// WithFields returns the record with some of its fields, by their places,
// replaced.
func (v Value) WithFields(fields map[int]Value) Value {
	r := v.ext.(*record)
	list := slices.Clone(r.fields)
	for i, f := range fields {
		list[i] = f
	}
	return OfRecord(r.typ, list)
}

// Day is a day in the microseconds that values use.
const Day = int64(24 * time.Hour / time.Microsecond)

// Minute is a minute in microseconds.
const Minute = int64(time.Minute / time.Microsecond)

// Micros converts a time to the microseconds that values use.
func Micros(t time.Time) int64 { return t.UnixMicro() }

// Clock converts microseconds since the Unix epoch to a time in UTC.
func Clock(micros int64) time.Time { return time.UnixMicro(micros).UTC() }

// FormatTime prints microseconds since the Unix epoch as RFC 3339 in UTC,
// whole seconds.
func FormatTime(micros int64) string { return Clock(micros).Format(time.RFC3339) }

// Equal reports whether two known values of one kind are the same.
func (v Value) Equal(w Value) bool {
	switch v.kind {
	case Text, Version:
		return v.str == w.str
	case Network:
		return v.ext == w.ext
	case List:
		return equalMembers(v.Members(), w.Members()) && equalMembers(v.Perhaps(), w.Perhaps())
	case Record:
		a, b := v.ext.(*record), w.ext.(*record)
		return OfList(a.fields).Equal(OfList(b.fields))
	}
	return v.num == w.num
}

func equalMembers(a, b []Value) bool {
	return slices.EqualFunc(a, b, func(x, y Value) bool { return x.kind == y.kind && x.Equal(y) })
}

// Compare orders two known values of one ordered kind: -1, 0 or +1.
func (v Value) Compare(w Value) int {
	if v.kind == Version || v.kind == Text {
		return strings.Compare(v.str, w.str)
	}
	return cmp.Compare(v.num, w.num)
}

// String prints the value as people read it and as [Parse] takes it.
func (v Value) String() string {
	switch v.kind {
	case None:
		return "unknown"
	case Bool:
		return strconv.FormatBool(v.num == 1)
	case Int:
		return strconv.FormatInt(v.num, 10)
	case Version:
		return v.ext.(string)
	case Duration:
		return FormatDuration(v.num)
	case Time:
		return FormatTime(v.num)
	case Network:
		return formatPrefix(v.Prefix())
	case List:
		if perhaps := v.Perhaps(); len(perhaps) > 0 {
			text := "perhaps " + formatList(perhaps)
			if len(v.Members()) > 0 {
				text = formatList(v.Members()) + ", " + text
			}
			return text
		}
		return formatList(v.Members())
	case Record:
		return v.ext.(*record).String()
	}
	return v.str
}

// shownMembers bounds how much of a list a person is shown in one line.
const shownMembers = 4

func formatList(members []Value) string {
	if len(members) == 0 {
		return "an empty list"
	}
	var b strings.Builder
	for i, m := range members {
		if i == shownMembers {
			fmt.Fprintf(&b, " and %d more", len(members)-i)
			break
		}
		if i > 0 {
			b.WriteString("; ")
		}
		b.WriteString(m.String())
	}
	return b.String()
}

func (r *record) String() string {
	if r.typ.Show != nil {
		return r.typ.Show(r.fields)
	}
	var parts []string
	for i, f := range r.typ.Fields {
		switch v := r.fields[i]; {
		case !v.Known() || f.Hidden:
		case v.kind == Bool && v.num == 1:
			parts = append(parts, f.Name)
		case v.kind == Bool:
			parts = append(parts, "not "+f.Name)
		case v.kind == Time || v.kind == List:
			parts = append(parts, f.Name+" "+v.String())
		default:
			parts = append(parts, v.String())
		}
	}
	return strings.Join(parts, ", ")
}

func formatPrefix(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// units are the duration units of the language, longest first.
var units = []struct {
	letter byte
	micros int64
}{
	{'w', 7 * 24 * int64(time.Hour/time.Microsecond)},
	{'d', 24 * int64(time.Hour/time.Microsecond)},
	{'h', int64(time.Hour / time.Microsecond)},
	{'m', int64(time.Minute / time.Microsecond)},
	{'s', int64(time.Second / time.Microsecond)},
}

// FormatDuration prints a duration in the largest unit up to days that holds
// it whole, as in 36h or 14d; fractions of a second are dropped.
func FormatDuration(micros int64) string {
	sign := ""
	if micros < 0 {
		sign, micros = "-", -micros
	}
	for _, u := range units[1:] {
		if micros >= u.micros && micros%u.micros == 0 {
			return sign + strconv.FormatInt(micros/u.micros, 10) + string(u.letter)
		}
	}
	return sign + strconv.FormatInt(micros/units[4].micros, 10) + "s"
}

// FormatAge prints a duration for people, in its two largest
// units down to minutes: "3d 4h".
func FormatAge(micros int64) string {
	if micros < 0 {
		return "-" + FormatAge(-micros)
	}
	for i, u := range units[1:] {
		if micros < u.micros {
			continue
		}
		s := strconv.FormatInt(micros/u.micros, 10) + string(u.letter)
		if u.letter != 'm' && i+2 < len(units) {
			if rest := micros % u.micros / units[i+2].micros; rest > 0 {
				s += " " + strconv.FormatInt(rest, 10) + string(units[i+2].letter)
			}
		}
		return s
	}
	return "0s"
}
