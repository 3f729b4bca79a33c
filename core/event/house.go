package event

import (
	"fmt"

	"ironledger.example/core/ledger"
)

// Impact is one reason why a publication, a directory or a roster was held back.
type Impact struct {
	Kind    string   `json:"kind"`
	Message string   `json:"message"`
	Who     []string `json:"who"` // people, or accounts
}

// Accepted is what somebody accepted who made a change that was held back.
type Accepted struct {
	AcceptImpact string   `json:"accept_impact,omitempty"` // why
	Impacts      []Impact `json:"impacts,omitempty"`
}

// What an entry tells of impacts.
const (
	MaxImpacted = 100  // people
	MaxReason   = 1000 // bytes
)

// Accept makes what is recorded of impacts that were accepted for a reason.
func Accept(impacts []Impact, reason string) (a Accepted) {
	if len(impacts) == 0 {
		return a
	}
	a.AcceptImpact = Clipped(reason, MaxReason)
	for _, x := range impacts {
		x.Who, x.Message = x.Who[:min(len(x.Who), MaxImpacted)], Clipped(x.Message, MaxReason)
		a.Impacts = append(a.Impacts, x)
	}
	return a
}

// RulebookPublished is a rulebook that is in force from here on.
type RulebookPublished struct {
	Version int64  `json:"version"`
	Name    string `json:"name"`
	Message string `json:"message"`
	Digest  string `json:"digest"` // SHA-256 of the files, in hex
	// Rules are the rules, in the order in which entries write verdicts as letters.
	Rules []PublishedRule `json:"rules,omitempty"`
	// Gates are those that serve controls.
	Gates []PublishedGate `json:"gates,omitempty"`
	// Short says that the rules are too many for an entry: they stand in the rulebook alone.
	Short bool `json:"short,omitempty"`
	Accepted
}

// PublishedRule is a rule of a rulebook that was published, and what it serves.
type PublishedRule struct {
	Rule     string   `json:"rule"` // baseline/rule
	Controls []string `json:"controls,omitempty"`
	Shadow   bool     `json:"shadow,omitempty"` // it caps nothing
}

// PublishedGate is a gate of a rulebook that was published, and what it serves.
type PublishedGate struct {
	Gate     string   `json:"gate"`
	Controls []string `json:"controls"`
	Shadow   bool     `json:"shadow,omitempty"` // it decides nothing
}

// Kind is [ledger.RulebookPublished].
func (*RulebookPublished) Kind() ledger.Kind { return ledger.RulebookPublished }

// About is the version.
func (r *RulebookPublished) About() string { return fmt.Sprint(r.Version) }

// AppendBody appends the body.
func (r *RulebookPublished) AppendBody(b []byte) []byte {
	begin := len(b)
	if b = appendCanonical(b, r); len(b)-begin > MaxBody {
		short := *r
		short.Rules, short.Gates, short.Short = nil, nil, true
		b = appendCanonical(b[:begin], &short)
	}
	return b
}

// Gist tells the version and its message.
func (r *RulebookPublished) Gist() string { return fmt.Sprintf("version %d: %s", r.Version, r.Message) }

// PeopleImported is a list of people that was laid over the directory.
type PeopleImported struct {
	Added   int      `json:"added"`
	Changed int      `json:"changed"`
	Removed int      `json:"removed,omitempty"`
	People  []string `json:"people,omitempty"` // some of those who were removed
	Accepted
}

// Kind is [ledger.PeopleImported].
func (*PeopleImported) Kind() ledger.Kind { return ledger.PeopleImported }

// About is the directory.
func (*PeopleImported) About() string { return "people" }

// AppendBody appends the body.
func (p *PeopleImported) AppendBody(b []byte) []byte { return appendCanonical(b, p) }

// Gist tells how many.
func (p *PeopleImported) Gist() string {
	text := fmt.Sprintf("%d added, %d changed", p.Added, p.Changed)
	if p.Removed > 0 {
		text += fmt.Sprintf(", %d removed", p.Removed)
	}
	return text
}

// PersonRemoved is a person who left the directory.
type PersonRemoved struct {
	Person string   `json:"person"`
	Name   string   `json:"name"`
	Groups []string `json:"groups"`
	Reason string   `json:"reason"`
	Accepted
}

// Kind is [ledger.PersonRemoved].
func (*PersonRemoved) Kind() ledger.Kind { return ledger.PersonRemoved }

// About is the person.
func (p *PersonRemoved) About() string { return p.Person }

// AppendBody appends the body.
func (p *PersonRemoved) AppendBody(b []byte) []byte { return appendCanonical(b, p) }

// Gist tells why.
func (p *PersonRemoved) Gist() string { return p.Reason }

// RosterImported is a list of hardware that was laid over the roster.
type RosterImported struct {
	Added   int `json:"added"`
	Changed int `json:"changed"`
	Accepted
}

// Kind is [ledger.RosterImported].
func (*RosterImported) Kind() ledger.Kind { return ledger.RosterImported }

// About is the roster.
func (*RosterImported) About() string { return "roster" }

// AppendBody appends the body.
func (r *RosterImported) AppendBody(b []byte) []byte { return appendCanonical(b, r) }

// Gist tells how many.
func (r *RosterImported) Gist() string {
	return fmt.Sprintf("%d added, %d changed", r.Added, r.Changed)
}

// RosterRemoved is hardware that was taken off the roster.
type RosterRemoved struct {
	Entry      string `json:"-"` // the id of the roster entry
	Serial     string `json:"serial"`
	HardwareID string `json:"hardware_id"`
	Reason     string `json:"reason"`
	Accepted
}

// Kind is [ledger.RosterRemoved].
func (*RosterRemoved) Kind() ledger.Kind { return ledger.RosterRemoved }

// About is the roster entry.
func (r *RosterRemoved) About() string { return r.Entry }

func (r *RosterRemoved) tell(about string) { r.Entry = about }

// AppendBody appends the body.
func (r *RosterRemoved) AppendBody(b []byte) []byte { return appendCanonical(b, r) }

// Gist tells why.
func (r *RosterRemoved) Gist() string { return r.Reason }

// token is what is told of a bearer token.
type token struct {
	ID     string `json:"-"`
	Name   string `json:"name"`
	Role   string `json:"role"`
	Reason string `json:"reason,omitempty"`
	Until  string `json:"until,omitempty"`  // when it ends by itself
	Before string `json:"before,omitempty"` // the token in whose place it came
}

// About is the token.
func (t *token) About() string { return t.ID }

func (t *token) tell(about string) { t.ID = about }

// AppendBody appends the body.
func (t *token) AppendBody(b []byte) []byte { return appendCanonical(b, t) }

// Gist tells its name and role.
func (t *token) Gist() string { return t.Name + ", " + t.Role }

// TokenCreated is a bearer token that is valid from here on.
type TokenCreated struct{ token }

// Kind is [ledger.TokenCreated].
func (*TokenCreated) Kind() ledger.Kind { return ledger.TokenCreated }

// TokenRevoked is a bearer token that is no longer valid.
type TokenRevoked struct{ token }

// Kind is [ledger.TokenRevoked].
func (*TokenRevoked) Kind() ledger.Kind { return ledger.TokenRevoked }

// NewToken tells of a token that was made. reason is why, where it is told.
func NewToken(id, name, role, reason string) *TokenCreated {
	return &TokenCreated{token{ID: id, Name: name, Role: role, Reason: Clipped(reason, MaxReason)}}
}

// Ending tells until when the token lives, and in the place of which it came; "" for what is not so.
func (t *TokenCreated) Ending(until, before string) *TokenCreated {
	t.Until, t.Before = until, before
	return t
}

// TokenBounded is a bearer token that ends by itself at another moment than before.
type TokenBounded struct{ token }

// Kind is [ledger.TokenBounded].
func (*TokenBounded) Kind() ledger.Kind { return ledger.TokenBounded }

// BoundedToken tells until when a token lives, and why.
func BoundedToken(id, name, role, until, reason string) *TokenBounded {
	return &TokenBounded{token{ID: id, Name: name, Role: role, Until: until, Reason: Clipped(reason, MaxReason)}}
}

// EndedToken tells of a token that was revoked.
func EndedToken(id, name, role string) *TokenRevoked {
	return &TokenRevoked{token{ID: id, Name: name, Role: role}}
}
