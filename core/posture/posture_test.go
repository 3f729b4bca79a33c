package posture

import (
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

const hour = int64(3600 * 1_000_000)

var now = func() int64 { v, _ := value.ParseTime("2026-11-20T08:00:00Z"); return v.Num() }()

const book = `rulebook: test
freshness: {default: 24h, threat: 1h}
baselines:
  - id: laptop
    applies: form == laptop
    rules:
      - {id: os, check: {windows: os.version >= 10, macos: os.version >= 14}, cap: limited, grace: 3h}
      - {id: disk, check: storage.encrypted, cap: unproven, remedy: {en: {title: Encrypt}}}
      - {id: lock, check: screen_lock.after <= 15m, cap: sound, unknown: sound}
      - {id: threat, check: threat.score <= 30, unknown: sound}
  - id: tried
    mode: shadow
    applies: form == laptop
    rules: [{id: wall, check: firewall.on, cap: limited}]
  - {id: later, mode: draft, rules: [{id: never, check: managed, cap: barred}]}
  - {id: phone, applies: form == phone, rules: [{id: code, check: passcode.set}]}
`

func compile(t *testing.T, text string) *Program {
	t.Helper()
	rb, err := rulebook.Load([]rulebook.File{{Name: "r.yaml", Text: text}})
	if err != nil {
		t.Fatal(err)
	}
	return Compile(rb)
}

// look makes the evidence of a device observed an hour before now.
func look(t *testing.T, p *Program, attributes string, at int64) (*condition.Env, *evidence.View) {
	t.Helper()
	rep, err := p.rb.Dict.ParseReport([]byte(`{"identity":{"id":"d"},"observed_at":"2026-11-20T07:00:00Z","evidence":{`+attributes+`}}`), now)
	if err != nil || len(rep.Refused) > 0 {
		t.Fatalf("%s: %v %v", attributes, err, rep)
	}
	var rec *evidence.Record
	v := evidence.NewResolver(p.rb.Dict, p.rb.Policy).Resolve(rec.With(rep), evidence.Facts{}, at)
	env := v.Env(at)
	return env, v
}

const good = `"platform":"windows","form":"laptop","os.version":"10.1","storage.encrypted":true,"screen_lock.after":"5m","threat.score":3,"firewall.on":true`

func TestStandings(t *testing.T) {
	p := compile(t, book)
	cases := []struct {
		name, attributes string
		level            string
		binding          []string
		verdicts         string // of os, disk, lock, threat, wall
	}{
		{"all in order", good, "strong", nil, "pass pass pass pass pass"},
		{"a failing rule caps", strings.Replace(good, `"5m"`, `"20m"`, 1), "sound", []string{"laptop/lock"},
			"pass pass fail pass pass"},
		{"the lowest cap wins, and binds alone",
			strings.NewReplacer(`"5m"`, `"20m"`, `:true,"s`, `:false,"s`).Replace(good), "unproven",
			[]string{"laptop/disk"}, "pass fail fail pass pass"},
		{"unknown has a cap of its own", strings.Replace(good, `"screen_lock.after":"5m",`, "", 1), "sound",
			[]string{"laptop/lock"}, "pass pass unknown pass pass"},
		{"unknown without a cap is unproven", strings.Replace(good, `"storage.encrypted":true,`, "", 1),
			"unproven", []string{"laptop/disk"}, "pass unknown pass pass pass"},
		{"a cap left out is the lowest level", strings.Replace(good, `:3`, `:70`, 1), "barred",
			[]string{"laptop/threat"}, "pass pass pass fail pass"},
		{"a fail within its grace does not cap", strings.Replace(good, "10.1", "9.9", 1), "strong", nil,
			"grace pass pass pass pass"},
		{"a shadow baseline does not cap", strings.Replace(good, `"firewall.on":true`, `"firewall.on":false`,
			1), "strong", nil, "pass pass pass pass fail"},
		{"a rule without a check for the platform does not apply",
			strings.Replace(good, "windows", "linux", 1), "strong", nil, "none pass pass pass pass"},
		{"on an unknown platform it is unknown", strings.Replace(good, `"platform":"windows",`, "", 1),
			"unproven", []string{"laptop/os"}, "unknown pass pass pass pass"},
		{"a device of no baseline is uncovered", `"form":"server"`, "unproven", nil, "none none none none none"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			env, view := look(t, p, c.attributes, now)
			var r Result
			p.Appraise(env, &r)
			var words []string
			for i, k := range p.RuleKeys() {
				if k != "phone/code" {
					words = append(words, r.Verdicts[i].String())
				}
			}
			if got := strings.Join(words, " "); got != c.verdicts {
				t.Errorf("the verdicts are %s, want %s", got, c.verdicts)
			}
			s := p.Explain(env, view, &r)
			if s.Level != c.level || !slices.Equal(s.Binding, append([]string{}, c.binding...)) {
				t.Errorf("it stands at %s held by %v, want %s held by %v", s.Level, s.Binding, c.level, c.binding)
			}
			if !slices.Equal(p.Binding(&r), s.Binding) {
				t.Errorf("the short way says %v holds it, the long one %v", p.Binding(&r), s.Binding)
			}
			for _, v := range s.Verdicts {
				if len(v.Why) == 0 {
					t.Errorf("%s is %s without a reason", v.Rule, v.Verdict)
				}
			}
		})
	}
}

func TestDoubtNeverLifts(t *testing.T) {
	p := compile(t, `rulebook: test
baselines:
  - {id: desk, applies: form == laptop, rules: [{id: os, check: {windows: os.version >= 10}, cap: sound}]}
  - {id: held, applies: ownership == company, rules: [{id: kept, check: managed, cap: barred, unknown: barred}]}
`)
	for _, c := range []struct {
		name, attributes, level string
		covered                 bool
		binding, reach          string
	}{
		{"covered and passing is the top",
			`"form":"laptop","platform":"windows","os.version":"11","ownership":"personal"`, "strong", true,
			"", ""},
		{"no rule asks anything of its platform",
			`"form":"laptop","platform":"chromeos","ownership":"personal"`, "unproven", false, "", ""},
		{"on an unknown platform nothing is asked for certain", `"form":"laptop","ownership":"personal"`,
			"unproven", false, "desk/os", ""},
		{"what applies in doubt does not cover",
			`"platform":"windows","os.version":"11","ownership":"personal"`, "unproven", false, "", ""},
		{"and brings its caps", `"platform":"windows","form":"phone"`, "barred", false, "held/kept",
			"unproven: held/kept"},
	} {
		t.Run(c.name, func(t *testing.T) {
			env, view := look(t, p, c.attributes, now)
			var r Result
			p.Appraise(env, &r)
			s := p.Explain(env, view, &r)
			var reach []string
			for _, step := range s.Reach {
				reach = append(reach, step.Level+": "+strings.Join(step.Rules, " "))
			}
			if s.Level != c.level || s.Covered != c.covered || strings.Join(s.Binding, " ") != c.binding ||
				strings.Join(reach, ", ") != c.reach {
				t.Errorf("it stands at %s (covered %v) held by %v, and reaches %v", s.Level, s.Covered,
					s.Binding, reach)
			}
		})
	}
}

func TestAnOutsiderStandsNoHigherThanUncovered(t *testing.T) {
	p := compile(t, book)
	env, view := look(t, p, good, now)
	r := Result{Outsider: true}
	p.Appraise(env, &r)
	if s := p.Explain(env, view, &r); s.Level != "unproven" || s.ShadowLevel != "unproven" || len(s.Reach) > 0 {
		t.Errorf("a device that is not admitted passes every rule and stands at %s, reaching %v", s.Level, s.Reach)
	}
}

func TestShadowLevelIsWhatEnforcingWouldGive(t *testing.T) {
	p := compile(t, book)
	env, view := look(t, p, strings.Replace(good, `"firewall.on":true`, `"firewall.on":false`, 1), now)
	var r Result
	p.Appraise(env, &r)
	s := p.Explain(env, view, &r)
	enforced := compile(t, strings.Replace(book, "mode: shadow", "mode: enforce", 1))
	var real Result
	enforced.Appraise(env, &real)
	if s.Level != "strong" || s.ShadowLevel != p.rb.LevelName(real.Level) || s.ShadowLevel != "limited" {
		t.Errorf("level %s, shadow %s; enforced it is %s", s.Level, s.ShadowLevel, p.rb.LevelName(real.Level))
	}
}

func TestReachListsWhatStandsBelow(t *testing.T) {
	p := compile(t, book)
	env, view := look(t, p, strings.NewReplacer(`"5m"`, `"20m"`, `:true,"s`, `:false,"s`).Replace(good), now)
	var r Result
	p.Appraise(env, &r)
	s := p.Explain(env, view, &r)
	want := []Step{{"limited", []string{"laptop/disk"}}, {"sound", []string{"laptop/disk"}},
		{"strong", []string{"laptop/disk", "laptop/lock"}}}
	if !slices.EqualFunc(s.Reach, want,
		func(a, b Step) bool { return a.Level == b.Level && slices.Equal(a.Rules, b.Rules) }) {
		t.Errorf("to reach each level: %v, want %v", s.Reach, want)
	}
	held := p.Holding(env, view, &r, p.rb.Top())
	if len(held) != 2 || held[0].Rule != "laptop/disk" || held[0].Remedy["en"].Title != "Encrypt" ||
		held[0].Why[0].Observed != "false" {
		t.Errorf("what holds it: %+v", held)
	}
}

func TestGraceRunsFromTheFirstFailure(t *testing.T) {
	p := compile(t, book)
	old := strings.Replace(good, "10.1", "9.9", 1)
	env, view := look(t, p, old, now)
	var r Result
	steps := []struct {
		at      int64
		verdict Verdict
	}{{0, Grace}, {2 * hour, Grace}, {3*hour - 1, Grace}, {3 * hour, Fail}, {4 * hour, Fail}}
	for _, s := range steps {
		env.Now = now + s.at
		p.Appraise(env, &r)
		if r.Verdicts[0] != s.verdict {
			t.Errorf("%s after the first failure it is %s, want %s", value.FormatAge(s.at), r.Verdicts[0],
				s.verdict)
		}
		if s.verdict == Grace {
			if got := p.Explain(env, view, &r).Verdicts[0].GraceUntil; got != "2026-11-20T11:00:00Z" {
				t.Errorf("the grace ends at %s", got)
			}
		}
	}
	env, _ = look(t, p, good, now+5*hour)
	if p.Appraise(env, &r); r.Since[0] != 0 {
		t.Error("a pass does not end the failure")
	}
	env, _ = look(t, p, old, now+6*hour)
	if p.Appraise(env, &r); r.Verdicts[0] != Grace {
		t.Errorf("a new failure is given no new grace: %s", r.Verdicts[0])
	}
	r = Result{NoGrace: true}
	if p.Appraise(env, &r); r.Verdicts[0] != Fail {
		t.Errorf("without graces it is %s", r.Verdicts[0])
	}
}

func TestNextIsTheFirstMomentOfDifference(t *testing.T) {
	p := compile(t, book)
	cases := []struct{ name, attributes, want string }{
		{"the threat score goes stale first", good, "2026-11-20T08:00:00Z"},
		{"without it the rest does, together", strings.Replace(good, `,"threat.score":3`, "", 1),
			"2026-11-21T07:00:00Z"},
		{"a grace ends before", strings.NewReplacer(`,"threat.score":3`, "", "10.1", "9.9").Replace(good),
			"2026-11-20T11:00:00Z"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			env, view := look(t, p, c.attributes, now-hour/2)
			var r Result
			r.Since = make([]int64, len(p.rules))
			env.Now = now - hour/2
			if strings.Contains(c.attributes, "9.9") {
				r.Since[0] = now
			}
			p.Appraise(env, &r)
			before := slices.Clone(r.Verdicts)
			s := p.Explain(env, view, &r)
			if s.NextChange == nil || *s.NextChange != c.want {
				t.Fatalf("the next change is %v, want %s", s.NextChange, c.want)
			}
			next := p.Next(env, &r)
			env.Now = next - 1
			if p.Appraise(env, &r); !slices.Equal(before, r.Verdicts) {
				t.Errorf("a microsecond before, the verdicts are %v, were %v", r.Verdicts, before)
			}
			env.Now = next
			if p.Appraise(env, &r); slices.Equal(before, r.Verdicts) {
				t.Errorf("at the moment the verdicts are still %v", r.Verdicts)
			}
		})
	}
	env, _ := look(t, p, `"form":"server"`, now)
	var r Result
	p.Appraise(env, &r)
	if p.Next(env, &r) != condition.Always {
		t.Error("an uncovered device changes by itself")
	}
}

func TestAppraisalDoesNotAllocate(t *testing.T) {
	p := compile(t, book)
	env, _ := look(t, p, good, now)
	var r Result
	p.Appraise(env, &r)
	if n := testing.AllocsPerRun(100, func() { p.Appraise(env, &r) }); n > 0 {
		t.Errorf("an appraisal allocates %v times", n)
	}
}

func TestAWaiverLiftsARuleUntilItEnds(t *testing.T) {
	p := compile(t, book)
	cases := []struct {
		name, attributes, rule string
		then                   string // the verdict once the waiver has ended
	}{
		{"a failing rule", strings.Replace(good, `:true,"s`, `:false,"s`, 1), "laptop/disk", "fail"},
		{"a rule that is not known", strings.Replace(good, `"storage.encrypted":true,`, "", 1), "laptop/disk",
			"unknown"},
		{"a rule in grace", strings.Replace(good, "10.1", "9.9", 1), "laptop/os", "grace"},
		{"a rule of an unknown platform", strings.Replace(good, `"platform":"windows",`, "", 1), "laptop/os",
			"unknown"},
		{"a rule of a shadow baseline", strings.Replace(good, `"firewall.on":true`, `"firewall.on":false`, 1),
			"tried/wall", "fail"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			i := slices.Index(p.RuleKeys(), c.rule)
			env, view := look(t, p, c.attributes, now-hour/2)
			env.Now = now - hour/2
			r := Result{Waived: make([]int64, len(p.RuleKeys()))}
			end := env.Now + hour/4
			r.Waived[i] = end
			p.Appraise(env, &r)
			if r.Verdicts[i] != Waived || r.Level != p.rb.Top() || r.Shadow != p.rb.Top() {
				t.Fatalf("it is %s, the level %d and in shadow %d", r.Verdicts[i], r.Level, r.Shadow)
			}
			if next := p.Next(env, &r); next != end {
				t.Errorf("it may change %s before its end", value.FormatAge(end-next))
			}
			s := p.Explain(env, view, &r)
			j := slices.IndexFunc(s.Verdicts, func(v Ruling) bool { return v.Rule == c.rule })
			if s.Verdicts[j].WaivedUntil != value.FormatTime(end) || s.Verdicts[j].HoldsAt != "" ||
				len(s.Verdicts[j].Why) == 0 {
				t.Errorf("it is told as %+v", s.Verdicts[j])
			}
			env.Now = end - 1
			if p.Appraise(env, &r); r.Verdicts[i] != Waived {
				t.Error("it ended before its time")
			}
			env.Now = end
			if p.Appraise(env, &r); r.Verdicts[i].String() != c.then {
				t.Errorf("after its end it is %s, want %s", r.Verdicts[i], c.then)
			}
		})
	}
	env, _ := look(t, p, good, now-hour/2)
	r := Result{Waived: slices.Repeat([]int64{now + hour}, len(p.RuleKeys()))}
	if p.Appraise(env, &r); r.Verdicts[0] != Pass {
		t.Error("a rule that passes is waived")
	}
}

func TestAGraceRunsUnderAWaiver(t *testing.T) {
	p := compile(t, book)
	env, _ := look(t, p, strings.Replace(good, "10.1", "9.9", 1), now)
	r := Result{Waived: make([]int64, len(p.RuleKeys()))}
	r.Waived[0] = now + 5*hour
	p.Appraise(env, &r)
	env.Now = now + 5*hour
	if p.Appraise(env, &r); r.Verdicts[0] != Fail {
		t.Errorf("when the waiver ends after the grace it is %s, want fail", r.Verdicts[0])
	}
}

func TestNextPassesOverMomentsThatChangeNothing(t *testing.T) {
	p := compile(t, `rulebook: test
freshness: {default: 24h, firewall: 2h, threat: 3h}
baselines:
  - id: a
    applies: form == laptop
    rules:
      - {id: both, check: storage.encrypted and firewall.on}
      - {id: score, check: threat.score <= 30 or managed}
`)
	// Of the first rule one part is not known: it stays unknown when the other
	// goes stale. The second holds while one of its parts does.
	env, view := look(t, p, `"form":"laptop","firewall.on":true,"threat.score":3,"managed":true`, now)
	var r Result
	p.Appraise(env, &r)
	if got := value.FormatTime(p.Next(env, &r)); got != "2026-11-21T07:00:00Z" {
		t.Errorf("the next change is %s, want that of managed", got)
	}
	if env.Now != now {
		t.Error("the moment of the environment has moved")
	}
	if wake := p.Wake(env, view, &r); wake > p.Next(env, &r) || wake <= now {
		t.Errorf("it wakes %s from now, and changes %s from now", value.FormatAge(wake-now),
			value.FormatAge(p.Next(env, &r)-now))
	}
	env, _ = look(t, p, `"form":"laptop","firewall.on":true`, now)
	p.Appraise(env, &r)
	if at := p.Next(env, &r); at != condition.Always {
		t.Errorf("what is not known changes at %s", value.FormatTime(at))
	}
}

// A program that takes over what another found must come to the same result
// as one that works everything out.
func TestCarriedTruthIsTheSame(t *testing.T) {
	old := compile(t, book)
	for name, change := range map[string][2]string{
		"nothing": {"rulebook: test", "rulebook: other"},
		"a cap":   {"cap: sound, unknown: sound}", "cap: barred, unknown: limited}"},
		"a grace": {"grace: 3h", "grace: 0s"},
		"a check": {"screen_lock.after <= 15m", "screen_lock.after <= 3m"},
		"a scope": {"- id: laptop\n    applies: form == laptop",
			"- id: laptop\n    applies: form == phone or managed"},
		"a mode":              {"mode: shadow", "mode: enforce"},
		"a rule is new":       {"rules: [{id: wall,", "rules: [{id: more, check: managed}, {id: wall,"},
		"a rule is gone":      {"      - {id: lock, check: screen_lock.after <= 15m, cap: sound, unknown: sound}\n", ""},
		"a rule has a new id": {"{id: disk,", "{id: drive,"},
		"a draft counts":      {"mode: draft", "mode: enforce"},
	} {
		t.Run(name, func(t *testing.T) {
			if !strings.Contains(book, change[0]) {
				t.Fatalf("the book does not hold %q", change[0])
			}
			p := compile(t, strings.Replace(book, change[0], change[1], 1))
			carry := p.Carry(old)
			for _, attributes := range []string{good, strings.Replace(good, "10.1", "9.9", 1),
				strings.Replace(good, `"screen_lock.after":"5m",`, "", 1),
				strings.Replace(good, `"platform":"windows",`, "", 1),
				strings.NewReplacer(`"5m"`, `"20m"`, `:true,"s`, `:false,"s`).Replace(good),
				`"form":"phone","managed":true`, `"platform":"ios"`, `"form":"server"`} {
				env, view := look(t, old, attributes, now-hour/2)
				env.Now = now - hour/2
				var before Result
				old.Appraise(env, &before)
				since := map[string]int64{}
				for i, k := range old.RuleKeys() {
					if before.Since != nil {
						since[k] = before.Since[i]
					}
				}
				fresh, carried := Result{Since: make([]int64, len(p.rules))},
					Result{Since: make([]int64, len(p.rules))}
				for i, k := range p.RuleKeys() {
					fresh.Since[i], carried.Since[i] = since[k], since[k]
				}
				p.Appraise(env, &fresh)
				p.AppraiseFrom(env, &carried, carry, before.Verdicts)
				if !slices.Equal(fresh.Verdicts, carried.Verdicts) || fresh.Level != carried.Level ||
					fresh.Shadow != carried.Shadow || fresh.Covered != carried.Covered ||
					!slices.Equal(fresh.Since, carried.Since) {
					t.Errorf("%s: worked out %+v, carried %+v", attributes, fresh, carried)
				}
				wake := p.WakeFrom(env, &carried, carry, old.Wake(env, view, &before))
				if next := p.Next(env, &fresh); wake > next {
					t.Errorf("%s: it wakes at %s and changes at %s", attributes, value.FormatTime(wake),
						value.FormatTime(next))
				}
				carry.Warm(view.Frame)
			}
		})
	}
}
