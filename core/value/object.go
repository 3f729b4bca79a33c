package value

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// Object is a JSON object or list under way, for what is written so often that
// [encoding/json] would take longer for it than everything else (the figures stand
// in docs/decisions/0018). Whoever adds to it keeps to the order of canonical JSON
// (RFC 8785); Word, Flag, Count and Number's kin leave out what says nothing.
//
//	o := value.Object(nil).Open()
//	o = o.Word("device", id).Number("rulebook", 3)
//	raw := o.Close()
type Object []byte

// Open begins an object, or a list's member that is one.
func (o Object) Open() Object { return append(o, '{') }

// Close ends an object.
func (o Object) Close() Object { return append(o, '}') }

// List begins a list, as a member of an object, and ends with EndList.
func (o Object) List(name string) Object { return append(o.Name(name), '[') }

// OpenList begins a list that is no member of an object.
func (o Object) OpenList() Object { return append(o, '[') }

// EndList ends a list.
func (o Object) EndList() Object { return append(o, ']') }

// Element makes ready for one more element of a list.
func (o Object) Element() Object {
	if o[len(o)-1] != '[' {
		o = append(o, ',')
	}
	return o
}

// Name begins a member whose name is one of ours: plain ASCII.
func (o Object) Name(name string) Object {
	if o[len(o)-1] != '{' {
		o = append(o, ',')
	}
	return append(append(append(o, '"'), name...), `":`...)
}

// Named begins a member that somebody else named.
func (o Object) Named(name string) Object {
	if o[len(o)-1] != '{' {
		o = append(o, ',')
	}
	return append(o.Quote(name), ':')
}

// Quote adds a text. What is not UTF-8 becomes U+FFFD.
func (o Object) Quote(s string) Object {
	out, _ := jsontext.AppendQuote([]byte(o), s) // its error is for what it replaced
	return out
}

// Text adds a member that is a text.
func (o Object) Text(name, s string) Object { return o.Name(name).Quote(s) }

// Word is Text, left out when it is empty.
func (o Object) Word(name, s string) Object {
	if s == "" {
		return o
	}
	return o.Text(name, s)
}

// Truth adds a member that is true or false.
func (o Object) Truth(name string, is bool) Object { return strconv.AppendBool(o.Name(name), is) }

// Flag is Truth, left out when it is false.
func (o Object) Flag(name string, is bool) Object {
	if !is {
		return o
	}
	return o.Truth(name, is)
}

// Number adds a member that is a whole number.
func (o Object) Number(name string, n int64) Object { return strconv.AppendInt(o.Name(name), n, 10) }

// Count is Number, left out when it is 0.
func (o Object) Count(name string, n int64) Object {
	if n == 0 {
		return o
	}
	return o.Number(name, n)
}

// Raw adds a member that is JSON already.
func (o Object) Raw(name string, raw []byte) Object { return append(o.Name(name), raw...) }

// Texts adds a member that is a list of texts.
func (o Object) Texts(name string, list []string) Object {
	o = o.List(name)
	for _, s := range list {
		o = o.Element().Quote(s)
	}
	return o.EndList()
}

// Languages adds a member that is a text in several languages, by their tags.
func (o Object) Languages(name string, in map[string]string) Object {
	o = o.Name(name).Open()
	if len(in) == 1 { // as nearly always
		for tag, s := range in {
			o = o.Named(tag).Quote(s)
		}
		return o.Close()
	}
	for _, tag := range slices.Sorted(maps.Keys(in)) {
		o = o.Named(tag).Quote(in[tag])
	}
	return o.Close()
}

// JSON is [json.Marshal] for what has a JSON form for sure, without the escapes that
// only HTML needs: canonical JSON has none of them. It panics for what has none.
func JSON(v any) json.RawMessage {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		panic(err)
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n"))
}

// Cell is a text as a cell of CSV, kept from being taken for a formula by a spreadsheet: devices themselves may have
// written it.
func Cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}
