package access

import (
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// network is a resource that devices join, prepared for deciding.
type network struct {
	*rulebook.Network
	timings []timing // of the grants
}

func newNetwork(n *rulebook.Network, dict *evidence.Dictionary) *network {
	if n == nil {
		return nil
	}
	out := &network{Network: n}
	for i := range n.Grants {
		out.timings = append(out.timings, timingOf(dict, n.Grants[i].When))
	}
	return out
}

// given is the first grant whose condition is true, nil for none, and how many were asked before it.
func (n *network) given(env *condition.Env) (grant *rulebook.Grant, before int) {
	for i := range n.Grants {
		if n.Grants[i].When.Eval(env) == condition.True {
			return &n.Grants[i], i
		}
	}
	return nil, len(n.Grants)
}

// possible reports whether something could be granted, whatever else turns out to be true.
func (n *network) possible(env *condition.Env) bool {
	return slices.ContainsFunc(n.Grants,
		func(g rulebook.Grant) bool { return g.When.Eval(env) != condition.False })
}

// turns is the first moment after now at which another grant could be given with no event.
func (n *network) turns(env *condition.Env) int64 {
	_, last := n.given(env)
	at := condition.Always
	for i := range n.timings[:min(last+1, len(n.timings))] {
		at = min(at, n.timings[i].turns(env))
	}
	return at
}

// Granted is what an admission to a network carries.
type Granted struct {
	Attributes map[string]string `json:"attributes,omitempty"`
	Filter     string            `json:"filter,omitempty"`
	Grant      string            `json:"grant"` // its id
	// Instead are the grants before it, which were not given, and why.
	Instead []NotGranted `json:"instead,omitempty"`
	Recover bool         `json:"recover,omitempty"` // a place to get well in
	Session int64        `json:"session"`           // for how long, in seconds
	VLAN    string       `json:"vlan,omitempty"`
}

// NotGranted is a grant that was not given.
type NotGranted struct {
	Grant string           `json:"grant"`
	When  string           `json:"when"`
	Why   []condition.Leaf `json:"why"`

	level rulebook.Level // that it asks for and the device lacks
}

// Same reports whether two admissions carry the same; for how long, they may differ.
func (g *Granted) Same(other *Granted) bool {
	if g == nil || other == nil {
		return g == other
	}
	return g.VLAN == other.VLAN && g.Filter == other.Filter && g.Recover == other.Recover &&
		slices.Equal(g.pairs(), other.pairs())
}

// Is reports whether an admission carries what a grant of a rulebook does.
func (g *Granted) Is(r *rulebook.Grant) bool {
	if r == nil {
		return g == nil
	}
	return g.Same(Carries(r))
}

// pairs lists the further attributes, in the order of their names.
func (g *Granted) pairs() (out []string) {
	for name, v := range g.Attributes {
		out = append(out, name+"="+v)
	}
	slices.Sort(out)
	return out
}

// String tells what is granted in a few words.
func (g *Granted) String() string {
	parts := []string{"grant " + g.Grant}
	if g.VLAN != "" {
		parts = append(parts, "VLAN "+g.VLAN)
	}
	if g.Filter != "" {
		parts = append(parts, "filter "+g.Filter)
	}
	parts = append(parts, g.pairs()...)
	return strings.Join(parts, ", ") + ", for " + value.FormatDuration(g.Session*1_000_000)
}

// Carries is what a grant of the rulebook carries.
func Carries(g *rulebook.Grant) *Granted {
	out := &Granted{Filter: g.Filter, Grant: g.ID, Recover: g.Recover, Session: g.Session / 1_000_000, VLAN: g.VLAN}
	for _, a := range g.Attributes {
		if out.Attributes == nil {
			out.Attributes = map[string]string{}
		}
		out.Attributes[a.Name] = a.Value
	}
	return out
}

// passedOver explains the grants before the one that was given, or all of them.
func (t *Evaluator) passedOver(view *evidence.View) (out []NotGranted) {
	_, n := t.net.given(&t.env)
	for i := range t.net.Grants[:n] {
		g := &t.net.Grants[i]
		_, why := g.When.Explain(&t.env, origins{view, &t.env})
		out = append(out, NotGranted{Grant: g.ID, When: g.When.String(), Why: why, level: missing(why)})
	}
	return out
}

// admit gives a decision what the admission carries, or why there is none.
func (t *Evaluator) admit(d *Decision, v Verdict, q *Request) {
	if t.net == nil {
		return
	}
	if v.Grant != nil {
		d.Grant = Carries(v.Grant)
		d.Grant.Instead = t.passedOver(q.Device.View)
		t.recovering(d, q)
		d.ReasonAdmin = map[string]string{"en": d.ReasonAdmin["en"] + " On " + t.net.ID + ": " + d.Grant.String() +
			told(d.Grant.Instead) + "."}
		return
	}
	if d.Outcome != Deny || t.standsInTheWay() {
		return // it is a gate that said so, and that tells why
	}
	passed := t.passedOver(q.Device.View)
	d.say("This network has no place for your device or for you.",
		"Denied: gates let it through, and no grant of the network "+t.net.ID+" is true"+told(passed)+".")
	var all []string
	for _, p := range passed {
		all = append(all, p.When)
	}
	d.ToAllow = []string{"a grant of the network: " + strings.Join(all, "; or ")}
	if want := lacking(passed); q.Device.Known && want > q.Device.Level && q.Device.Below != nil {
		d.Remedies = q.Device.Below(want)
	}
}

// impostor reports whether a request to join a network shows a certificate that is not trusted for a device: it is
// denied whatever gates say, for a certificate that is taken back must not be better than none.
func (p *Program) impostor(q *Request) bool {
	return q.Shown && (q.Certificate == nil || !*q.Certificate) && p.networkOf(q) != nil
}

// networkOf is the network that a request is about, nil for none.
func (p *Program) networkOf(q *Request) *network {
	if r := p.resources[q.Resource]; r != nil {
		return r.network
	}
	return nil
}

// recovering tells the person in a place to get well in what the device needs.
func (t *Evaluator) recovering(d *Decision, q *Request) {
	if !d.Grant.Recover {
		return
	}
	d.ReasonUser = map[string]string{
		"en": "Your device is on a network where it can be put right, and reaches nothing else."}
	if want := lacking(d.Grant.Instead); q.Device.Known && want > q.Device.Level && q.Device.Below != nil {
		d.Remedies = q.Device.Below(want)
	}
}

// standsInTheWay reports whether an enforced gate did not let the request through, or none matched it.
func (t *Evaluator) standsInTheWay() bool {
	return len(t.Stops()) > 0 || len(t.Matched()) == 0 && !t.p.rb.Unmatched
}

// lacking is the least level that one of some grants asks for and the device lacks; 0 for none.
func lacking(list []NotGranted) (want rulebook.Level) {
	for _, n := range list {
		if n.level > 0 && (want == 0 || n.level < want) {
			want = n.level
		}
	}
	return want
}

// told says why grants were not given, behind a colon.
func told(list []NotGranted) string {
	var parts []string
	for _, n := range list {
		reasons := make([]string, 0, len(n.Why))
		for _, l := range n.Why {
			reasons = append(reasons, Reason(l))
		}
		parts = append(parts, fmt.Sprintf("not %s: %s", n.Grant, strings.Join(reasons, ", ")))
	}
	if len(parts) == 0 {
		return ""
	}
	return " (" + strings.Join(parts, "; ") + ")"
}
