package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// actors is a rulebook in which everything that people can do makes a difference.
const actors = `rulebook: house
sources: [{id: desk, provides: ["*"], rank: 1, vouches: {for: 1h}}, {id: agent, provides: ["*"]}, {id: buoy, provides: [threat]}, {id: enrolment, provides: ["*"]}]
ignore_keys: [S-NONE]
resources: [{id: payroll}, {id: rota}]
enrolment: {allow: on_roster, otherwise: hold}
baselines:
  - id: crew
    applies: '"crew" in owner.groups'
    rules: [{id: disk, check: storage.encrypted, cap: limited}]
  - id: all
    applies: form == laptop
    rules:
      - {id: ours, check: on_roster or vouched, cap: sound, unknown: sound}
      - {id: shore, check: 'not ("deck" in owner.groups)', cap: unproven, unknown: limited}
      - {id: calm, check: threat.score <= 30, cap: barred, unknown: sound}
gates:
  - {id: payroll, who: {groups: [finance]}, what: {resources: [payroll]}, need: level >= sound, valid_for: 1h}
  - {id: rota, who: {everyone: true}, what: {resources: [rota]}, need: 'level >= limited and not ("deck" in user.groups)', valid_for: 1h}
break_glass: [master]
`

// opened is a service with the rulebook of acts.
func opened(t *testing.T, dir string, witness func(*state.Change)) *Service {
	t.Helper()
	s, err := Open(context.Background(),
		Options{Dir: dir, AdminToken: "il_a_token_for_tests_only", Log: slog.New(slog.DiscardHandler),
			Witness: witness})
	if err != nil {
		t.Fatal(err)
	}
	if s.Snapshot().Book.Info.Version == 0 {
		if _, _, err := s.Admin.Publish(context.Background(), "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: actors}}}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// acts does what people and sources do, at random, to devices and people whose ids
// begin with a prefix.
type acts struct {
	s      *Service
	r      *rand.Rand
	prefix string
	whole  bool // whether it may do what concerns the whole house

	grants, held, aside, tokens []string
	steps                       map[string]func(context.Context) error
}

func newActs(s *Service, r *rand.Rand, prefix string, whole bool) *acts {
	a := &acts{s: s, r: r, prefix: prefix, whole: whole}
	accept := admin.ListImport{AcceptImpact: "a trial"}
	a.steps = map[string]func(context.Context) error{
		"report": func(ctx context.Context) error { return a.report(ctx, a.device(), a.one("desk", "agent")) },
		"word": func(ctx context.Context) error { // of a partner that the device is genuine
			return a.take(ctx, fmt.Sprintf(`{"source":"desk","identity":{"id":%q},"vouch":%v}`, a.device(), a.r.IntN(2) == 0))
		},
		"gone": func(ctx context.Context) error { // from a partner's list
			id := a.device()
			return s.Do(ctx, func(c *state.Change) error {
				return intake.Gone(c, "feed desk", "desk", "it is listed no longer", c.Now, []string{id})
			})
		},
		"threat": func(ctx context.Context) error { return a.report(ctx, a.device(), "buoy") },
		"twin": func(ctx context.Context) error { // two machines with one serial
			id := a.device()
			return a.take(ctx, fmt.Sprintf(`{"source":"desk","external_id":"%s-%d","identity":{"serial":"S-%s"},"evidence":{"name":"x"}}`, id, a.r.IntN(3), id))
		},
		"people": func(ctx context.Context) error {
			var list []directory.Person
			for range 1 + a.r.IntN(3) {
				list = append(list, directory.Person{ID: a.person(), Name: a.one("Ada", "Bo"), Groups: a.groups()})
			}
			_, err := s.Admin.ImportPeople(ctx, "astrid", list, accept)
			return err
		},
		"leaver": func(ctx context.Context) error {
			_, err := s.Admin.RemovePerson(ctx, "astrid", a.person(),
				api.Removal{Reason: "left", AcceptImpact: "a trial"})
			return err
		},
		"roster": func(ctx context.Context) error {
			_, err := s.Admin.ImportRoster(ctx, "astrid",
				[]directory.Hardware{{Serial: "S-" + a.device(), Note: a.one("a", "b")}}, accept)
			return err
		},
		"roster line": func(ctx context.Context) error {
			_, err := s.Admin.RemoveRoster(ctx, "astrid", "s-"+a.device(),
				api.Removal{Reason: "sold", AcceptImpact: "a trial"})
			return err
		},
		"waiver": func(ctx context.Context) error {
			w, err := WaiveOne(ctx, s, "astrid",
				api.ExceptionDraft{Device: a.device(), Rule: a.one("crew/disk", "all/ours"), Reason: "a trial",
					For: "3d"})
			if err == nil {
				a.grants = append(a.grants, w.ID)
			}
			return err
		},
		"vouch": func(ctx context.Context) error {
			v, err := VouchOne(ctx, s, "astrid",
				api.ExceptionDraft{Device: a.device(), Reason: "a trial", For: "3d"})
			if err == nil {
				a.grants = append(a.grants, v.ID)
			}
			return err
		},
		"revoke": func(ctx context.Context) error {
			_, err := s.Admin.Revoke(ctx, "astrid", a.one(a.grants...), "enough")
			return err
		},
		"enrol": func(ctx context.Context) error {
			id := a.device()
			e, err := s.Admin.Enrol(ctx, "desk",
				state.Claims{Serial: "S-" + id + a.one("", "n"), Form: "laptop", Owner: a.person()}, nil)
			if err == nil && e.State == state.Held {
				a.held = append(a.held, e.ID)
			}
			return err
		},
		"settle enrolment": func(ctx context.Context) error {
			_, err := s.Admin.DecideEnrolment(ctx, "astrid", a.one(a.held...), a.r.IntN(2) == 0, "looked at")
			return err
		},
		"settle report": func(ctx context.Context) error {
			how := api.Settlement{Reason: "looked at", Device: a.device()}
			if a.r.IntN(3) == 0 {
				how = api.Settlement{Reason: "nobody's", Discard: true}
			}
			_, err := s.Admin.Settle(ctx, "astrid", a.one(a.aside...), how)
			return err
		},
		"retire": func(ctx context.Context) error {
			if a.r.IntN(6) > 0 {
				return nil // or there would soon be no device in service
			}
			_, err := s.Admin.Retire(ctx, "astrid", []string{a.device()}, "lost at sea")
			return err
		},
		"quarantine": func(ctx context.Context) error {
			lasts := []time.Duration{0, time.Hour, 48 * time.Hour}[a.r.IntN(3)]
			_, err := s.Admin.Quarantine(ctx, "astrid", []string{a.device(), a.device()}, "looked at", lasts)
			return err
		},
		"tag": func(ctx context.Context) error {
			words := []string{"pilot", "north", "lent"}
			d := api.TagsDraft{Devices: []string{a.device(), a.device()}, Add: words[a.r.IntN(3):],
				Remove: words[:a.r.IntN(3)]}
			if owner := a.one(a.person(), ""); a.r.IntN(6) == 0 {
				d.Owner = &owner
			}
			_, err := s.Admin.Tag(ctx, "astrid", d)
			if input := (*fault.InputError)(nil); errors.As(err, &input) && input.Pointer == "/owner" {
				return nil // who left
			}
			return err
		},
		"release": func(ctx context.Context) error {
			_, err := s.Admin.Release(ctx, "astrid", []string{a.device()}, "nothing was found")
			var input *fault.InputError
			if errors.As(err, &input) {
				return nil // it was in none
			}
			return err
		},
		"token": func(ctx context.Context) error {
			name := fmt.Sprint(a.prefix, "token", a.r.IntN(6))
			_, _, err := s.Admin.CreateToken(ctx, "astrid", name, bearer.Reader, "")
			if err == nil {
				a.tokens = append(a.tokens, name)
			}
			return err
		},
		"revoke token": func(ctx context.Context) error {
			_, err := s.Admin.RevokeToken(ctx, "astrid", a.one(a.tokens...))
			return err
		},
		"search": func(ctx context.Context) error {
			_, err := s.Admin.KeepSearch(ctx, "astrid",
				kept.Search{Name: fmt.Sprint(a.prefix, "s", a.r.IntN(4)),
					Where: a.one("level == sound", "managed")}, s.View.CheckSearch)
			return err
		},
		"drop search": func(ctx context.Context) error {
			return s.Admin.DropSearch(ctx, fmt.Sprint(a.prefix, "s", a.r.IntN(4)))
		},
		"ask": func(context.Context) error {
			for range 10 {
				if err := a.ask(a.person()); err != nil {
					return err
				}
			}
			return nil
		},
	}
	if whole {
		a.steps["break glass"] = func(context.Context) error { return a.ask("master") }
		a.steps["whole directory"] = func(ctx context.Context) error {
			var list []directory.Person
			for i := range 12 {
				if r.IntN(5) > 0 {
					list = append(list, directory.Person{ID: fmt.Sprint(a.prefix, "p", i), Name: "Ada",
						Groups: a.groups()})
				}
			}
			_, err := s.Admin.ImportPeople(ctx, "astrid", list,
				admin.ListImport{Whole: true, AcceptImpact: "a trial"})
			return err
		}
		a.steps["publish"] = func(ctx context.Context) error {
			text := strings.Replace(actors, "threat.score <= 30",
				a.one("threat.score <= 30", "threat.score <= 20"), 1)
			_, _, err := s.Admin.Publish(ctx, "astrid",
				api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: text}}, AcceptImpact: "a trial"})
			if same := (*admin.UnchangedError)(nil); errors.As(err, &same) {
				return nil
			}
			return err
		}
		a.steps["redact"] = func(ctx context.Context) error {
			_, err := s.Audit.Redact(ctx, "astrid", 2+r.Int64N(s.Store.Sealed().Size-1), "a name must go")
			return err
		}
	}
	return a
}

func (a *acts) one(list ...string) string {
	if len(list) == 0 {
		return "none"
	}
	return list[a.r.IntN(len(list))]
}

func (a *acts) person() string { return fmt.Sprint(a.prefix, "p", a.r.IntN(12)) }

func (a *acts) device() string { return fmt.Sprint(a.prefix, "d", a.r.IntN(25)) }

func (a *acts) groups() (out []string) {
	for _, g := range []string{"crew", "deck", "finance"} {
		if a.r.IntN(3) == 0 {
			out = append(out, g)
		}
	}
	return out
}

func (a *acts) report(ctx context.Context, id, source string) error {
	if source == "buoy" {
		return a.take(ctx, fmt.Sprintf(`{"source":"buoy","identity":{"serial":%q},"evidence":{"threat.score":%d}}`, a.one("S-"+id, "S-"+id, "S-NONE"), 10*a.r.IntN(5)))
	}
	return a.take(ctx, fmt.Sprintf(`{"source":%q,"identity":{"id":%q,"serial":"S-%s"},"evidence":{"form":"laptop","storage.encrypted":%v,"owner":%q}}`,
		source, id, id, a.r.IntN(4) > 0, a.person()))
}

var errRefused = errors.New("the report was refused")

func (a *acts) take(ctx context.Context, text string) error {
	in, err := a.s.Intake.Ingest(ctx, "desk", "", strings.NewReader(text), evidence.NDJSON)
	if err != nil {
		return err
	}
	if id := in.Results[0].Unmatched; id != "" {
		a.aside = append(a.aside, id)
	} else if in.Rejected > 0 {
		return errRefused
	}
	return nil
}

func (a *acts) ask(person string) error {
	ref := &access.DeviceRef{ID: a.device()}
	if a.r.IntN(3) == 0 {
		ref = &access.DeviceRef{Serial: "S-" + ref.ID}
	}
	e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
		Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "app", ID: a.one("payroll", "rota")},
		Context: &access.Context{Device: ref}}
	_, err := a.s.Decisions.Decide("gate", e)
	return err
}

// do does something, and says what, and whether it could be done.
func (a *acts) do(ctx context.Context) (name string, done bool) {
	name = a.one(slices.Sorted(maps.Keys(a.steps))...)
	return name, a.steps[name](ctx) == nil
}
