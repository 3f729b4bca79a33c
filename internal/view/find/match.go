package find

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view/marked"
)

// condition is the condition of a search; nil for none. One that asks for retired devices has them found.
func (q *Query) condition(b *state.Book) (*condition.Program, error) {
	if !slices.Contains([]string{"", WithRetired, OnlyRetired}, q.Retired) {
		return nil, &fault.QueryError{Param: "retired", Message: "say with or only, or nothing"}
	}
	if strings.TrimSpace(q.Where) == "" {
		return nil, nil
	}
	p, err := condition.CompileText(q.Where, b.Search)
	if err != nil {
		return nil, WhereError(err)
	}
	if q.Retired == "" && slices.Contains(p.Reads(), "retired") {
		q.Retired = WithRetired
	}
	return p, nil
}

// asked asks a condition of a search.
func asked(b *state.Book, p *condition.Program, now int64) func(*state.Device, *Budget) condition.Tri {
	env := &condition.Env{Now: now}
	extra := condition.NewFrame(len(b.Search.Extra()))
	env.Frames[rulebook.RequestFrame] = extra
	type own struct {
		slot int
		of   func(d *state.Device) value.Value
	}
	reads := p.Reads() // of a whole fleet, what is not looked at takes half of the time
	owns := slices.DeleteFunc([]own{
		{state.SearchLevel, func(d *state.Device) value.Value { return b.Rulebook.LevelValue(d.Result.Level) }},
		{state.SearchID, func(d *state.Device) value.Value { return value.OfText(d.ID) }},
		{state.SearchSeenAt, func(d *state.Device) value.Value { return value.OfTime(d.SeenAt) }},
		{state.SearchSince, func(d *state.Device) value.Value { return value.OfTime(d.Since) }},
		{state.SearchQuarantined, func(d *state.Device) value.Value { return value.OfBool(d.Quarantine.Holds(now)) }},
		{state.SearchRetired, func(d *state.Device) value.Value { return value.OfBool(d.Retired != nil) }},
	}, func(x own) bool { return !slices.Contains(reads, b.Search.Extra()[x.slot].Name) })
	return func(d *state.Device, taken *Budget) condition.Tri {
		env.Frames[evidence.DeviceFrame] = d.View.Frame
		for _, x := range owns {
			extra.Set(x.slot, x.of(d), condition.Always)
		}
		before := env.Steps()
		match := p.Eval(env)
		taken.Take(env.Steps() - before)
		return match
	}
}

// ruling says which devices of a page are those of which a rule says something.
func (q *Query) ruling(b *state.Book) (func(*marked.Page) marked.Set, error) {
	if q.Rule == "" {
		if q.Verdict != "" {
			return nil, &fault.QueryError{Param: "rule", Message: "say of which rule, as baseline/rule"}
		}
		return func(p *marked.Page) marked.Set { return p.All }, nil
	}
	i := slices.Index(b.RuleKeys, q.Rule)
	if i < 0 {
		return nil, &fault.QueryError{Param: "rule", Message: fmt.Sprintf(
			"%q is not a rule of the rulebook in force, as baseline/rule%s", q.Rule, fault.Nearest(q.Rule, b.RuleKeys))}
	}
	if q.Verdict == "" {
		return func(p *marked.Page) marked.Set { return p.All.Without(&p.Says[i][posture.None]) }, nil
	}
	var v posture.Verdict
	if v.UnmarshalText([]byte(q.Verdict)) != nil {
		return nil, &fault.QueryError{Param: "verdict", Message: fmt.Sprintf(
			"%q is not a verdict; there are pass, fail, unknown, grace, waived and none", q.Verdict)}
	}
	return func(p *marked.Page) marked.Set { return p.Says[i][v] }, nil
}

// Check finds what is wrong with a search.
func (q Query) Check(b *state.Book) error {
	if _, err := q.condition(b); err != nil {
		return err
	}
	return CheckColumns(b, q.Columns)
}

// WhereError says what is wrong with the condition of a search.
func WhereError(err error) error {
	var list syntax.Errors
	var one *syntax.Error
	if errors.As(err, &list) {
		one = list[0]
	} else if !errors.As(err, &one) {
		return err
	}
	msg := one.Message
	if one.Hint != "" {
		msg += "; " + one.Hint
	}
	return &fault.QueryError{Param: "where", Message: msg, Excerpt: one.Excerpt()}
}

// CheckColumns finds what is no attribute among the columns of a list.
func CheckColumns(b *state.Book, columns []string) error {
	for _, name := range columns {
		if b.Rulebook.Dict.Slot(name) < 0 {
			return &fault.QueryError{Param: "columns",
				Message: fmt.Sprintf("%q is not an attribute%s", name,
					fault.Nearest(name, b.Rulebook.Dict.Names()))}
		}
	}
	return nil
}
