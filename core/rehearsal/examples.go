// Package rehearsal tries a rulebook out before it counts: on its own
// examples, and (later) on a fleet and on recorded requests.
package rehearsal

import (
	"fmt"
	"net/netip"

	"ironledger.example/core/access"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
)

// Outcome is what became of one example.
type Outcome struct {
	Title   string   `json:"title"`
	File    string   `json:"file"`
	Line    int      `json:"line"`
	Passed  bool     `json:"passed"`
	Want    string   `json:"want"`
	Got     string   `json:"got"`
	Reasons []string `json:"reasons,omitempty"` // why it came out so, when it failed
}

// maxSteps bounds how many members of lists all examples together may look at.
const maxSteps = 20_000_000

// Examples runs every example of a rulebook at now.
func Examples(rb *rulebook.Rulebook, now int64) []Outcome {
	policy := rb.Policy
	policy.Sources = nil // an example speaks for all sources
	resolver := evidence.NewResolver(rb.Dict, policy)
	rules, gates := posture.Compile(rb), access.Compile(rb)
	trial, steps := gates.Evaluator(), int64(0)
	out := make([]Outcome, 0, len(rb.Examples))
	for _, e := range rb.Examples {
		at := now
		if e.At != 0 {
			at = e.At
		}
		if steps > maxSteps {
			out = append(out, Outcome{Title: e.Title, File: e.Where.File, Line: e.Where.Line,
				Want: "to be tried", Got: "not tried",
				Reasons: []string{fmt.Sprintf("the examples before it took more than %d steps: conditions nest "+
					"too many quantifiers", maxSteps)}})
			continue
		}
		o := Outcome{Title: e.Title, File: e.Where.File, Line: e.Where.Line, Passed: true}
		device, standing, took, err := exampleDevice(resolver, rules, &e, at)
		if err != nil {
			o.Passed, o.Want, o.Got, o.Reasons = false, "to be tried", "not tried", []string{err.Error()}
			out = append(out, o)
			continue
		}
		steps += took
		if e.Level != "" {
			got := rb.LevelName(rb.Uncovered)
			if standing != nil {
				got = standing.Level
			}
			o.compare("level", e.Level, got, func() []string { return why(standing) })
		}
		if e.Outcome != "" {
			q, before := exampleRequest(&e, device, at), trial.Steps()
			got := trial.Evaluate(q, at)
			steps += trial.Steps() - before
			reasons := func() []string { return []string{gates.Decide(q, at).ReasonAdmin["en"]} }
			o.compare("outcome", e.Outcome, string(got.Outcome), reasons)
			if e.Grant != "" && got.Grant != nil {
				o.compare("grant", e.Grant, got.Grant.ID, reasons)
			}
		}
		out = append(out, o)
	}
	return out
}

func (o *Outcome) compare(what, want, got string, reasons func() []string) {
	if o.Want != "" {
		o.Want, o.Got = o.Want+", ", o.Got+", "
	}
	o.Want, o.Got = o.Want+what+" "+want, o.Got+what+" "+got
	if want != got {
		o.Passed, o.Reasons = false, append(o.Reasons, reasons()...)
	}
}

func exampleDevice(resolver *evidence.Resolver, rules *posture.Program, e *rulebook.Example,
	at int64) (access.Device, *posture.Standing, int64, error) {
	if e.Device == nil {
		return access.Device{}, nil, 0, nil
	}
	rep, facts, err := e.Device.Evidence(at)
	if err != nil {
		return access.Device{}, nil, 0, err
	}
	var rec *evidence.Record
	view := resolver.Resolve(rec.With(rep), facts, at)
	env := view.Env(at)
	keys := rules.RuleKeys()
	r := posture.Result{Since: make([]int64, len(keys))}
	for i, key := range keys {
		if span, is := e.Device.Failing[key]; is {
			r.Since[i] = at - span
		}
	}
	rules.Appraise(env, &r)
	d := access.Device{ID: "example", Known: true, Level: r.Level, View: view,
		Next: func() int64 { return rules.Next(env, &r) }}
	return d, rules.Explain(env, view, &r), env.Steps(), nil
}

func exampleRequest(e *rulebook.Example, device access.Device, at int64) *access.Request {
	q := &access.Request{User: e.User, Known: !e.Stranger, Groups: e.Groups, Device: device,
		Resource: e.Resource, Action: e.Action, Country: e.Country, MFA: e.MFA, Methods: e.Methods,
		Certificate: e.Certificate, CertificateProfile: e.CertificateProfile,
		Proof: e.Proof}
	if ip, err := netip.ParseAddr(e.IP); err == nil {
		q.IP = ip.Unmap().WithZone("")
	}
	if e.AuthAt != nil {
		q.AuthAt = e.AuthAt(at)
	}
	if e.CertificateAt != nil {
		q.CertificateAt = e.CertificateAt(at)
	}
	return q
}

func why(s *posture.Standing) []string {
	if s == nil || !s.Covered {
		return []string{"no enforced baseline applies"}
	}
	var out []string
	for _, v := range s.Verdicts {
		if v.HoldsAt == "" || v.Shadow {
			continue
		}
		for _, l := range v.Why {
			out = append(out, fmt.Sprintf("%s is %s and holds at %s: %s", v.Rule, v.Verdict, v.HoldsAt,
				access.Reason(l)))
		}
	}
	return out
}
