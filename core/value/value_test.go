package value

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

func TestVersionsCompareByNumber(t *testing.T) {
	v := func(s string) Value {
		t.Helper()
		x, err := ParseVersion(s)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"17.5", "17.5.0", 0}, {"17.5", "17.5.1", -1}, {"9.9", "10", -1}, {"14.10", "14.9", 1},
		{"10.0.22631.4460", "10.0.22631", 1},
		{"0", "0.0", 0}, {"14.1 (23B)", "14.1", 0}, {"14.1(23B)", "14.1", 0}, {"14 beta", "14", 0},
		{"130.0.6723", "13.0", 1},
	} {
		if got := v(c.a).Compare(v(c.b)); got != c.want || v(c.b).Compare(v(c.a)) != -c.want ||
			v(c.a).Equal(v(c.b)) != (c.want == 0) {
			t.Errorf("%s against %s is %d, want %d", c.a, c.b, got, c.want)
		}
	}
	if got := v("14.1 (23B)").String(); got != "14.1 (23B)" {
		t.Errorf("a version is shown as %q, not as it was written", got)
	}
	for _, bad := range []string{"", "v1", "1.", "1..2", "1.x", "-1", "+1", "1.2-rc", " 1",
		strings.Repeat("1.", 20) + "1"} {
		if x, err := ParseVersion(bad); err == nil {
			t.Errorf("%q is taken for the version %v", bad, x)
		}
	}
}

func TestParsedTextComesBack(t *testing.T) {
	for _, c := range []struct {
		typ        Type
		text, want string
	}{
		{Of(Bool), "true", "true"}, {Of(Int), "-42", "-42"}, {Of(Text), "å b", "å b"},
		{Of(Duration), "90s", "90s"}, {Of(Duration), "120s", "2m"}, {Of(Duration), "2w", "14d"},
		{Of(Duration), "36h", "36h"}, {Of(Duration), "0s", "0s"},
		{Of(Time), "2026-11-01", "2026-11-01T00:00:00Z"},
		{Of(Time), "9999-12-31T23:59:59Z", "9999-12-31T23:59:59Z"},
		{Of(Time), "2026-11-01T10:00:00+02:00", "2026-11-01T08:00:00Z"},
		{Of(Network), "10.1.2.3/8", "10.0.0.0/8"}, {Of(Network), "::ffff:10.0.0.1", "10.0.0.1"},
		{Words("w", true, "low", "high"), "high", "high"},
	} {
		v, err := Parse(c.typ, c.text)
		if err != nil || v.String() != c.want {
			t.Errorf("%q is read as %v (%v), want %s", c.text, v, err, c.want)
		}
	}
	for typ, bad := range map[Kind][]string{
		Bool: {"True", "1", ""}, Int: {"1.5", "", "99999999999999999999"},
		Duration: {"3", "d", "-3d", "1.5h", "99999999999999w", "+3d"},
		Time:     {"2026-13-01", "now"}, Network: {"10.0.0", "10.0.0.0/40"}, List: {"[]"},
		Text: {strings.Repeat("x", MaxText+1)},
	} {
		for _, text := range bad {
			if v, err := Parse(Of(typ), text); err == nil {
				t.Errorf("%.40q is taken for the %s %v", text, typ, v)
			}
		}
	}
}

func TestJSONBothWays(t *testing.T) {
	rec := Type{Kind: Record, Record: &RecordType{Name: "volume",
		Fields: []Field{{Name: "name", Type: Of(Text)}, {Name: "system", Type: Of(Bool)},
			{Name: "at", Type: Of(Time)}}}}
	for _, c := range []struct {
		typ       Type
		raw, want string
	}{
		{Of(Bool), "true", "true"}, {Of(Int), "7", "7"}, {Of(Text), `"a\"b"`, `"a\"b"`},
		{Of(Version), `"1.2 (x)"`, `"1.2 (x)"`}, {Of(Duration), `"10m"`, `"10m"`},
		{Of(Time), `"2026-11-01T00:00:00.5Z"`, `"2026-11-01T00:00:00.5Z"`},
		{ListOf(Of(Text)), `["a","b"]`, `["a","b"]`},
		{ListOf(rec), `[{"system":true,"name":"c","at":null}]`, `[{"name":"c","system":true}]`},
	} {
		v, err := Decode(c.typ, json.RawMessage(c.raw))
		if err != nil {
			t.Errorf("%s: %v", c.raw, err)
			continue
		}
		raw, err := json.Marshal(v)
		if err != nil || string(raw) != c.want {
			t.Errorf("%s comes back as %s (%v), want %s", c.raw, raw, err, c.want)
		}
		if again, err := Decode(c.typ, raw); err != nil || !again.Equal(v) {
			t.Errorf("%s is not the same after two ways (%v)", c.raw, err)
		}
	}
	for _, c := range []struct {
		typ       Type
		raw, want string
	}{
		{Of(Bool), `"true"`, `the text "true" stands where a bool was expected`},
		{Of(Int), "1.5", "not a whole number"}, {Of(Version), "17", "17 stands where a version was expected"},
		{ListOf(Of(Text)), `{}`, "an object stands where"},
		{ListOf(Of(Text)), `["a",1]`, "member 1: 1 stands where a text was expected"},
		{rec, `{"nam":1}`, `"nam" is not a field of a volume`},
		{rec, `{"system":1}`, "system: 1 stands where"},
		{ListOf(Of(Text)), "[" + strings.Repeat(`"",`, MaxMembers) + `""]`, "is longer than"},
		{Of(Int), "", "nothing where"},
	} {
		if _, err := Decode(c.typ, json.RawMessage(c.raw)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%.40s gives %v, want %q", c.raw, err, c.want)
		}
	}
}

func TestAgesForPeople(t *testing.T) {
	for micros, want := range map[int64]string{0: "0s", 59_000_000: "59s", 61_000_000: "1m",
		3_700_000_000: "1h 1m", 90_000_000_000: "1d 1h", 86_400_000_000: "1d", -3_600_000_000: "-1h"} {
		if got := FormatAge(micros); got != want {
			t.Errorf("%d microseconds are %q, want %q", micros, got, want)
		}
	}
}

func TestHiddenFieldsAreKeptAndNotShown(t *testing.T) {
	rec := &RecordType{Name: "card",
		Fields: []Field{{Name: "holder", Type: Of(Text)}, {Name: "raw", Type: Of(Text), Hidden: true},
			{Name: "valid", Type: Of(Bool)}}}
	typ := Type{Kind: Record, Record: rec}
	long := strings.Repeat("A", MaxText+1000)
	v, err := Decode(typ, []byte(`{"holder":"Maren","raw":"`+long+`","valid":true}`))
	if err != nil {
		t.Fatal(err)
	}
	if got := v.String(); got != "Maren, valid" {
		t.Errorf("it is shown as %.60s", got)
	}
	again, err := Decode(typ, v.AppendJSON(nil))
	if err != nil || !again.Equal(v) || again.FieldAt(1).Str() != long {
		t.Errorf("it comes back as %.60s (%v)", again, err)
	}
	if _, err := Decode(typ, []byte(`{"holder":"`+long+`"}`)); err == nil {
		t.Error("a text that is shown may be of any length")
	}
	if _, err := Decode(typ, []byte(`{"raw":"`+strings.Repeat("A", maxHidden)+`"}`)); err == nil {
		t.Error("a hidden text may be of any length")
	}
	if _, err := Decode(typ, []byte(`{"raw":7}`)); err == nil {
		t.Error("a number is taken for a hidden text")
	}
	changed := v.WithFields(map[int]Value{0: OfText("Ulla"), 2: {}})
	if changed.String() != "Ulla" || v.FieldAt(0).Str() != "Maren" {
		t.Errorf("changed it is %s, and was %s", changed, v)
	}
	rec.Show = func(fields []Value) string { return "card of " + fields[0].Str() }
	if got := OfList([]Value{v, changed}).String(); got != "card of Maren; card of Ulla" {
		t.Errorf("a list of them is shown as %s", got)
	}
}

// The numbers of versions put them in the order that the versions have.
func TestNumbersOrderVersions(t *testing.T) {
	texts := []string{"0", "0.0.1", "1", "1.0.0.0.0", "1.2", "1.10", "10.0.22631", "10.0.22631.4460",
		"14.6.1", "131.0.6778.85", "2026.11", "16382.32766.131070.65534", "1.32766", "1.0.131070",
		"1.0.0.65534", "2"}
	wide := []string{"16383", "16384", "16383.0.0.1", "1.32767", "1.32768", "1.32767.1", "1.0.131071",
		"1.0.131072.5", "1.0.0.65535", "1.0.0.65536", "1.0.0.0.1", "1.0.0.0.0.1", "10.0.22631.4460.1", "20261101"}
	var list []Value
	for _, s := range append(texts, wide...) {
		v, err := ParseVersion(s)
		if err != nil {
			t.Fatal(err)
		}
		if v.Exact() == slices.Contains(wide, s) {
			t.Errorf("%s has the number %d, exact: %t", s, v.Number(), v.Exact())
		}
		list = append(list, v)
	}
	for _, a := range list {
		for _, b := range list {
			if sign := cmp.Compare(a.Number(), b.Number()); sign == -a.Compare(b) && sign != 0 ||
				sign != a.Compare(b) && (a.Exact() || b.Exact()) {
				t.Errorf("%s and %s stand otherwise than their numbers %d and %d", a, b, a.Number(), b.Number())
			}
		}
	}
	if OfText("Skerry").Number() != OfText("Sker"+string([]byte("ry"))).Number() ||
		OfText("Skerry").Number() == OfText("skerry").Number() {
		t.Error("the number of a text does not tell it from others")
	}
}
