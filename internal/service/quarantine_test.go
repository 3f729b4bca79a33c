package service_test

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"golang.org/x/crypto/ocsp"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	issuer "ironledger.example/internal/authority"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/service"
)

// A person's order holds a device at the lowest level whatever it shows, over restarts, until its end or until it is
// lifted; then the device stands as its evidence has it. Its certificates are on hold meanwhile.
func TestQuarantine(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := issuing(t, dir)
		cert := enrolled(t, s)
		ca := s.Authority.Trusted()[0]
		question, err := ocsp.CreateRequest(cert, ca, nil)
		if err != nil {
			t.Fatal(err)
		}
		others := func(want int, listed bool) {
			t.Helper()
			r, err := ocsp.ParseResponse(s.Authority.OCSP(question, func() bool { return true }), ca)
			if err != nil || r.Status != want || want == ocsp.Revoked && r.RevocationReason != ocsp.CertificateHold {
				t.Errorf("others are told %+v, %v", r, err)
			}
			raw, err := s.Authority.CRL(a1(t, s, kept.AuthoritySigns))
			if err != nil {
				t.Fatal(err)
			}
			l, err := x509.ParseRevocationList(raw)
			if err != nil || (len(l.RevokedCertificateEntries) == 1) != listed {
				t.Errorf("the list has %d", len(l.RevokedCertificateEntries))
			}
		}
		others(ocsp.Good, false)
		if _, ok := from(t, s, cert); !ok {
			t.Fatal("the device is not let in before")
		}
		if _, err := s.Admin.Quarantine(ctx, "desk", []string{"GF-1"}, "looked at, ticket 5120", time.Hour); err != nil {
			t.Fatal(err)
		}
		if level(s, "d1") != "barred" {
			t.Errorf("it stands at %s", level(s, "d1"))
		}
		synctest.Wait()
		if n := len(entries(t, s, ledger.SessionEnded)); n != 1 {
			t.Errorf("%d sessions ended with it", n)
		}
		others(ocsp.Revoked, true)
		d := s.View.Device("d1")
		if d.Quarantine.By != "desk" || !slices.Contains(d.Standing.Binding, posture.Quarantine) ||
			!slices.Contains(d.Standing.Reach[0].Rules, posture.Quarantine) || d.NextChange == "" {
			t.Errorf("it is shown as %+v", d.Standing)
		}
		if _, ok := from(t, s, cert); ok {
			t.Error("a device in quarantine is let in")
		}
		a, err := s.Decisions.Decide("gate", &access.Evaluation{Subject: access.Entity{Type: "user", ID: "maren"},
			Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "resource", ID: "payroll"},
			Context: &access.Context{Device: &access.DeviceRef{ID: "d1"}}})
		if err != nil || !strings.Contains(a.ReasonAdmin["en"], "quarantine") || len(a.Remedies) == 0 ||
			a.Remedies[0].Remedy["en"].Title != "This device is in quarantine" {
			t.Errorf("the reason is %v %+v, %v", a.ReasonAdmin, a.Remedies, err)
		}
		_, err = s.Authority.Enrol(ctx, issuer.Asking{By: cert, Request: csr(t, made(t), "d1")})
		if err == nil {
			t.Error("a device in quarantine renews its certificate")
		}
		report(t, s, "d1", `"storage.encrypted":true,"name":"tern"`) // whatever it shows
		publish(t, s, strings.Replace(grants, "cap: barred", "cap: limited", 1))
		if level(s, "d1") != "barred" {
			t.Errorf("after evidence and another rulebook it stands at %s", level(s, "d1"))
		}
		shut(t, s)
		s = issuing(t, dir)
		if level(s, "d1") != "barred" || s.View.Device("d1").Quarantine.Reason != "looked at, ticket 5120" {
			t.Errorf("after a restart it stands at %s", level(s, "d1"))
		}
		during := s.Now()
		time.Sleep(61 * time.Minute)
		synctest.Wait()
		if got := s.View.Device("d1"); got.Level != "strong" || got.Quarantine.Device != "" ||
			slices.Contains(got.Standing.Binding, posture.Quarantine) {
			t.Errorf("after its end it stands at %s, %+v", got.Level, got.Quarantine)
		}
		others(ocsp.Good, false)
		if then, err := s.View.DeviceAt(ctx, "d1", during.UnixMicro()); err != nil || then.Level != "barred" ||
			then.Quarantine.Device != "d1" {
			t.Errorf("then it stood at %v, %v", then, err)
		}
		shut(t, s)
	})
}

// Orders are given and lifted for all of several or for none, and say why.
func TestQuarantineOfSeveral(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	for i := range 3 {
		report(t, s, fmt.Sprint("q", i), `"form":"laptop","storage.encrypted":true`)
	}
	order := func(names ...string) error {
		_, err := s.Admin.Quarantine(ctx, "desk", names, "a trial", 0)
		return err
	}
	lift := func(names ...string) error { _, err := s.Admin.Release(ctx, "admin", names, "over"); return err }
	if err := order("q0", "q1", "nobody"); err == nil || level(s, "q0") != "strong" {
		t.Errorf("with one that there is not: %v, and q0 stands at %s", err, level(s, "q0"))
	}
	if err := order("q0", "q1", "q0"); err != nil {
		t.Fatal(err)
	}
	if n := len(entries(t, s, ledger.DeviceQuarantined)); n != 2 {
		t.Errorf("two orders made %d entries", n)
	}
	if err := lift("q0", "q2"); err == nil || level(s, "q0") != "barred" {
		t.Errorf("lifted with one that is in none: %v, and q0 stands at %s", err, level(s, "q0"))
	}
	if err := lift("q0", "q1"); err != nil || level(s, "q0") != "strong" || level(s, "q1") != "strong" {
		t.Errorf("lifted: %v, %s", err, level(s, "q0"))
	}
	for name, err := range map[string]error{"nobody": order(), "no reason": func() error {
		_, err := s.Admin.Quarantine(ctx, "desk", []string{"q0"}, " ", 0)
		return err
	}(), "a second": func() error {
		_, err := s.Admin.Quarantine(ctx, "desk", []string{"q0"}, "x", time.Second)
		return err
	}()} {
		refusedAs[*fault.InputError](t, name, err, "")
	}
	var _ *service.Service = s
}

// Sessions end by hand: of a device, of a person, of a resource, or of what is all that is said; after a restart too.
func TestSessionsEndByHand(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := issuing(t, dir)
	publish(t, s, `rulebook: r
break_glass: [master]
unknown_people: gates
resources: [{id: payroll}, {id: rota}]
gates: [{id: all, who: {everyone: true}, what: {everything: true}, need: known_device, valid_for: 8h}]
`)
	report(t, s, "d2", `"form":"laptop"`)
	begin := func() {
		t.Helper()
		for _, person := range []string{"ada", "bo"} {
			for _, device := range []string{"d1", "d2"} {
				for _, resource := range []string{"payroll", "rota"} {
					a, err := s.Decisions.Decide("gate", &access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
						Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "resource", ID: resource},
						Context: &access.Context{Device: &access.DeviceRef{ID: device}}})
					if err != nil || a.Outcome != access.Allow {
						t.Fatal(a.Outcome, err)
					}
				}
			}
		}
	}
	live := func() int { return len(s.Decisions.Sessions("", "", "")) }
	for _, c := range []struct {
		device, person, resource string
		ended                    int
	}{{"d1", "", "", 4}, {"", "ada", "", 4}, {"", "", "rota", 4}, {"GF-1", "bo", "", 2}, {"d2", "ada", "payroll", 1},
		{"", "nobody", "", 0}} {
		begin()
		if live() != 8 {
			t.Fatalf("%d sessions have begun", live())
		}
		n, err := s.Decisions.EndSessions(ctx, "desk", c.device, c.person, c.resource, "a trial")
		if err != nil || n != c.ended || live() != 8-c.ended {
			t.Errorf("%+v: %d ended, %d live, %v", c, n, live(), err)
		}
	}
	time.Sleep(1100 * time.Millisecond) // an allow tells its second: one of the same is taken for ended, after a restart
	begin()
	if _, err := s.Decisions.EndSessions(ctx, "desk", "", "", "payroll", "a trial"); err != nil {
		t.Fatal(err)
	}
	shut(t, s)
	s = open(t, dir)
	defer shut(t, s)
	if live() != 4 || len(s.Decisions.Sessions("", "", "payroll")) != 0 {
		t.Errorf("after a restart %d live", live())
	}
	for whose, err := range map[string]error{"nobody's": end(s, "", "", "", "x"),
		"no reason": end(s, "d1", "", "", "")} {
		refusedAs[*fault.InputError](t, whose, err, "")
	}
	if err := end(s, "d9", "", "", "x"); err == nil {
		t.Error("sessions of a device that there is not end")
	}
}

func end(s *service.Service, device, person, resource, reason string) error {
	_, err := s.Decisions.EndSessions(ctx, "desk", device, person, resource, reason)
	return err
}

// What people put on a device counts at once, for all of several or for none, after a restart and in the past too.
func TestTags(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		publish(t, s, `rulebook: r
break_glass: [master]
baselines:
  - {id: all, rules: [{id: form, check: known(form), cap: limited}]}
  - {id: pilot, applies: tags contains "pilot", rules: [{id: disk, check: storage.encrypted, cap: barred}]}
examples:
  - {device: {form: laptop, storage.encrypted: false}, level: strong}
  - {device: {form: laptop, storage.encrypted: false, tags: [pilot]}, level: barred}
`)
		for _, id := range []string{"d1", "d2", "d3"} {
			report(t, s, id, `"form":"laptop","storage.encrypted":false,"serial":"S-`+id+`"`)
		}
		put := func(d api.TagsDraft) error { _, err := s.Admin.Tag(ctx, "desk", d); return err }
		stand := func(want ...string) {
			t.Helper()
			if got := []string{level(s, "d1"), level(s, "d2"), level(s, "d3")}; !slices.Equal(got, want) {
				t.Errorf("they stand at %v; %v was expected", got, want)
			}
		}
		if err := put(api.TagsDraft{Devices: []string{"S-d1", "d2", "nobody"}, Add: []string{"pilot"}}); err == nil {
			t.Error("a device that there is not is tagged")
		}
		stand("strong", "strong", "strong")
		before := s.Now()
		time.Sleep(time.Second)
		note := "lent out"
		if err := put(api.TagsDraft{Devices: []string{"S-d1", "d2", "d1"}, Add: []string{"pilot", "north"},
			Note: &note}); err != nil {
			t.Fatal(err)
		}
		stand("barred", "barred", "strong")
		if n := len(entries(t, s, ledger.DeviceTagged)); n != 2 {
			t.Errorf("two devices made %d entries", n)
		}
		if err := put(api.TagsDraft{Devices: []string{"d1"}, Add: []string{"pilot"},
			Remove: []string{"south"}}); err != nil ||
			len(entries(t, s, ledger.DeviceTagged)) != 2 {
			t.Errorf("what changes nothing is an entry: %v", err)
		}
		shut(t, s)
		s = open(t, dir)
		stand("barred", "barred", "strong")
		if got := s.View.Device("d1").Tags; !slices.Equal(got.Tags, []string{"north", "pilot"}) || got.Note != note {
			t.Errorf("after a restart: %+v", got)
		}
		if then, err := s.View.DeviceAt(ctx, "d1", before.UnixMicro()); err != nil || then.Level != "strong" ||
			len(then.Tags.Tags) != 0 {
			t.Errorf("before it stood at %v, %v", then, err)
		}
		if err := put(api.TagsDraft{Devices: []string{"d1", "d2"}, Remove: []string{"pilot"}}); err != nil {
			t.Fatal(err)
		}
		stand("strong", "strong", "strong")
		report(t, s, "d3", `"tags":["pilot"]`) // no report puts one on
		stand("strong", "strong", "strong")
		for name, d := range map[string]api.TagsDraft{"nothing": {Devices: []string{"d1"}}, "nobody": {Add: []string{"x"}},
			"no word":    {Devices: []string{"d1"}, Add: []string{"a b"}},
			"a long one": {Devices: []string{"d1"}, Add: []string{strings.Repeat("x", 51)}},
			"many":       {Devices: []string{"d1"}, Add: strings.Split("abcdefghijklmnopqrstuvwxyz", "")}} {
			refusedAs[*fault.InputError](t, name, put(d), "")
		}
		shut(t, s)
	})
}
