package rulebook

import (
	"strings"
	"testing"
)

func TestSignalsOfARulebook(t *testing.T) {
	rb := mustLoad(t, []File{{"r.yaml", `rulebook: r
signals:
  compliant_from: sound
  risk: {low_from: strong}
  receivers:
    - {id: idp, events: [session-revoked, device-compliance-change, session-revoked], device: serial, person: email}
    - {id: gateway, compliant_from: limited}
`}})
	s := rb.Signals
	idp, gateway := s.Receiver("idp"), s.Receiver("gateway")
	if rb.LevelName(s.CompliantFrom) != "sound" || rb.LevelName(s.LowFrom) != "strong" ||
		rb.LevelName(s.MediumFrom) != "sound" {
		t.Errorf("the levels are %+v", s)
	}
	if got := strings.Join(idp.Events, " "); got != "device-compliance-change session-revoked" ||
		idp.Device != "serial" ||
		idp.Person != "email" || idp.CompliantFrom != s.CompliantFrom {
		t.Errorf("idp is %+v", idp)
	}
	if len(gateway.Events) != len(SignalNames) || gateway.Device != "id" || gateway.Person != "none" ||
		rb.LevelName(gateway.CompliantFrom) != "limited" || s.Receiver("nobody") != nil {
		t.Errorf("gateway is %+v", gateway)
	}
	// A ladder of two has a place for all of it.
	if s := mustLoad(t, []File{{"r.yaml", "rulebook: r\nladder: [no, yes]\n"}}).Signals; s.CompliantFrom != 1 ||
		s.LowFrom != 1 || s.MediumFrom != 1 {
		t.Errorf("of two levels: %+v", s)
	}
	for text, want := range map[string]string{
		"{receivers: [{events: [session-revoked]}]}":       "needs an id",
		"{receivers: [{id: a}, {id: a}]}":                  "the id a is used twice in receivers",
		"{receivers: [{id: a, events: []}]}":               "at least one event",
		"{receivers: [{id: a, events: [session-revokd]}]}": "did you mean session-revoked?",
		"{receivers: [{id: a, device: mac}]}":              "is not a form of a device",
		"{receivers: [{id: a, person: name}]}":             "is not a form of a person",
		"{receivers: [{id: a, compliant_from: golden}]}":   "is not a level",
		"{risk: {low_from: limited, medium_from: strong}}": "medium_from lies above low_from",
		"{compliant_form: sound}":                          "compliant_form",
		"{receivers: [{id: A}]}":                           "is not an id",
	} {
		if _, err := Load([]File{{"r.yaml", "rulebook: r\nsignals: " + text + "\n"}}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}
