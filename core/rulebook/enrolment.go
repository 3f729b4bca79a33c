package rulebook

import (
	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook/tree"
)

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
	f.Mapping("enrolment", map[string]func(tree.Field){
		"allow": func(f tree.Field) { l.rb.Enrolment.Allow = f.Condition(l.rb.Dict) },
		"otherwise": func(f tree.Field) {
			i, _ := f.Word("choice", []string{"hold", "refuse"})
			l.rb.Enrolment.Refuse = i == 1
		},
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
