package rulebook

import "ironledger.example/core/condition"

// Enrolment says which devices that ask are taken in.
type Enrolment struct {
	Allow  *condition.Program // nil: none by itself
	Refuse bool               // the others: refused, rather than held for a person
}

// enrolment reads {allow: CONDITION, otherwise: hold|refuse}.
func (l *loader) enrolment() {
	f, ok := l.single("enrolment")
	if !ok {
		return
	}
	f.mapping("enrolment", map[string]func(field){
		"allow":     func(f field) { l.rb.Enrolment.Allow = f.condition(l.rb.Dict) },
		"otherwise": func(f field) { i, _ := f.word("choice", []string{"hold", "refuse"}); l.rb.Enrolment.Refuse = i == 1 },
	})
}

func (e *Enrolment) String() string {
	text := "none by itself"
	if e.Allow != nil {
		text = "allow " + e.Allow.String()
	}
	if e.Refuse {
		return text + ", otherwise refuse"
	}
	return text + ", otherwise hold"
}
