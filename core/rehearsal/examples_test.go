package rehearsal

import (
	"strings"
	"testing"

	"ironledger.example/core/rulebook"
)

const staged = `rulebook: staged
authority: {id: house, name: gullholm.example, profiles: [{id: staff}]}
places: {office: {networks: [10.20.0.0/16]}}
resources: [{id: till}, {id: vault}]
baselines:
  - id: all
    rules:
      - {id: disk, check: storage.encrypted, cap: limited, grace: 3d}
      - {id: patched, check: age(os.patched_at) <= 30d, cap: sound}
      - id: cert
        check: any c in certs (c.issuer_id == "house" and c.trusted and not c.revoked and until(c.not_after) > 1d)
        cap: sound
gates:
  - id: fresh
    who: {everyone: true}
    what: {resources: [till]}
    need: age(auth.at) <= 15m and auth.methods contains "webauthn"
  - id: proved
    who: {everyone: true}
    what: {resources: [vault]}
    need: request.certificate and request.certificate.profile == "staff" and age(request.certificate.at) <= 7d
`

// Examples state certificates by their fields, moments by their distance, failures that began before, and all that a
// request says. They come out the same whenever they are run.
func TestExamplesInFull(t *testing.T) {
	const good = `os.patched_at: -2d, certs: [{issuer_id: house, trusted: true, not_after: +30d}]`
	cases := []struct{ name, example, want string }{
		{"all is well", `device: {storage.encrypted: true, ` + good + `}, level: strong`, ""},
		{"patched long ago", `device: {storage.encrypted: true, os.patched_at: -31d, certs: [{issuer_id: house, trusted: true, not_after: +30d}]}, level: strong`,
			"all/patched is fail"},
		{"a certificate that ends soon", `device: {storage.encrypted: true, os.patched_at: now, certs: [{issuer_id: house, trusted: true, not_after: +20h}]}, level: strong`,
			"all/cert is fail"},
		{"one that is revoked", `device: {storage.encrypted: true, os.patched_at: now, certs: [{issuer_id: house, trusted: true, revoked: true, not_after: +20d}]}, level: sound`, ""},
		{"one of which nothing is said", `device: {storage.encrypted: true, os.patched_at: now, certs: [{}]}, level: strong`,
			"all/cert is unknown"},
		{"none", `device: {storage.encrypted: true, os.patched_at: now, certs: []}, level: strong`, "all/cert is fail"},
		{"the second is good", `device: {storage.encrypted: true, os.patched_at: now, certs: [{issuer_id: house, trusted: false, not_after: +3d}, {issuer_id: house, trusted: true, not_after: +3d}]}, level: strong`, ""},
		{"a lifetime that follows", `at: 2026-03-01T00:00:00Z, device: {storage.encrypted: true, os.patched_at: 2026-02-20T00:00:00Z, certs: [{issuer_id: house, trusted: true, not_before: -1d, not_after: +13d}]}, level: strong`, ""},
		{"a failure within its grace", `device: {storage.encrypted: false, ` + good + `}, level: strong`, ""},
		{"one that began two days ago", `device: {storage.encrypted: false, ` + good + `}, failing_for: {all/disk: 2d}, level: strong`, ""},
		{"one that began four days ago", `device: {storage.encrypted: false, ` + good + `}, failing_for: {all/disk: 4d}, level: limited`, ""},
		{"one that is over", `device: {storage.encrypted: true, ` + good + `}, failing_for: {all/disk: 4d}, level: strong`, ""},
		{"signed in just now", `user: ada, resource: till, auth_at: -5m, methods: [pin, webauthn], outcome: allow`, ""},
		{"signed in an hour ago", `user: ada, resource: till, auth_at: -1h, methods: [webauthn], outcome: allow`, "deny"},
		{"without the method", `user: ada, resource: till, auth_at: now, methods: [pin], outcome: deny`, ""},
		{"with the certificate", `user: ada, resource: vault, certificate: true, certificate_profile: staff, certificate_at: -2d, outcome: allow`, ""},
		{"with an old one", `user: ada, resource: vault, certificate: true, certificate_profile: staff, certificate_at: -9d, outcome: deny`, ""},
		{"without one", `user: ada, resource: vault, certificate: false, outcome: deny`, ""},
	}
	text := staged + "examples:\n"
	for _, c := range cases {
		text += "  - {title: " + c.name + ", " + c.example + "}\n"
	}
	rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: text}})
	if err != nil {
		t.Fatal(err)
	}
	const year = 366 * 24 * 3600 * 1_000_000
	for _, at := range []int64{now, now + year} {
		for i, o := range Examples(rb, at) {
			said := o.Got + " " + strings.Join(o.Reasons, " ")
			if c := cases[i]; o.Passed != (c.want == "") || !strings.Contains(said, c.want) {
				t.Errorf("%s at %d: passed is %v, %s; %q was expected", c.name, at, o.Passed, said, c.want)
			}
		}
	}
}

// What an example states wrongly is said where it stands.
func TestMistakesOfExamples(t *testing.T) {
	for _, c := range []struct{ name, example, want string }{
		{"an issuer that there is not", `device: {certs: [{issuer_id: hause}]}, level: strong`,
			"hause is not a known issuer; did you mean house?"},
		{"a field that there is not", `device: {certs: [{trust: true}]}, level: strong`, "did you mean trusted?"},
		{"a hidden field", `device: {certs: [{why: x}]}, level: strong`, "has no key why"},
		{"an end before its beginning", `device: {certs: [{not_before: +2d, not_after: +1d}]}, level: strong`,
			"ends before it begins"},
		{"a profile that there is not", `user: a, resource: till, certificate: true, certificate_profile: stuff, outcome: deny`,
			"did you mean staff?"},
		{"a profile of no certificate", `user: a, resource: till, certificate: false, certificate_profile: staff, outcome: deny`,
			"needs certificate: true"},
		{"a rule that there is not", `device: {form: laptop}, failing_for: {all/dish: 2d}, level: strong`,
			"there is no rule all/dish, as baseline/rule; did you mean all/disk?"},
		{"a failure of no device", `failing_for: {all/disk: 2d}, user: a, resource: till, outcome: deny`, "needs a device"},
		{"no distance", `device: {os.patched_at: -2y}, level: strong`, "is written as -2h or +30d"},
		{"no moment", `user: a, resource: till, auth_at: yesterday, outcome: deny`, "as -2h or +30d"},
		{"words and no certificate", `device: {certs: [x]}, level: strong`, "certs"},
		{"fields beside a text", `device: {certs: [{pem: x, trusted: true}]}, level: strong`, "certs"},
	} {
		_, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: staged + "examples:\n  - {" + c.example + "}\n"}})
		if err == nil || !strings.Contains(err.Error(), c.want) || !strings.Contains(err.Error(), "r.yaml:") {
			t.Errorf("%s is taken as %v; %q was expected", c.name, err, c.want)
		}
	}
}
