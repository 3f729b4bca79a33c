package value

import (
	"encoding/json"
	"reflect"
	"testing"
)

// walk rebuilds a JSON value with Members and Elements alone.
func walk(t *testing.T, raw json.RawMessage) any {
	t.Helper()
	switch raw[0] {
	case '{':
		out := map[string]any{}
		for k, v := range Members(raw) {
			out[string(k)] = walk(t, v)
		}
		return out
	case '[':
		out := []any{}
		for v := range Elements(raw) {
			out = append(out, walk(t, v))
		}
		return out
	}
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		t.Fatalf("%q is not one value: %v", raw, err)
	}
	return v
}

func TestMembersAndElements(t *testing.T) {
	for _, text := range []string{
		`{}`, `[]`, `{ }`, `[ ]`, `{"a":1}`, `{"a" : 1 , "b":[ 1,2 ,{"c":"}"} ] }`, `[[],[[]],{}]`,
		`{"q\"uote":"back\\slash","u\u00e9":"é"}`,
		"[\n\t1 ,\r\n\"a,b\" , null,true ]", `{"a":{"b":{"c":[{"d":"]"}]}}}`, `[-1.5e3,"",{"":""}]`,
	} {
		var want any
		if err := json.Unmarshal([]byte(text), &want); err != nil {
			t.Fatal(err)
		}
		if got := walk(t, json.RawMessage(text)); !reflect.DeepEqual(got, want) {
			t.Errorf("%s is walked as %v, want %v", text, got, want)
		}
	}
}

func FuzzMembers(f *testing.F) {
	f.Add([]byte(`{"a":[1,{"b":"\"}]"}],"c\\":null}`))
	f.Add([]byte("{\"\xf9\":\"\xf9\"}"))
	f.Add([]byte(" [ 1 , [ ] , {\"x\" : true}]"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for range Members(raw) { // whatever the text is, the walk ends
		}
		for range Elements(raw) {
		}
		var want any
		var first json.RawMessage
		if json.Unmarshal(raw, &want) != nil || json.Unmarshal(raw, &first) != nil {
			return
		}
		if got := walk(t, first); !reflect.DeepEqual(got, want) {
			t.Fatalf("%q is walked as %v, encoding/json reads %v", raw, got, want)
		}
	})
}

// A member and what a text says are found as a decoder finds them; where there is none, nothing is.
func TestMemberAndSpelt(t *testing.T) {
	for _, c := range []struct{ object, name, want string }{
		{`{"a":"x","b":{"a":"y"}}`, "a", "x"}, {`{"b":{"a":"y"} , "a" : "z"}`, "a", "z"}, {`{"ä\"":"ö"}`, `ä"`, "ö"},
		{`{"a":"\u00f6\\\""}`, "a", `ö\"`}, {`{"a":""}`, "a", ""}, {`{"a":"x","a":"y"}`, "a", "x"},
	} {
		if got := Spelt(Member([]byte(c.object), c.name)); got == nil || string(got) != c.want {
			t.Errorf("%s of %s says %q, want %q", c.name, c.object, got, c.want)
		}
	}
	for _, object := range []string{"", `{}`, `{"b":{"a":"y"}}`, `{"a":null}`, `{"a":7}`, `{"a":["x"]}`, `{"a":{}}`, `["a","x"]`,
		`"a"`, `null`, `{"a"`, `{"a":"x`} {
		if got := Spelt(Member([]byte(object), "a")); got != nil {
			t.Errorf("a of %s says %q", object, got)
		}
	}
}
