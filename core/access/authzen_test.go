package access

import (
	"encoding/json"
	"strings"
	"testing"
)

// The cases of AuthZEN 1.0, section 7: members given once are shared, and a
// question's own member takes the place of the shared one, whole.
func TestBatches(t *testing.T) {
	const alice, read, doc = `"subject":{"type":"user","id":"alice@acme.example"}`,
		`"action":{"name":"can_read"}`, `"resource":{"type":"document","id":"boxcarring.md"}`
	for _, c := range []struct {
		name, text string
		asked      []string // subject/action/resource, or what is wrong
		semantic   string
		single     bool
	}{
		{"everything shared, nothing listed", `{` + alice + `,` + read + `,` + doc + `}`,
			[]string{"alice@acme.example/can_read/boxcarring.md"}, ExecuteAll, true},
		{"an empty list is no list", `{` + alice + `,` + read + `,` + doc + `,"evaluations":[]}`,
			[]string{"alice@acme.example/can_read/boxcarring.md"}, ExecuteAll, true},
		{"one subject, many resources",
			`{` + alice + `,` + read + `,"evaluations":[{` + doc +
				`},{"resource":{"type":"document","id":"subject-search.md"}}]}`,
			[]string{"alice@acme.example/can_read/boxcarring.md",
				"alice@acme.example/can_read/subject-search.md"}, ExecuteAll, false},
		{"an action of its own", `{` + alice + `,` + read + `,"evaluations":[{` + doc + `},{` + doc +
			`,"action":{"name":"can_edit"}}]}`,
			[]string{"alice@acme.example/can_read/boxcarring.md",
				"alice@acme.example/can_edit/boxcarring.md"}, ExecuteAll, false},
		{"nothing shared", `{"evaluations":[{` + alice + `,` + read + `,` + doc + `}]}`,
			[]string{"alice@acme.example/can_read/boxcarring.md"}, ExecuteAll, false},
		{"one of them lacks a resource", `{` + alice + `,` + read + `,"evaluations":[{` + doc + `},{}]}`,
			[]string{"alice@acme.example/can_read/boxcarring.md", "!/resource/type"}, ExecuteAll, false},
		{"a semantic", `{` + alice + `,` + read + `,"evaluations":[{` + doc +
			`}],"options":{"evaluations_semantic":"deny_on_first_deny"}}`,
			[]string{"alice@acme.example/can_read/boxcarring.md"}, DenyOnFirstDeny, false},
		{"options of others are nobody's fault",
			`{` + alice + `,` + read + `,` + doc + `,"options":{"another_option":3}}`,
			[]string{"alice@acme.example/can_read/boxcarring.md"}, ExecuteAll, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, err := ParseBatch([]byte(c.text))
			if err != nil {
				t.Fatal(err)
			}
			if len(b.Items) != len(c.asked) || b.Semantic != c.semantic || b.Single != c.single {
				t.Fatalf("%d items, %s, single %t", len(b.Items), b.Semantic, b.Single)
			}
			for i, want := range c.asked {
				got := ""
				if it := b.Items[i]; it.Err != nil {
					got = "!" + strings.SplitN(it.Err.Error(), ":", 2)[0]
				} else {
					got = it.Asked.Subject.ID + "/" + it.Asked.Action.Name + "/" + it.Asked.Resource.ID
				}
				if got != want {
					t.Errorf("item %d is %s, want %s", i, got, want)
				}
			}
		})
	}
	for name, text := range map[string]string{
		"no object": `[]`, "no list": `{"evaluations":{}}`, "no objects": `{"evaluations":[3]}`,
		"an unknown semantic": `{"options":{"evaluations_semantic":"some"}}`,
		"too many":            `{"evaluations":[` + strings.Repeat(`{},`, maxEvaluations) + `{}]}`,
	} {
		if _, err := ParseBatch([]byte(text)); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
}

// Section 7.1.2: when the three semantics stop.
func TestSemantics(t *testing.T) {
	for semantic, want := range map[string][2]bool{ExecuteAll: {false, false}, DenyOnFirstDeny: {true, false},
		PermitOnFirstPermit: {false, true}} {
		b := &EvaluationBatch{Semantic: semantic}
		if got := [2]bool{b.Stops(false), b.Stops(true)}; got != want {
			t.Errorf("%s stops after a deny %t, after a permit %t", semantic, got[0], got[1])
		}
	}
	var refused struct {
		Decision *bool
		Context  struct{ Error struct{ Status int } }
	}
	if err := json.Unmarshal(Refusal(&FieldError{"/resource", "missing"}), &refused); err != nil ||
		refused.Decision == nil || *refused.Decision || refused.Context.Error.Status != 400 {
		t.Errorf("a malformed question is answered %+v, %v", refused, err)
	}
}

// Section 8: what is left open need not be said, the rest must be.
func TestSearches(t *testing.T) {
	for _, c := range []struct {
		kind SearchKind
		text string
		ok   bool
	}{
		{SearchSubject, `{"subject":{"type":"user"},"action":{"name":"can_read"},"resource":{"type":"account","id":"123"}}`, true},
		{SearchSubject, `{"subject":{"type":"user","id":"ignored"},"action":{"name":"can_read"},"resource":{"type":"account","id":"123"}}`, true},
		{SearchSubject, `{"action":{"name":"can_read"},"resource":{"type":"account","id":"123"}}`, false},
		{SearchResource, `{"subject":{"type":"user","id":"a"},"action":{"name":"can_read"},"resource":{"type":"account"}}`, true},
		{SearchResource, `{"subject":{"type":"user"},"action":{"name":"can_read"},"resource":{"type":"account"}}`, false},
		{SearchAction, `{"subject":{"type":"user","id":"a"},"resource":{"type":"account","id":"123"}}`, true},
		{SearchAction, `{"subject":{"type":"user","id":"a"},"resource":{"type":"account"}}`, false},
		{SearchAction, `{"subject":{"type":"user","id":"a"},"resource":{"type":"account","id":"1"},"page":{"limit":-1}}`, false},
		{SearchAction, `{"subject":3}`, false},
		{SearchAction, `nonsense`, false},
	} {
		if _, err := ParseSearch(c.kind, []byte(c.text)); (err == nil) != c.ok {
			t.Errorf("%s search %s: %v", c.kind, c.text, err)
		}
	}
}

// Each cell of the coverage says what really happens to a member of the group.
func TestCoverageTellsWhatHappens(t *testing.T) {
	p := compile(t, book)
	c := p.Cover([]string{"finance", "office", "auditors"})
	cell := func(group, resource string) Cell {
		for i, g := range c.Groups {
			for j, r := range c.Resources {
				if g == group && r == resource {
					return c.Cells[i][j]
				}
			}
		}
		t.Fatal(group, resource)
		return Cell{}
	}
	for _, x := range []struct {
		group, resource string
		kind            Kind
		level           string
		mfa             bool
	}{
		{"", "payroll", Closed, "", false}, {"finance", "payroll", Guarded, "strong", false},
		{"auditors", "payroll", Closed, "", false},
		{"office", "till", Guarded, "sound", false}, {"finance", "till", Closed, "", false},
		{"", "board", Guarded, "", false}, {"", "rota", Guarded, "unproven", false},
	} {
		if got := cell(x.group, x.resource); got.Kind != x.kind || got.Level != x.level || got.MFA != x.mfa {
			t.Errorf("%q to %s: %+v", x.group, x.resource, got)
		}
	}
	for i, g := range c.Groups {
		for j, r := range c.Resources {
			q := &Request{Groups: []string{g}, Resource: r, Action: "open",
				Device: device(t, p, "strong", `"storage.encrypted":true,"form":"laptop"`)}
			yes := true
			q.MFA = &yes
			if got := p.Decide(q, now).Outcome; (got == Allow) != (c.Cells[i][j].Kind == Guarded) {
				t.Errorf("a member of %q with a strong device and a second factor is answered %s at %s, which is %s", g,
					got, r, c.Cells[i][j].Kind)
			}
		}
	}
	if loose := compile(t, book+"unmatched: allow\n").Cover(nil); loose.Cells[0][0].Kind != Open {
		t.Errorf("where nothing guards and all is allowed the cell is %s", loose.Cells[0][0].Kind)
	}
	for _, pl := range c.Platforms {
		if len(pl.Baselines) != 0 || pl.Never == nil {
			t.Errorf("%+v", pl)
		}
	}
}

// Trying and deciding come to the same; a trial can be used again and again.
func TestATrialDecidesTheSame(t *testing.T) {
	p := compile(t, book)
	trial := p.Evaluator()
	yes, no := true, false
	for _, user := range []string{"", "maren", "harbourmaster", "outcast"} {
		for _, groups := range [][]string{nil, {"finance"}, {"office", "finance"}, {"finance", "auditors"}} {
			for _, resource := range []string{"payroll", "till", "board", "rota", "attic"} {
				for _, action := range []string{"open", "export"} {
					for _, mfa := range []*bool{nil, &yes, &no} {
						for _, level := range []string{"barred", "sound", "strong"} {
							q := &Request{Known: true, User: user, Groups: groups, Resource: resource,
								Action: action, MFA: mfa, Device: device(t, p, level, `"storage.encrypted":true`)}
							d := p.Decide(q, now)
							r := trial.Evaluate(q, now)
							shadow := d.ShadowOutcome
							if shadow == "" {
								shadow = d.Outcome
							}
							if r.Outcome != d.Outcome || r.Shadow != shadow || r.BreakGlass != d.BreakGlass {
								t.Fatalf("%s %v %s %s %s: tried %+v, decided %s, %s", user, groups, resource,
									action, level, r, d.Outcome, shadow)
							}
							if stopped := len(trial.Stops()) > 0; stopped != (d.Outcome != Allow &&
								len(trial.Matched()) > 0) {
								t.Fatalf("%s at %s: stops %v of %v", user, resource, trial.Stops(), trial.Matched())
							}
						}
					}
				}
			}
		}
	}
}
