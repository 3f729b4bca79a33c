package access

import (
	"slices"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// Verdict is how a request ends, without the reasons.
type Verdict struct {
	Outcome    Outcome
	Shadow     Outcome // if shadow gates were enforced
	BreakGlass bool
	// Grant is what an admission to a network carries; nil for what is no network, and where nothing is granted.
	Grant *rulebook.Grant
}

// Evaluator puts many requests to the gates, one after another, and tells how each
// ends. It reuses its room; it must not be shared between goroutines.
type Evaluator struct {
	p     *Program
	env   condition.Env
	room  []int
	asked []asked
	net   *network // that the request is about; nil for none
}

// asked is what one gate that matched came to; Allow when it is met.
type asked struct {
	gate    int
	outcome Outcome
}

// Evaluator returns room for trying requests.
func (p *Program) Evaluator() *Evaluator {
	t := &Evaluator{p: p}
	t.env.Frames[rulebook.RequestFrame] = condition.NewFrame(rulebook.RequestSlots)
	return t
}

// Steps is how many members of lists conditions have looked at in the trial so far.
func (t *Evaluator) Steps() int64 { return t.env.Steps() }

// Evaluate puts a request to the gates at now.
func (t *Evaluator) Evaluate(q *Request, now int64) Verdict {
	p := t.p
	t.asked = t.asked[:0]
	if p.impostor(q) {
		return Verdict{Outcome: Deny, Shadow: Deny}
	}
	if p.emergency(q) {
		v := Verdict{Outcome: Allow, Shadow: Allow, BreakGlass: true}
		if t.pose(q, now); t.net != nil {
			v.Grant, _ = t.net.given(&t.env)
		}
		return v
	}
	if p.stranger(q) {
		return Verdict{Outcome: Deny, Shadow: Deny}
	}
	t.pose(q, now)
	var real, shadow tally
	for _, i := range t.room {
		g := &p.gates[i]
		if !g.matches(q) || g.When != nil && g.When.Eval(&t.env) == condition.False {
			continue
		}
		a := asked{i, t.ask(g)}
		t.asked = append(t.asked, a)
		if shadow.add(a.outcome); !g.shadow {
			real.add(a.outcome)
		}
	}
	v := Verdict{Outcome: real.outcome(p.rb.Unmatched), Shadow: shadow.outcome(p.rb.Unmatched)}
	if t.net != nil && (v.Outcome == Allow || v.Shadow == Allow) {
		grant, _ := t.net.given(&t.env)
		if v.Outcome == Allow {
			v.Grant = grant
		}
		if grant == nil { // otherwise: reject
			v.Outcome, v.Shadow = rejected(v.Outcome), rejected(v.Shadow)
		}
	}
	return v
}

// rejected is what an outcome is where an admission has nothing to carry.
func rejected(o Outcome) Outcome {
	if o == Allow {
		return Deny
	}
	return o
}

// pose has conditions see a request at now, and finds the gates that can match it.
func (t *Evaluator) pose(q *Request, now int64) {
	p := t.p
	res := p.resources[q.Resource]
	if res == nil {
		res = p.other
	}
	t.net = res.network
	t.room = res.candidates(q, t.room)
	t.env.Now = now
	t.env.Frames[evidence.DeviceFrame] = p.noDevice
	if q.Device.Known && q.Device.View != nil {
		t.env.Frames[evidence.DeviceFrame] = q.Device.View.Frame
	}
	frame := t.env.Frames[rulebook.RequestFrame]
	frame.Clear()
	p.frame(q, res, now, frame)
}

// Possible reports whether a request can be allowed or stepped up, whatever else turns
// out to be true of it: how the person signed in, from where, if it does not say.
func (t *Evaluator) Possible(q *Request, now int64) bool {
	p := t.p
	if p.emergency(q) {
		return !p.impostor(q)
	}
	if p.stranger(q) || p.impostor(q) {
		return false
	}
	t.pose(q, now)
	met := p.rb.Unmatched
	for _, i := range t.room {
		g := &p.gates[i]
		if g.shadow || !g.matches(q) {
			continue
		}
		applies := condition.True
		if g.When != nil {
			applies = g.When.Eval(&t.env)
		}
		switch {
		case applies == condition.False:
		case g.Need.Eval(&t.env) != condition.False || t.ask(g) != Deny:
			met = true
		case applies == condition.True:
			return false
		}
	}
	return met && (t.net == nil || t.net.possible(&t.env))
}

// stranger reports whether a request is denied because the directory does not
// know the person.
func (p *Program) stranger(q *Request) bool {
	return q.User != "" && !q.Known && !p.rb.UnknownPeople && !p.emergency(q)
}

// ask puts the request to one gate.
func (t *Evaluator) ask(g *gate) Outcome {
	if g.Need.Eval(&t.env) == condition.True {
		return Allow
	}
	if !g.StepUp {
		return Deny
	}
	frame := t.env.Frames[rulebook.RequestFrame]
	cell, said := frame.Cells[rulebook.SlotMFA], frame.Value(rulebook.SlotMFA)
	frame.Set(rulebook.SlotMFA, value.OfBool(true), condition.Always)
	met := g.Need.Eval(&t.env) == condition.True
	frame.Set(rulebook.SlotMFA, said, cell.Until)
	if met {
		return StepUp
	}
	return Deny
}

// Stops lists the ids of the enforced gates that stood in the way of the
// request that was tried last, in the order of their numbers.
func (t *Evaluator) Stops() []string {
	var ids []string
	for _, a := range t.asked {
		if g := &t.p.gates[a.gate]; !g.shadow && a.outcome != Allow {
			ids = append(ids, g.ID)
		}
	}
	return ids
}

// Matched lists the ids of the enforced gates that matched the request that was
// tried last.
func (t *Evaluator) Matched() []string {
	var ids []string
	for _, a := range t.asked {
		if g := &t.p.gates[a.gate]; !g.shadow {
			ids = append(ids, g.ID)
		}
	}
	return ids
}

// tally joins the verdicts of gates.
type tally struct{ matched, denied, stepped bool }

func (t *tally) add(o Outcome) {
	t.matched = true
	t.denied = t.denied || o == Deny
	t.stepped = t.stepped || o == StepUp
}

func (t tally) outcome(unmatched bool) Outcome {
	switch {
	case t.denied:
		return Deny
	case t.stepped:
		return StepUp
	case t.matched || unmatched:
		return Allow
	}
	return Deny
}

// guards reports whether the gate is about a resource, whatever the action.
func guards(w *rulebook.What, id string, tags []string) bool {
	in := w.Everything || slices.Contains(w.Resources, id) || intersect(w.Tags, tags)
	return in && !slices.Contains(w.ExceptResources, id) && !intersect(w.ExceptTags, tags)
}
