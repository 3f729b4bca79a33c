package rulebook

import (
	"strings"
	"testing"

	"ironledger.example/core/value"
)

func TestNoticesOfARulebook(t *testing.T) {
	const head = "rulebook: r\nsignals: {receivers: [{id: chat, form: cloudevents}, {id: idp}]}\nnotices: "
	rb := mustLoad(t, []File{{"r.yaml", head + `
  - {id: fell, on: fell, when: change.to < sound, to: owner}
  - {id: ends, on: waiver-ends, before: 12h, to: {mail: desk@gullholm.example}, language: sv}
  - {id: grace, on: grace-ends, to: owner}
  - {id: glass, on: break-glass, to: {hook: chat}}
`}})
	if n := rb.Notice("fell"); !n.To.Owner || n.When == nil || n.Before != 0 || rb.Notice("nobody") != nil {
		t.Errorf("fell is %+v", n)
	}
	if n := rb.Notice("ends"); n.Before != value.Day/2 || n.To.Mail != "desk@gullholm.example" || n.Language != "sv" {
		t.Errorf("ends is %+v", n)
	}
	if n := rb.Notice("grace"); n.Before != DefaultBefore {
		t.Errorf("grace is %+v", n)
	}
	for text, want := range map[string]string{
		"[{id: a, to: owner}]":                                         "needs on",
		"[{id: a, on: fell}]":                                          "needs to",
		"[{id: a, on: fall, to: owner}]":                               "did you mean fell?",
		"[{id: a, on: fell, to: owners}]":                              "did you mean owner?",
		"[{id: a, on: fell, to: {mail: nobody}}]":                      "not an address",
		"[{id: a, on: fell, to: {mail: 'a@b.example, c@d.example'}}]":  "not an address",
		"[{id: a, on: fell, to: {hook: idp}}]":                         "told by set",
		"[{id: a, on: fell, to: {hook: room}}]":                        "no receiver room",
		"[{id: a, on: fell, to: {hook: chat, mail: a@b.example}}]":     "goes to owner",
		"[{id: a, on: fell, to: {}}]":                                  "goes to owner",
		"[{id: a, on: break-glass, to: owner}]":                        "no owner",
		"[{id: a, on: source-quiet, when: managed, to: {hook: chat}}]": "no device",
		"[{id: a, on: fell, before: 2d, to: owner}]":                   "told of when it happens",
		"[{id: a, on: fell, when: change.up, to: owner}]":              "change.up",
		"[{id: a, on: fell, to: owner, language: Swedish}]":            "language tag",
		"[{id: a, on: fell, to: owner}, {id: a, on: rose, to: owner}]": "used twice",
	} {
		if _, err := Load([]File{{"r.yaml", head + text + "\n"}}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}
