package mapping

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"ironledger.example/core/value"
)

// Remark is something in an item that the mapping could not read.
type Remark struct {
	Attribute string `json:"attribute"` // or the key, or observed_at
	Message   string `json:"message"`
}

// report is a report as it is written.
type report struct {
	Source     string            `json:"source,omitempty"`
	ExternalID string            `json:"external_id,omitempty"`
	ObservedAt string            `json:"observed_at,omitempty"`
	Identity   map[string]string `json:"identity,omitempty"`
	Evidence   map[string]any    `json:"evidence"`
	Vouch      any               `json:"vouch,omitempty"`
}

// unavailable is a reading that says why there is no value.
type unavailable struct {
	Why string `json:"unavailable"`
}

// Report turns an item, a JSON object, into a report. seen is when items were observed that
// do not say (RFC 3339), "" for when they arrive. The error is for an item of which no
// report can be made.
func (m *Mapping) Report(item []byte, seen string) ([]byte, []Remark, error) {
	x, err := object(item)
	if err != nil {
		return nil, nil, err
	}
	var remarks []Remark
	out, err := m.identify(x, func(name string, err error) { remarks = append(remarks, Remark{name, err.Error()}) })
	if err != nil {
		return nil, remarks, err
	}
	out.ObservedAt = seen
	if m.observed != nil {
		switch v, found, err := m.observed.read(x, value.Of(value.Time)); {
		case err != nil:
			// Read as of now it would be fresh. It is not said.
			return nil, remarks, fmt.Errorf("when it was observed cannot be read: %w", err)
		case !found: // likewise: who was never seen was not seen now
			return nil, remarks, errors.New("the item does not say when it was observed")
		default:
			out.ObservedAt, _ = v.(string)
		}
	}
	for i := range m.evidence {
		f := &m.evidence[i]
		switch v, found, err := f.read(x, f.typ); {
		case err != nil:
			remarks = append(remarks, Remark{f.name, err.Error()})
			out.Evidence[f.name] = unavailable{err.Error()}
		case found:
			out.Evidence[f.name] = v
		}
	}
	if m.vouch != nil {
		// What cannot be read vouches for nothing: a word that is new may mean the worst.
		v, found, err := m.vouch.read(x, value.Of(value.Bool))
		if _, is := v.(bool); err == nil && found && !is {
			err = errors.New(quoted(scalar(v)) + " is neither true nor false")
		}
		if err != nil {
			remarks = append(remarks, Remark{"vouch", err.Error()})
			v, found = false, true
		}
		if found {
			out.Vouch = v
		}
	}
	raw, err := json.Marshal(out)
	return raw, remarks, err
}

// Keys is a report of an item that says nothing but which device it is about. The error
// is for an item that does not tell.
func (m *Mapping) Keys(item []byte) ([]byte, error) {
	x, err := object(item)
	if err != nil {
		return nil, err
	}
	out, err := m.identify(x, func(string, error) {})
	if err != nil {
		return nil, err
	}
	return json.Marshal(out)
}

// object reads an item.
func object(item []byte) (map[string]any, error) {
	d := json.NewDecoder(bytes.NewReader(item))
	d.UseNumber()
	var x any
	if err := d.Decode(&x); err != nil {
		return nil, fmt.Errorf("the item is not JSON: %w", err)
	}
	o, is := x.(map[string]any)
	if !is {
		return nil, errors.New("the item is not a JSON object")
	}
	return o, nil
}

// identify begins the report of an item: the keys of its device.
func (m *Mapping) identify(item map[string]any, remark func(string, error)) (*report, error) {
	out := &report{Source: m.source, Identity: map[string]string{}, Evidence: map[string]any{}}
	for i := range m.identity {
		f := &m.identity[i]
		text, err := f.key(item)
		switch {
		case err != nil:
			remark(f.name, err)
		case text == "":
		case f.name == "external_id":
			out.ExternalID = text
		default:
			out.Identity[f.name] = text
		}
	}
	if out.ExternalID == "" && len(out.Identity) == 0 {
		return nil, errors.New("the item has no key: " + m.wanted())
	}
	return out, nil
}

// wanted tells where the keys were looked for.
func (m *Mapping) wanted() string {
	var out []string
	for _, f := range m.identity {
		out = append(out, f.name+" at "+f.from.String())
	}
	return strings.Join(out, ", ")
}

// key reads a key: a text, or a whole number.
func (f *field) key(item any) (string, error) {
	v, found, err := f.read(item, value.Of(value.Text))
	if err != nil || !found {
		return "", err
	}
	text, is := v.(string)
	if !is {
		return "", errors.New("a key is a text")
	}
	return strings.TrimSpace(text), nil
}

// read reads the value of a field in an item, for an attribute of a type; false when the
// item says nothing.
func (f *field) read(item any, typ value.Type) (any, bool, error) {
	if f.is != "" {
		return plain(f.is, typ), true, nil
	}
	x, found := f.from.in(item)
	if !found || x == nil || x == "" {
		return nil, false, nil
	}
	if f.each != nil {
		v, err := f.members(x)
		return v, true, err
	}
	if f.words != nil {
		said := scalar(x)
		word, known := f.words[said]
		if !known {
			return nil, true, fmt.Errorf("the partner says %s, for which the mapping has no word", quoted(said))
		}
		return plain(word, typ), true, nil
	}
	v, err := f.convert(x, typ)
	return v, true, err
}

// convert reads a value by its form or its unit, or as the attribute needs it.
func (f *field) convert(x any, typ value.Type) (any, error) {
	switch {
	case f.unit != "":
		n, err := number(x)
		if err != nil {
			return nil, err
		}
		return value.FormatDuration(int64(math.Round(n * units[f.unit]))), nil
	case f.form != "" || typ.Kind == value.Time:
		return moment(x, f.form)
	}
	text, is := x.(string)
	switch {
	case is:
		return plain(text, typ), nil
	case typ.Kind == value.Text || typ.Kind == value.Version || typ.Kind == value.Enum:
		if n, is := x.(json.Number); is {
			return n.String(), nil
		}
	}
	return x, nil
}

// plain is a text as an attribute of a type needs it: of a table everything is a text.
func plain(text string, typ value.Type) any {
	switch t := strings.TrimSpace(text); typ.Kind {
	case value.Bool:
		if b, err := strconv.ParseBool(strings.ToLower(t)); err == nil && len(t) > 1 {
			return b
		}
	case value.Int:
		if _, err := strconv.ParseInt(t, 10, 64); err == nil {
			return json.Number(t)
		}
	}
	return text
}

// members reads a list of things.
func (f *field) members(x any) (any, error) {
	list, is := x.([]any)
	if !is {
		return nil, fmt.Errorf("%s stands where a list was expected", quoted(scalar(x)))
	}
	out := make([]map[string]any, 0, len(list))
	for i, item := range list {
		thing := map[string]any{}
		for j := range f.each {
			m := &f.each[j]
			v, found, err := m.read(item, m.typ)
			if err != nil {
				return nil, fmt.Errorf("%s of member %d: %w", m.name, i, err)
			}
			if found {
				thing[m.name] = v
			}
		}
		out = append(out, thing)
	}
	return out, nil
}

// moment reads a time.
func moment(x any, form string) (string, error) {
	var t time.Time
	var err error
	switch form {
	case formUnix, formUnixMillis:
		var n float64
		if n, err = number(x); err == nil {
			if form == formUnix {
				n *= 1000
			}
			if math.Abs(n) > 253402300799999 { // the end of the year 9999
				err = fmt.Errorf("%s is not a time", quoted(scalar(x)))
			}
			t = time.UnixMilli(int64(n))
		}
	case "", formRFC3339:
		t, err = time.Parse(time.RFC3339, scalar(x))
	default:
		t, err = time.Parse(form, scalar(x))
	}
	if err != nil {
		if form == "" {
			form = formRFC3339
		}
		return "", fmt.Errorf("%s is not a time of the form %s", quoted(scalar(x)), form)
	}
	return t.UTC().Format(time.RFC3339), nil
}

func number(x any) (float64, error) {
	n, err := strconv.ParseFloat(scalar(x), 64)
	if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
		return 0, fmt.Errorf("%s is not a number", quoted(scalar(x)))
	}
	return n, nil
}

// scalar is a value as a text.
func scalar(x any) string {
	switch v := x.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	}
	return string(value.JSON(x))
}

// quoted is a text of a partner as a part of a message.
func quoted(text string) string {
	const most = 60
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + "…"
	}
	return strconv.Quote(text)
}
