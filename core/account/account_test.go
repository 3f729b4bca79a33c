package account

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"ironledger.example/core/access"
	"ironledger.example/core/control"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

// book is a ledger in the making.
type book struct {
	entries []ledger.Entry
	at      int64
}

func (b *book) tell(seconds int64, e event.Event) {
	b.at = seconds * 1e6
	l := event.Entry(b.at, "astrid", e)
	l.Seq = int64(len(b.entries) + 1)
	b.entries = append(b.entries, l)
}

func (b *book) publish(at, version int64, rules ...event.PublishedRule) {
	b.tell(at, &event.RulebookPublished{Version: version, Rules: rules, Message: fmt.Sprint("v", version),
		Gates: []event.PublishedGate{{Gate: "payroll", Controls: []string{"gf-2"}}}})
}

func rule(key string, controls ...string) event.PublishedRule {
	return event.PublishedRule{Rule: key, Controls: controls}
}

func (b *book) first(at int64, device, verdicts string, version int64) {
	b.tell(at, &event.StandingChanged{Device: device, To: "sound", Verdicts: verdicts, Rulebook: version})
}

func (b *book) change(at int64, device, key string, from, to posture.Verdict, version int64) {
	b.tell(at, &event.StandingChanged{Device: device, From: "sound", To: "sound", Rulebook: version,
		Changed: []event.VerdictChange{{Rule: key, From: from, To: to}}})
}

var catalogue = control.Catalogue{Title: "House", Controls: []control.Control{{ID: "gf-1", Title: "Disks"},
	{ID: "gf-2", Title: "Locks"}, {ID: "gf-3", Title: "Nobody"}}}

// report makes a report of all entries before the end of a period in seconds.
func (b *book) report(t *testing.T, from, to int64) *Report {
	t.Helper()
	a := New(Period{from * 1e6, to * 1e6}, nil)
	for i := range b.entries {
		if err := a.Add(&b.entries[i]); errors.Is(err, ErrBehind) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
	}
	r, err := a.Report(ledger.Head{Origin: "o", Size: a.Size()}, "house", &catalogue, nil)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const hour = 3600

func TestAControlIsMetForAsLongAsDevicesPass(t *testing.T) {
	var b book
	b.publish(1, 1, rule("a/disk", "gf-1"), rule("a/lock", "gf-1", "gf-2"))
	b.first(2, "d1", "pp", 1)
	b.first(2, "d2", "pf", 1)
	b.change(10*hour, "d1", "a/disk", posture.Pass, posture.Fail, 1)
	b.change(15*hour, "d1", "a/disk", posture.Fail, posture.Waived, 1)
	b.change(16*hour, "d2", "a/lock", posture.Fail, posture.Unknown, 1)
	r := b.report(t, 5*hour, 25*hour)
	c := r.Controls[0]
	// d1: met 5, fails 5, excepted 10; d2: fails 11, unknown 9.
	if want := (Tally{Met: 5 * hour, NotMet: 16 * hour, Unknown: 9 * hour, Excepted: 10 * hour}); *c.Seconds != want {
		t.Errorf("gf-1 was %+v, want %+v", *c.Seconds, want)
	}
	if want := (Tally{Unknown: 1, Excepted: 1}); c.AtEnd != want || *c.Share != 0.125 || c.Changes != 3 {
		t.Errorf("gf-1 ends with %+v, share %v, %d changes", c.AtEnd, *c.Share, c.Changes)
	}
	if f := c.Failing; len(f) != 2 || f[0].Device != "d2" || f[0].State != "unknown" || f[0].Rules[0] != "a/lock" ||
		f[1].State != "excepted" || f[1].Since != "1970-01-01T15:00:00.000000Z" {
		t.Errorf("those that do not meet it are %+v", f)
	}
	if got := r.Controls[1]; got.AtEnd != (Tally{Met: 1, Unknown: 1}) || got.Seconds.Met != 20*hour {
		t.Errorf("gf-2 is %+v, %+v", got.AtEnd, got.Seconds)
	}
	if got := r.Nothing.Controls; len(got) != 1 || got[0] != "gf-3" {
		t.Errorf("nothing serves %v", got)
	}
}

func TestAMomentHasNoTime(t *testing.T) {
	var b book
	b.publish(1, 1, rule("a/disk", "gf-1"))
	b.first(2, "d1", "g", 1)
	r := b.report(t, 50, 50)
	if c := r.Controls[0]; c.Seconds != nil || c.Share != nil || c.Course != nil || c.AtEnd.NotMet != 1 || r.From != "" {
		t.Errorf("a moment tells %+v", c)
	}
	if r := b.report(t, 2, 2); r.Controls[0].AtEnd.All() != 0 || r.Ledger.Size != 1 {
		t.Error("an entry of the moment itself counts")
	}
}

func TestWhatIsNoKnownDeviceDoesNotCount(t *testing.T) {
	var b book
	b.publish(1, 1, rule("a/disk", "gf-1"))
	b.first(2, "gone", "p", 1)
	b.first(2, "purged", "p", 1)
	b.first(2, "stays", "p", 1)
	b.tell(3, &event.StandingChanged{Device: "held", To: "unproven", Verdicts: "p", Rulebook: 1, Outsider: true})
	b.tell(4, &event.StandingChanged{Device: "gone", From: "sound", To: "unproven", Rulebook: 1, Outsider: true})
	b.tell(5, &event.DevicePurged{Device: "purged"})
	r := b.report(t, 10, 20)
	if r.Controls[0].AtEnd.Met != 1 || r.Devices != 1 || r.Controls[0].Seconds.Met != 10 {
		t.Errorf("%+v of %d devices", r.Controls[0].AtEnd, r.Devices)
	}
	b.tell(15, &event.StandingChanged{Device: "held", From: "unproven", To: "sound", Rulebook: 1})
	if r := b.report(t, 10, 20); r.Controls[0].Seconds.Met != 15 || r.Devices != 2 {
		t.Errorf("a device that is let in counts %d seconds", r.Controls[0].Seconds.Met)
	}
}

func TestAPublicationChangesWhatServesAControl(t *testing.T) {
	var b book
	b.publish(1, 1, rule("a/disk", "gf-1"), event.PublishedRule{Rule: "s/tried", Controls: []string{"gf-1"}, Shadow: true})
	b.first(2, "d1", "pf", 1) // what is in shadow only watches
	// Under version 2 the order is another, and the rule that was in shadow counts.
	b.tell(100, &event.StandingChanged{Device: "d1", From: "sound", To: "sound", Rulebook: 2,
		Changed: []event.VerdictChange{{Rule: "a/disk", From: posture.Pass, To: posture.None}}})
	b.first(100, "d2", "p", 2)
	b.publish(100, 2, rule("s/tried", "gf-1"))
	r := b.report(t, 50, 200)
	if c := r.Controls[0]; c.Seconds.Met != 150 || c.Seconds.NotMet != 100 || c.AtEnd != (Tally{Met: 1, NotMet: 1}) {
		t.Errorf("gf-1 was %+v and is %+v", *c.Seconds, c.AtEnd)
	}
	if s := r.Controls[0].Serving; len(s) != 1 || s[0].ID != "s/tried" || s[0].Since != "1970-01-01T00:01:40.000000Z" {
		t.Errorf("served by %+v", s)
	}
	if p := r.Publications; len(p) != 2 || p[0].Version != 1 || p[1].Message != "v2" {
		t.Errorf("publications are %+v", p)
	}
	if p := b.report(t, 150, 200).Publications; len(p) != 1 || p[0].Version != 2 {
		t.Errorf("in force over the period were %+v", p)
	}
}

func TestDecisionsAndExceptionsAreThoseOfThePeriod(t *testing.T) {
	var b book
	decide := func(at int64, outcome access.Outcome, verdict string, emergency bool) {
		b.tell(at, &event.DecisionMade{ID: fmt.Sprint("x", at), Asked: &access.Evaluation{
			Subject: access.Entity{ID: "ada"}, Resource: access.Entity{ID: "payroll"}},
			Decision: &access.Decision{Outcome: outcome, BreakGlass: emergency,
				Gates: []access.GateRuling{{Gate: "payroll", Verdict: verdict}}}})
	}
	b.publish(1, 1, rule("a/disk", "gf-1"))
	at := func(s int64) string { return value.FormatTime(s * 1e6) }
	grant := func(now int64, id, state string, until int64) {
		b.tell(now, &event.WaiverGranted{Exception: event.Exception{ID: id, Device: "d1", Rule: "a/disk", Reason: "r",
			Author: "bo", At: at(now), Until: at(until), State: state}})
	}
	grant(2, "w-over", "live", 9)
	grant(3, "w-live", "live", 90)
	grant(4, "w-asked", "asked", 90)
	decide(5, access.Deny, "deny", false)
	decide(20, access.Allow, "met", false)
	decide(21, access.Deny, "deny", false)
	decide(22, access.Deny, "deny", false)
	decide(23, access.StepUp, "step-up", false)
	decide(24, access.Allow, "met", true)
	r := b.report(t, 10, 30)
	if *r.Decisions != (Outcomes{2, 1, 2}) || *r.Controls[1].Asked != (Outcomes{2, 1, 2}) {
		t.Errorf("decisions %+v, of gf-2 %+v", r.Decisions, r.Controls[1].Asked)
	}
	if x := r.Refusals; len(x) != 2 || x[0] != (Refusal{"payroll", "deny", "payroll", 2}) {
		t.Errorf("refused: %+v", x)
	}
	if e := r.BreakGlass; len(e) != 1 || e[0].Decision != "x24" || e[0].Person != "ada" {
		t.Errorf("emergencies: %+v", e)
	}
	if x := r.Exceptions; len(x) != 1 || x[0].ID != "w-live" || x[0].Controls[0] != "gf-1" ||
		r.Controls[0].Excepted[0] != "w-live" {
		t.Errorf("exceptions: %+v", x)
	}
}

func TestWhatIsGoneIsSaid(t *testing.T) {
	var b book
	b.publish(1, 1, rule("a/disk", "gf-1"))
	b.first(2, "d1", "p", 1)
	b.first(3, "d2", "p", 1)
	b.entries[2].Body = nil
	if r := b.report(t, 5, 9); r.Missing != 1 || r.Controls[0].AtEnd.Met != 1 {
		t.Errorf("%d are missing, %+v", r.Missing, r.Controls[0].AtEnd)
	}
	b.entries[0].Body = nil
	a := New(Period{5e6, 9e6}, nil)
	if err := a.Add(&b.entries[0]); err == nil {
		t.Error("a rulebook of which nothing is known is passed over")
	}
	if err := New(Period{5e6, 9e6}, nil).Add(&b.entries[1]); err == nil {
		t.Error("an entry that is not the next is taken")
	}
	wrong := book{entries: b.entries[:0:0]}
	wrong.publish(1, 1, rule("a/disk", "gf-1"))
	wrong.first(2, "d1", "pp", 1)
	a = New(Period{5e6, 9e6}, nil)
	if err := errors.Join(a.Add(&wrong.entries[0]), a.Add(&wrong.entries[1])); err == nil ||
		!strings.Contains(err.Error(), "2 verdicts of 1 rules") {
		t.Errorf("verdicts of other rules are taken: %v", err)
	}
}

func TestAShareIsNeverRoundedUp(t *testing.T) {
	for _, c := range []struct{ part, all, want int64 }{{1, 1, 10000}, {1<<62 - 1, 1 << 62, 9999}, {0, 5, 0}, {1, 3, 3333},
		{999_999_999, 1_000_000_000, 9999}} {
		if got := hundredths(c.part, c.all); got != c.want {
			t.Errorf("%d of %d is %d", c.part, c.all, got)
		}
	}
}

// A plain way to the same numbers: every second of every device by itself.
func TestAReportIsWhatEverySecondSays(t *testing.T) {
	words := []posture.Verdict{posture.None, posture.Pass, posture.Fail, posture.Unknown, posture.Grace, posture.Waived}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		keys := []string{"a/x", "a/y", "b/z"}
		serve := func() (out []event.PublishedRule) {
			for _, k := range keys {
				p := event.PublishedRule{Rule: k, Shadow: r.IntN(4) == 0}
				for _, c := range []string{"gf-1", "gf-2"} {
					if r.IntN(2) == 0 {
						p.Controls = append(p.Controls, c)
					}
				}
				out = append(out, p)
			}
			return out
		}
		var b book
		type second struct {
			rules    []event.PublishedRule
			verdicts map[string]map[string]posture.Verdict
			outside  map[string]bool
		}
		version := int64(1)
		now := second{serve(), map[string]map[string]posture.Verdict{}, map[string]bool{}}
		b.publish(0, 1, now.rules...)
		const long = 300
		from, to := int64(r.IntN(200)), int64(0)
		to = from + 1 + int64(r.IntN(90))
		sums := map[string]*[states]int64{"gf-1": {}, "gf-2": {}}
		for at := range int64(long) {
			for range r.IntN(3) {
				d := fmt.Sprint("d", r.IntN(4))
				had := now.verdicts[d]
				switch {
				case had == nil:
					all := []posture.Verdict{words[r.IntN(6)], words[r.IntN(6)], words[r.IntN(6)]}
					now.verdicts[d] = map[string]posture.Verdict{}
					for i, k := range keys {
						now.verdicts[d][k] = all[i]
					}
					b.first(at, d, posture.Letters(all), version)
				case r.IntN(20) == 0:
					now.outside[d] = !now.outside[d]
					b.tell(at, &event.StandingChanged{Device: d, From: "a", To: "a", Rulebook: version, Outsider: now.outside[d]})
				default:
					k := keys[r.IntN(3)]
					to := words[r.IntN(6)]
					b.tell(at, &event.StandingChanged{Device: d, From: "a", To: "a", Rulebook: version, Outsider: now.outside[d],
						Changed: []event.VerdictChange{{Rule: k, From: had[k], To: to}}})
					had[k] = to
				}
			}
			if r.IntN(60) == 0 {
				version++
				now.rules = serve()
				b.publish(at, version, now.rules...)
			}
			if at < from || at >= to {
				continue
			}
			for d, verdicts := range now.verdicts {
				for c, sum := range sums {
					worst := apart
					for _, p := range now.rules {
						for _, id := range p.Controls {
							if id == c && !p.Shadow {
								worst = max(worst, ofVerdict[verdicts[p.Rule]])
							}
						}
					}
					if !now.outside[d] {
						sum[worst]++
					}
				}
			}
		}
		got := b.report(t, from, to)
		for i, id := range []string{"gf-1", "gf-2"} {
			if want := tally(*sums[id]); *got.Controls[i].Seconds != want {
				t.Fatalf("seed %d: %s was %+v from %d to %d, want %+v", seed, id, *got.Controls[i].Seconds, from, to, want)
			}
		}
		if again := b.report(t, from, to); string(again.JSON()) != string(got.JSON()) {
			t.Fatal("the same report is not the same")
		}
		var back Report
		if err := json.Unmarshal(got.JSON(), &back); err != nil || !reflect.DeepEqual(back.JSON(), got.JSON()) {
			t.Fatalf("a report is not read back as it was: %v", err)
		}
	}
}
