package access

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// GateRuling is what one gate that matched came to.
type GateRuling struct {
	Gate    string            `json:"gate"`
	Message map[string]string `json:"message,omitempty"`
	Need    string            `json:"need"`
	Number  int               `json:"number,omitempty"`
	Shadow  bool              `json:"shadow,omitempty"` // worked out, without effect
	Title   string            `json:"title,omitempty"`
	Verdict string            `json:"verdict"` // met, deny or step-up
	Why     []condition.Leaf  `json:"why"`

	level rulebook.Level // the level that the need asks for and the device lacks
}

// Label is what people call the gate: its number, or its id when it has none.
func (g *GateRuling) Label() string {
	if g.Number > 0 {
		return strconv.Itoa(g.Number)
	}
	return g.Gate
}

// Decision is the answer to a request, in full. Here and in what is part of it
// the members have the order of canonical JSON, for the ledger.
type Decision struct {
	BreakGlass bool         `json:"break_glass,omitempty"`
	Device     string       `json:"device,omitempty"`
	Gates      []GateRuling `json:"gates"`
	Grant      *Granted     `json:"grant,omitempty"` // what an admission to a network carries
	Known      bool         `json:"known_device"`
	Level      string       `json:"level"`
	Outcome    Outcome      `json:"outcome"`
	// ReasonAdmin and ReasonUser say why, by language.
	ReasonAdmin map[string]string `json:"reason_admin"`
	ReasonUser  map[string]string `json:"reason_user"`
	// Remedies are the rules a person can mend to get through.
	Remedies []Obstacle `json:"remedies,omitempty"`
	// ShadowOutcome is the answer if shadow gates were enforced, when it differs.
	ShadowOutcome Outcome `json:"shadow_outcome,omitempty"`
	// ToAllow says what would make it allow; empty when it is.
	ToAllow []string `json:"to_allow,omitempty"`
	// ValidUntil is how long the answer may be relied on, in RFC 3339.
	ValidUntil string `json:"valid_until"`
}

// Decisive lists what made the outcome: the numbers of gates in force, or the ids of
// those that have none; break-glass for such an account.
func (d *Decision) Decisive() []string {
	out := []string{}
	if d.BreakGlass {
		return append(out, "break-glass")
	}
	for _, g := range d.Gates {
		switch {
		case g.Shadow || d.Outcome != Allow && g.Verdict == "met":
		default:
			out = append(out, g.Label())
		}
	}
	return out
}

// Decide answers a request at now.
func (p *Program) Decide(q *Request, now int64) *Decision {
	d := &Decision{Device: q.Device.ID, Known: q.Device.Known, Level: p.rb.LevelName(p.level(q)),
		Gates: []GateRuling{}}
	if p.impostor(q) {
		d.impostor(q, now)
		return d
	}
	if p.emergency(q) {
		d.Outcome, d.BreakGlass = Allow, true
		d.say("Emergency access.", "Allowed: "+q.User+" is a break-glass account; gates were not asked.")
		d.ValidUntil = value.FormatTime(now)
		if p.networkOf(q) != nil {
			t := p.room()
			defer p.trials.Put(t)
			t.admit(d, t.Evaluate(q, now), q)
		}
		return d
	}
	if p.stranger(q) {
		d.Outcome = Deny
		d.say("Your name is not in the directory, so nothing can be opened for you. The help desk can tell you more.",
			"Denied: the directory does not know "+q.User+".")
		d.ToAllow = []string{"a person whom the directory knows"}
		d.ValidUntil = value.FormatTime(now)
		return d
	}
	t := p.room()
	defer p.trials.Put(t)
	ruling := t.Evaluate(q, now)
	if d.Outcome = ruling.Outcome; ruling.Shadow != d.Outcome {
		d.ShadowOutcome = ruling.Shadow
	}
	validFor := int64(-1)
	for _, a := range t.asked {
		g := &p.gates[a.gate]
		d.Gates = append(d.Gates, p.ruling(&t.env, g, q, a.outcome))
		if !g.shadow && (validFor < 0 || g.ValidFor < validFor) {
			validFor = g.ValidFor
		}
	}
	if ruling.Grant != nil {
		validFor = ruling.Grant.Session
	}
	p.explain(d, q)
	t.admit(d, ruling, q)
	p.doubt(d, q)
	until := validUntil(d.Outcome, q, now, validFor)
	for _, i := range t.room {
		if g := &p.gates[i]; until > now && !g.shadow && (g.clock || len(g.timed) > 0) && g.matches(q) {
			until = min(until, g.turns(&t.env))
		}
	}
	if t.net != nil && until > now {
		until = min(until, t.net.turns(&t.env))
	}
	d.ValidUntil = value.FormatTime(until)
	return d
}

// impostor says why a certificate that is not trusted for a device joins nothing.
func (d *Decision) impostor(q *Request, now int64) {
	d.Outcome, d.ValidUntil = Deny, value.FormatTime(now)
	if q.Device.Known && q.Certificate == nil {
		d.say("What your device shows of its certificate is too old. Have it report, and try again.",
			"Denied: whether the certificate that the connection showed is trusted for the device is not known: nothing "+
				"fresh is known of the device's certificates.")
		d.ToAllow = []string{"fresh evidence of the device's certificates"}
		return
	}
	why := q.Device.Unknown
	if why == "" {
		why = "the certificate that the connection showed is not trusted for the device"
	}
	d.say("The certificate of your device is not trusted here. The help desk can tell you more.", "Denied: "+why+".")
	d.ToAllow = []string{"a certificate that is trusted for its device"}
}

// room is an evaluator that nobody else uses; it goes back to p.trials.
func (p *Program) room() *Evaluator {
	if t, _ := p.trials.Get().(*Evaluator); t != nil {
		return t
	}
	return p.Evaluator()
}

// validUntil is the end of an allow as far as its gates say and the device is concerned: the
// shortest validity of the gates, or the moment the device's level may change by itself. It ends
// before that when a gate's own condition may turn. A refusal may be asked about again at once.
func validUntil(o Outcome, q *Request, now, validFor int64) int64 {
	if o != Allow {
		return now
	}
	if validFor < 0 {
		validFor = rulebook.DefaultValid
	}
	until := now + validFor
	if q.Device.Known && q.Device.Next != nil && until >= q.Device.Wake {
		until = min(until, q.Device.Next())
	}
	return until
}

// ruling explains what one gate came to.
func (p *Program) ruling(env *condition.Env, g *gate, q *Request, outcome Outcome) GateRuling {
	r := GateRuling{Gate: g.ID, Number: g.Number, Title: g.Title, Shadow: g.shadow, Need: g.Need.String(),
		Why: []condition.Leaf{}, Verdict: "met"}
	_, why := g.Need.Explain(env, origins{q.Device.View, env})
	if why != nil {
		r.Why = why
	}
	if outcome != Allow {
		r.Verdict, r.Message, r.level = string(outcome), g.Message, missing(why)
	}
	return r
}

// missing is the lowest level that a leaf among the reasons asks for; 0 when
// no level is asked for.
func missing(why []condition.Leaf) rulebook.Level {
	want := rulebook.Level(0)
	for _, l := range why {
		if l.Path != "level" || l.Holds == condition.True || l.Bound.Kind() != value.Enum {
			continue
		}
		at := rulebook.Level(l.Bound.Num())
		if strings.HasPrefix(l.Required, "> ") {
			at++
		}
		if want == 0 || at < want {
			want = at
		}
	}
	return want
}

func (d *Decision) say(user, admin string) {
	d.ReasonUser, d.ReasonAdmin = map[string]string{"en": user}, map[string]string{"en": admin}
}

// explain gives the decision its reasons, and a refusal its cure.
func (p *Program) explain(d *Decision, q *Request) {
	if d.Outcome == Allow {
		d.ReasonUser = welcome
		why := "no enforced gate matches, and the rulebook allows what is unmatched."
		if shadows(d.Gates) < len(d.Gates) {
			why = numbered(d.Gates, func(g GateRuling) bool { return !g.Shadow }) + " met."
		}
		d.ReasonAdmin = map[string]string{"en": "Allowed: " + why}
		return
	}
	stops := slices.DeleteFunc(slices.Clone(d.Gates),
		func(g GateRuling) bool { return g.Shadow || g.Verdict == "met" })
	if len(stops) == 0 {
		d.say("Nobody has been given access to this.",
			"Denied: no enforced gate matches, and the rulebook denies what is unmatched.")
		d.ToAllow = []string{"a gate that covers this person, resource and action"}
		return
	}
	p.refuse(d, q, stops)
}

// doubt adds to the reasons what the request names and nobody knows: it may be a
// typing error.
func (p *Program) doubt(d *Decision, q *Request) {
	var notes []string
	if q.Device.Unknown != "" {
		notes = append(notes, q.Device.Unknown)
	}
	if q.User != "" && !q.Known {
		notes = append(notes, "the directory does not know "+q.User)
	}
	if p.resources[q.Resource] == nil {
		notes = append(notes, "the rulebook lists no resource "+q.Resource)
	}
	if len(notes) == 0 {
		return
	}
	why := map[string]string{} // the one of an allow is shared
	for lang, text := range d.ReasonAdmin {
		why[lang] = text
	}
	why["en"] += " Note: " + strings.Join(notes, "; ") + "."
	d.ReasonAdmin = why
}

// welcome is what every allow tells the person; nobody changes it.
var welcome = map[string]string{"en": "You may continue."}

func shadows(list []GateRuling) int {
	n := 0
	for _, g := range list {
		if g.Shadow {
			n++
		}
	}
	return n
}

func numbered(list []GateRuling, pick func(GateRuling) bool) string {
	var parts []string
	for _, g := range list {
		if pick(g) {
			parts = append(parts, g.Label())
		}
	}
	if len(parts) == 1 {
		return "gate " + parts[0] + " is"
	}
	return "gates " + strings.Join(parts, ", ") + " are"
}

func (p *Program) refuse(d *Decision, q *Request, stops []GateRuling) {
	user := map[string]string{"en": "Your device or your sign-in does not meet what this needs."}
	if d.Outcome == StepUp {
		user = map[string]string{"en": "Confirm your sign-in with a second factor to continue."}
	}
	var admin []string
	want := rulebook.Level(0)
	for _, g := range stops {
		if g.Message != nil && d.Outcome == Deny {
			user = g.Message
		}
		reasons := make([]string, 0, len(g.Why))
		for _, l := range g.Why {
			reasons = append(reasons, Reason(l))
		}
		name := g.Label()
		if g.Number > 0 {
			name += " (" + g.Gate + ")"
		}
		admin = append(admin, fmt.Sprintf("gate %s says %s: %s", name, g.Verdict, strings.Join(reasons, "; ")))
		if g.Verdict == string(StepUp) {
			d.ToAllow = append(d.ToAllow, "a second factor, for gate "+g.Label())
		} else {
			d.ToAllow = append(d.ToAllow, "gate "+g.Label()+" needs "+g.Need)
		}
		want = max(want, g.level)
	}
	d.ReasonUser = user
	if q.Device.Known && want > q.Device.Level && q.Device.Below != nil {
		d.Remedies = q.Device.Below(want)
		for _, o := range d.Remedies {
			for _, l := range o.Why {
				admin = append(admin, fmt.Sprintf("%s is %s: %s", o.Rule, o.Verdict, Reason(l)))
			}
		}
	}
	d.ReasonAdmin = map[string]string{"en": strings.ToUpper(admin[0][:1]) + strings.Join(admin, ". ")[1:] + "."}
	if !q.Device.Known {
		d.ToAllow = append(d.ToAllow, "a device that is known here")
	}
}

// Reason tells a leaf in one clause: what was required, and what was seen.
func Reason(l condition.Leaf) string {
	subject := l.Path
	if subject == "" {
		subject = l.Condition
	}
	required := l.Required
	switch required {
	case "true", "false":
		required = "to be " + required
	}
	switch {
	case l.Unknown != "" && l.Holds == condition.Unknown:
		return fmt.Sprintf("%s is not known (%s), needs %s", subject, l.Unknown, required)
	case l.Observed != "":
		return fmt.Sprintf("%s is %s, needs %s", subject, l.Observed, required)
	}
	return fmt.Sprintf("needs %s %s", subject, required)
}
