package rulebook

import (
	"slices"

	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook/tree"
)

// The events that a receiver may be given, by their short names.
const (
	ComplianceSignal = "device-compliance-change" // CAEP 1.0, as the next three
	RiskSignal       = "risk-level-change"
	AssuranceSignal  = "assurance-level-change"
	SessionSignal    = "session-revoked"
	StandingSignal   = "standing-change" // our own, with the whole level
)

// SignalNames are all of them.
var SignalNames = []string{ComplianceSignal, RiskSignal, AssuranceSignal, SessionSignal, StandingSignal}

// The forms in which a receiver is told of devices and people, the default first
// (RFC 9493). None leaves people out.
var (
	DeviceForms = []string{"id", "serial", "iss_sub"}
	PersonForms = []string{"none", "email", "opaque", "iss_sub"}
)

// The forms in which a receiver is told, the default first: security event tokens (RFC
// 8417) over Shared Signals, or CloudEvents to a web hook.
const (
	SetForm   = "set"
	CloudForm = "cloudevents"
)

// TellForms are both.
var TellForms = []string{SetForm, CloudForm}

// Signals says what receivers of streams are told.
type Signals struct {
	// CompliantFrom is the lowest level at which a device counts as compliant for who
	// knows two states only.
	CompliantFrom Level
	// LowFrom and MediumFrom are the lowest levels at which the risk of a device is low
	// and medium.
	LowFrom, MediumFrom Level
	Receivers           []Receiver
}

// Receiver is who may have a stream, and what it is given.
type Receiver struct {
	Where         Position
	ID            string // the name of its token
	Title         string
	Form          string             // one of TellForms
	Events        []string           // short names, in the order of SignalNames
	When          *condition.Program // over rulebook.ChangeSlots; nil for whatever happens
	CompliantFrom Level
	Device        string // one of DeviceForms
	Person        string // one of PersonForms
}

// Receiver is the one of an id, nil for none.
func (s *Signals) Receiver(id string) *Receiver {
	if i := slices.IndexFunc(s.Receivers, func(r Receiver) bool { return r.ID == id }); i >= 0 {
		return &s.Receivers[i]
	}
	return nil
}

func (l *loader) signals() {
	rb := l.rb
	s := &rb.Signals
	s.CompliantFrom = min(rb.Doubt()+1, rb.Top())
	low, medium := Level(-1), Level(-1)
	var receivers []tree.Item
	if f, ok := l.single("signals"); ok {
		f.Mapping("signals", map[string]func(tree.Field){
			"compliant_from": func(f tree.Field) { l.level(f.Item, &s.CompliantFrom) },
			"risk": func(f tree.Field) {
				f.Mapping("the levels of risk", map[string]func(tree.Field){
					"low_from":    func(f tree.Field) { l.level(f.Item, &low) },
					"medium_from": func(f tree.Field) { l.level(f.Item, &medium) },
				})
				if low >= 0 && medium > low {
					f.Fail("medium_from lies above low_from")
				}
			},
			"receivers": func(f tree.Field) { receivers = f.Seq() },
		})
	}
	if s.MediumFrom = medium; medium < 0 {
		s.MediumFrom = s.CompliantFrom
		if low >= 0 {
			s.MediumFrom = min(s.MediumFrom, low)
		}
	}
	if s.LowFrom = low; low < 0 {
		s.LowFrom = min(s.MediumFrom+1, rb.Top())
	}
	seen, names := unique{}, newChangeNames(rb.Dict, rb.LevelType)
	for _, it := range receivers {
		r := Receiver{Where: it.Position(), Form: SetForm, CompliantFrom: s.CompliantFrom, Device: DeviceForms[0],
			Person: PersonForms[0]}
		ok := it.Mapping("a receiver", map[string]func(tree.Field){
			"id":             func(f tree.Field) { f.ID(&r.ID) },
			"title":          func(f tree.Field) { f.Text(&r.Title) },
			"form":           func(f tree.Field) { r.Form = chosen(f, "form of telling", TellForms) },
			"when":           func(f tree.Field) { r.When = f.Condition(names) },
			"compliant_from": func(f tree.Field) { l.level(f.Item, &r.CompliantFrom) },
			"events":         func(f tree.Field) { r.Events = signalsOf(f) },
			"device":         func(f tree.Field) { r.Device = chosen(f, "form of a device", DeviceForms) },
			"person":         func(f tree.Field) { r.Person = chosen(f, "form of a person", PersonForms) },
		})
		if r.Events == nil {
			r.Events = defaultEvents(r.Form)
		}
		if ok && l.named(it, "a receiver", r.ID) && seen.add(it, "receivers", r.ID) {
			s.Receivers = append(s.Receivers, r)
		}
	}
}

// defaultEvents are what a receiver hears whose place does not say: all, but of what
// CloudEvents can say whole not the same thing in four forms.
func defaultEvents(form string) []string {
	if form == CloudForm {
		return []string{SessionSignal, StandingSignal}
	}
	return SignalNames
}

// signalsOf reads a list of events, each once.
func signalsOf(f tree.Field) []string {
	var out []string
	for _, it := range f.Seq() {
		if i, ok := it.Word("event", SignalNames); ok && !slices.Contains(out, SignalNames[i]) {
			out = append(out, SignalNames[i])
		}
	}
	if len(out) == 0 {
		f.Fail("a receiver is given at least one event; leave events out for all")
	}
	return slices.SortedFunc(slices.Values(out), func(a, b string) int {
		return slices.Index(SignalNames, a) - slices.Index(SignalNames, b)
	})
}

func chosen(f tree.Field, what string, words []string) string {
	i, _ := f.Word(what, words)
	return words[max(i, 0)]
}
