package service_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/service"
	"ironledger.example/internal/view"
	"ironledger.example/internal/view/find"
)

// A publication replaces the fleet device by device. Whoever reads meanwhile
// must see each device under one rulebook, and never a mixture.
func TestReadersNeverSeeAMixtureOfRulebooks(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	books := []string{
		"rulebook: one\nbaselines: [{id: a, rules: [{id: x, check: managed, cap: limited}, {id: y, check: firewall.on, cap: sound}]}]\n",
		"rulebook: two\nladder: [low, high]\nbaselines: [{id: b, rules: [{id: only, check: not managed, cap: low}]}]\n",
		"rulebook: three\nfreshness: {default: 9h}\nbaselines: [{id: a, mode: shadow, rules: [{id: y, check: firewall.on, cap: limited}, {id: x, check: managed, cap: barred}]}]\n",
	}
	rules := []string{"a/x a/y", "b/only", "a/x a/y"}
	levels := [][]string{{"sound"}, {"low"}, {"unproven"}}
	publish(t, s, books[0])
	const n = 150
	var lines []string
	for i := range n {
		lines = append(lines, fmt.Sprintf(`{"source":"agent","identity":{"id":"d%d"},"evidence":{"managed":true,"firewall.on":false,"name":"n%d"}}`, i, i))
	}
	take(t, s, "", lines...)
	stop := make(chan struct{})
	var wg sync.WaitGroup
	for r := range 3 {
		wg.Go(func() {
			for i := r; ; i++ {
				select {
				case <-stop:
					return
				default:
				}
				d := s.View.Device(fmt.Sprintf("d%d", i*7%n))
				var keys []string
				for _, v := range d.Standing.Verdicts {
					keys = append(keys, v.Rule)
				}
				slices.Sort(keys)
				b := slices.Index(rules, strings.Join(keys, " "))
				if b < 0 || d.Level != d.Standing.Level || !slices.Contains(append(levels[b], levels[2-b]...),
					d.Level) {
					t.Errorf("version %d: %s stands at %s, its standing says %s by %v", d.Rulebook, d.ID,
						d.Level, d.Standing.Level, keys)
					return
				}
				if page, err := s.View.Devices(ctx, find.Query{Limit: 1000}); err != nil ||
					page.Total != n || len(page.Levels) != 1 {
					t.Errorf("a list of %v (%v)", page.Levels, err)
					return
				}
			}
		})
	}
	for i := range 12 {
		publish(t, s, books[(i+1)%3])
		if i%5 == 0 {
			report(t, s, "d1", `"managed":true,"firewall.on":false`)
		}
		for _, id := range []string{"d0", "d1", "d149"} {
			if got := level(s, id); !slices.Contains(levels[(i+1)%3], got) {
				t.Errorf("after publication %d %s stands at %s", i, id, got)
			}
		}
	}
	close(stop)
	wg.Wait()
}

func TestCertificatesArePagedAndSearched(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	a, other := newAuthority(t), newAuthority(t)
	files := a.files(50 * time.Hour)
	if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: files}); err != nil {
		t.Fatal(err)
	}
	for i := range 7 {
		by := a
		if i == 6 {
			by = other
		}
		_, shows := by.device(fmt.Sprintf("d%d", i), -time.Hour, time.Duration(i+1)*10*time.Hour)
		report(t, s, fmt.Sprintf("d%d", i), `"platform":"linux","certs":`+shows)
	}
	report(t, s, "bare", `"platform":"ios"`)
	var seen []string
	q := view.CertificateQuery{Limit: 3}
	for range 5 {
		page, err := s.View.Certificates(ctx, q)
		if err != nil || page.Total != 7 {
			t.Fatal(page, err)
		}
		for _, c := range page.Items {
			seen = append(seen, c.Device)
		}
		if q.Cursor = page.Next; q.Cursor == "" {
			break
		}
	}
	if got := strings.Join(seen, " "); got != "d0 d1 d2 d3 d4 d5 d6" {
		t.Errorf("page by page it lists %s", got)
	}
	for where, want := range map[string]string{
		"until(not_after) < 25h":                   "d0 d1",
		`issuer_id == ""`:                          "d6",
		`trusted and device in ["d1", "d2"]`:       "d1 d2",
		"platform == ios":                          "",
		"lifetime > 60h":                           "d5 d6",
		`subject contains "d3" and level > barred`: "d3",
	} {
		page, err := s.View.Certificates(ctx, view.CertificateQuery{Where: where, Limit: 50})
		if err != nil {
			t.Errorf("%s: %v", where, err)
			continue
		}
		var got []string
		for _, c := range page.Items {
			got = append(got, c.Device)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s selects %v, want %s", where, got, want)
		}
	}
	page, err := s.View.Certificates(ctx, view.CertificateQuery{State: view.CertificateUntrusted, Limit: 5})
	if err != nil || page.Total != 1 ||
		page.States[view.CertificateTrusted]+page.States[view.CertificateEnding] != 6 ||
		page.Issuers[0].Certificates != 6 || page.Issuers[1].Certificates != 1 {
		t.Errorf("untrusted are %+v (%v)", page, err)
	}
	for _, bad := range []view.CertificateQuery{{State: "x"}, {Where: "der == \"x\""},
		{Where: "why == \"x\""}, {Cursor: "%"}, {Where: "trusted +"}} {
		if _, err := s.View.Certificates(ctx, bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	// What is reported is kept whole over a restart, the certificate itself too.
	before := s.View.Device("d0").Certificates
	rb, err := rulebook.Load(files)
	if err != nil {
		t.Fatal(err)
	}
	kept := s.Snapshot().Fleet.Get("d0").Record
	back, err := rb.Dict.UnmarshalSource("agent", kept.MarshalSource("agent"))
	if err != nil || len(back.Readings) != kept.Len() ||
		!back.Value("certs").Equal(evidenceValue(kept, "certs").Value) {
		t.Errorf("the evidence comes back as %+v (%v)", back, err)
	}
	if len(before) != 1 || before[0].State == view.CertificateUntrusted {
		t.Errorf("d0 shows %+v", before)
	}
}

// evidenceValue finds a reading of a record.
func evidenceValue(r *evidence.Record, name string) evidence.Reading {
	for x := range r.All() {
		if x.Name == name {
			return x
		}
	}
	return evidence.Reading{}
}

// A device of which a publication tells nothing new stays as it is in memory.
// What was remembered of it must still reach the right rule when a later
// publication, or a candidate, has its rules in other places.
func TestADeviceLeftAloneByAPublicationIsStillUnderstood(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		book := "rulebook: one\nbaselines: [{id: a, rules: [{id: x, check: managed, cap: limited}, {id: y, check: CHECK, cap: barred, grace: 3h}]}]\n"
		with := func(check string) string { return strings.Replace(book, "CHECK", check, 1) }
		publish(t, s, with("firewall.on"))
		report(t, s, "d1", `"managed":true,"firewall.on":false`)
		top := level(s, "d1")
		time.Sleep(2 * time.Hour)
		for _, check := range []string{"firewall.on == true", "not firewall.on == false"} {
			if moved := publish(t, s, with(check)); moved != 0 || level(s, "d1") != top {
				t.Fatalf("%s moved %d, to %s", check, moved, level(s, "d1"))
			}
		}
		shifted := "rulebook: four\nbaselines: [{id: a, rules: [{id: v, check: managed, cap: limited}, {id: w, check: managed, cap: limited}, {id: x, check: managed, cap: limited}, {id: y, check: firewall.on, cap: barred, grace: 3h}]}]\n"
		shift, err := s.Admin.Rehearse(ctx, []rulebook.File{{Name: "r.yaml", Text: shifted}})
		if err != nil || shift.Falls+shift.Rises != 0 {
			t.Errorf("the rehearsal moves %+v (%v)", shift, err)
		}
		publish(t, s, shifted)
		if d := s.View.Device("d1"); d.Level != top || d.Rulebook != 4 {
			t.Errorf("under rulebook %d it stands at %s", d.Rulebook, d.Level)
		}
		time.Sleep(time.Hour + time.Second)
		if got := level(s, "d1"); got != "barred" {
			t.Errorf("three hours after the failure it stands at %s", got)
		}
	})
}

// Many callers at once: when they are done, every session that lives is still an
// allow, what was recorded can be told again, and a restart finds what was sealed.
func TestManyCallersAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	strict := strings.Replace(house, "os.version >= 14,", "os.version >= 15,", 1)
	publish(t, s, house)
	staff(t, s, "finance")
	devices := []string{"d1", "d2", "d3"}
	for _, d := range devices {
		report(t, s, d, good)
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	decisions := []string{}
	for caller := range 8 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(caller), 13))
			for range 30 {
				d := devices[r.IntN(len(devices))]
				var err error
				switch r.IntN(10) {
				case 0:
					_, _, err = s.Admin.Publish(ctx, "author",
						api.Draft{Files: []rulebook.File{{Name: "r.yaml",
							Text: []string{house, strict}[r.IntN(2)]}}, AcceptImpact: "a trial"})
				case 1:
					_, err = s.Admin.ImportPeople(ctx, "hr",
						[]directory.Person{{ID: "maren", Name: "Maren",
							Groups: [][]string{{"finance"}, {}}[r.IntN(2)]}},
						admin.ListImport{AcceptImpact: "a trial"})
				case 2:
					_, _ = service.WaiveOne(ctx, s, "desk", api.ExceptionDraft{Device: d, Rule: "laptop/os",
						Reason: "on its way", For: "6h"}) // there may be one
				case 3, 4, 5:
					report(t, s, d, fmt.Sprintf(`"form":"laptop","storage.encrypted":%t,"os.version":"14.%d","threat.score":%d`, r.IntN(4) > 0, r.IntN(4), r.IntN(45)))
				default:
					var id string
					if id, _, err = s.Decisions.Permit(fmt.Sprint("edge-", r.IntN(2)),
						question("maren", d)); err == nil {
						mu.Lock()
						decisions = append(decisions, id)
						mu.Unlock()
					}
				}
				var conflict *admin.ConflictError
				var same *admin.UnchangedError
				if err != nil && !errors.As(err, &conflict) && !errors.As(err, &same) {
					t.Errorf("caller %d: %v", caller, err)
				}
			}
		})
	}
	wg.Wait()
	check := func(when string) {
		t.Helper()
		for _, live := range s.Decisions.Sessions("", "", "") {
			if a := s.Decisions.Ask(question(live.Person, live.Device)); a.Outcome != access.Allow {
				t.Errorf("%s the session %s from %s lives on, and asking gives %s", when, live.Decision,
					live.Device, a.Outcome)
			}
		}
		for _, id := range decisions {
			if got, err := s.Decisions.ReproduceDecision(ctx, id); err != nil || !got.Same {
				t.Errorf("%s decision %s: %+v (%v)", when, id, got, err)
			}
		}
		if v := verified(t, s); v.State != "sound" {
			t.Errorf("%s the ledger is %+v", when, v)
		}
	}
	check("at once")
	before := len(s.Decisions.Sessions("", "", ""))
	shut(t, s)
	s = open(t, dir)
	defer shut(t, s)
	check("after a restart")
	if after := len(s.Decisions.Sessions("", "", "")); after != before {
		t.Errorf("%d sessions lived before the restart, %d after it", before, after)
	}
}
