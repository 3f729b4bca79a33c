package notice

import (
	"testing"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// A certificate that ends is told of unless one of the same issuer takes its place.
func TestACertificateThatEnds(t *testing.T) {
	b := state.EmptyBook()
	slot := b.Rulebook.Dict.Slot("certs")
	cert := func(sum, issuer string, trusted bool, until int64) value.Value {
		fields := make([]value.Value, len(certificate.Type.Fields))
		for name, v := range map[string]value.Value{"sha256": value.OfText(sum), "issuer_id": value.OfText(issuer),
			"trusted": value.OfBool(trusted), "not_after": value.OfTime(until)} {
			fields[certificate.Type.Index(name)] = v
		}
		return value.OfRecord(certificate.Type, fields)
	}
	ending := cert("a", "device-ca", true, 100)
	for name, c := range map[string]struct {
		certs []value.Value
		told  bool
	}{
		"alone":                     {[]value.Value{ending}, true},
		"renewed":                   {[]value.Value{ending, cert("b", "device-ca", true, 200)}, false},
		"another issuer's lives on": {[]value.Value{ending, cert("b", "door-ca", true, 200)}, true},
		"the other is not trusted":  {[]value.Value{ending, cert("b", "device-ca", false, 200)}, true},
		"the other ends before":     {[]value.Value{cert("b", "device-ca", true, 50), ending}, true},
		"it is no longer shown":     {[]value.Value{cert("b", "device-ca", true, 200)}, false},
		"it is trusted no longer":   {[]value.Value{cert("a", "device-ca", false, 100)}, false},
	} {
		view := &evidence.View{Frame: condition.NewFrame(len(b.Rulebook.Dict.Attributes()))}
		view.Frame.Set(slot, value.OfList(c.certs), condition.Always)
		if got := holds(b, &state.Device{View: view}, &kept.Notice{Ref: "a", Until: 100}, 10); got != c.told {
			t.Errorf("%s: told is %t", name, got)
		}
	}
}
