package access

import (
	"encoding/json"
	"fmt"
	"maps"
)

// The semantics of an access evaluations request (AuthZEN 1.0, section 7.1.2).
const (
	ExecuteAll           = "execute_all"
	DenyOnFirstDeny      = "deny_on_first_deny"
	PermitOnFirstPermit  = "permit_on_first_permit"
	maxEvaluations       = 1000
	evaluationsMember    = "evaluations"
	optionsMember        = "options"
	semanticOptionMember = "/options/evaluations_semantic"
)

// EvaluationBatch is an access evaluations request of AuthZEN 1.0 (section 7): many
// questions, with the members that they share given once.
type EvaluationBatch struct {
	Items    []BatchItem
	Semantic string
	// Single is set when the request lists no evaluations: it is then one
	// evaluation, and is answered as one (section 7.1).
	Single bool
}

// BatchItem is one of the questions, or what is wrong with it.
type BatchItem struct {
	Asked *Evaluation
	Err   error
}

// Stops reports whether no further question is to be asked after an answer.
func (b *EvaluationBatch) Stops(decision bool) bool {
	return b.Semantic == DenyOnFirstDeny && !decision || b.Semantic == PermitOnFirstPermit && decision
}

// ParseBatch reads an access evaluations request. The error is for the request
// as a whole; what is wrong with one of its questions stands in its item.
func ParseBatch(raw []byte) (*EvaluationBatch, error) {
	var shared map[string]json.RawMessage
	if err := read(raw, &shared); err != nil {
		return nil, err
	}
	var list []map[string]json.RawMessage
	if text, ok := shared[evaluationsMember]; ok {
		if err := read(text, &list); err != nil {
			return nil, &FieldError{"/evaluations", "a list of objects is expected here"}
		}
	}
	if len(list) > maxEvaluations {
		return nil, &FieldError{"/evaluations", fmt.Sprintf("more than %d evaluations", maxEvaluations)}
	}
	b := &EvaluationBatch{Semantic: ExecuteAll}
	if text, ok := shared[optionsMember]; ok {
		var options struct {
			Semantic *string `json:"evaluations_semantic"`
		}
		if err := read(text, &options); err != nil {
			return nil, &FieldError{"/options", "an object is expected here"}
		}
		if options.Semantic != nil {
			b.Semantic = *options.Semantic
		}
	}
	if b.Semantic != ExecuteAll && b.Semantic != DenyOnFirstDeny && b.Semantic != PermitOnFirstPermit {
		return nil, &FieldError{semanticOptionMember,
			"is execute_all, deny_on_first_deny or permit_on_first_permit"}
	}
	delete(shared, evaluationsMember)
	delete(shared, optionsMember)
	if b.Single = len(list) == 0; b.Single {
		list = append(list, nil)
	}
	for _, own := range list {
		members := maps.Clone(shared)
		maps.Copy(members, own) // a question's own member takes the place of the shared one, whole
		text, err := json.Marshal(members)
		if err != nil {
			return nil, err
		}
		e, err := ParseEvaluation(text)
		b.Items = append(b.Items, BatchItem{e, err})
	}
	return b, nil
}

// Refusal is the answer to one evaluation that is malformed: never an allow. Of no
// error there is none.
func Refusal(err error) json.RawMessage {
	if err == nil {
		return nil
	}
	out := map[string]any{"decision": false,
		"context": map[string]any{"error": map[string]any{"status": 400, "message": err.Error()}}}
	raw, _ := json.Marshal(out) // texts and numbers alone
	return raw
}

// Unrecorded is the answer when a decision cannot be recorded: a denial, which nobody
// can rely on as a decision.
func Unrecorded(why error) json.RawMessage {
	raw, _ := json.Marshal(map[string]any{"decision": false, "context": map[string]any{ // texts and truths alone
		"outcome": Deny, "recorded": false,
		"reason_admin": map[string]string{"en": "Denied: " + why.Error() + ". Nothing is granted until they can."},
		"reason_user": map[string]string{
			"en": "Access cannot be granted at the moment. It is not your device; try again in a few minutes.",
			"sv": "Åtkomst kan inte ges just nu. Det beror inte på din enhet; försök igen om några minuter."},
	}})
	return raw
}

// Search is a request of the search APIs of AuthZEN 1.0 (section 8): an
// evaluation with one part left open, and the page that is wanted.
type Search struct {
	Evaluation
	Page struct {
		Token string `json:"token"`
		Limit int    `json:"limit"`
	} `json:"page"`
}

// SearchKind is which part of a search is left open.
type SearchKind string

// The searches (sections 8.4 to 8.6).
const (
	SearchSubject  SearchKind = "subject"
	SearchResource SearchKind = "resource"
	SearchAction   SearchKind = "action"
)

// Found is one result: an entity, or an action by its name.
type Found struct {
	Type string `json:"type,omitempty"`
	ID   string `json:"id,omitempty"`
	Name string `json:"name,omitempty"`
}

// ParseSearch reads and checks a search. What is left open need not be given,
// and is ignored when it is, but for the type of a subject or resource.
func ParseSearch(kind SearchKind, raw []byte) (*Search, error) {
	var s Search
	if err := read(raw, &s); err != nil {
		return nil, err
	}
	const open = "-" // stands in while the rest is checked
	switch kind {
	case SearchSubject:
		s.Subject.ID = open
	case SearchResource:
		s.Resource.ID = open
	case SearchAction:
		s.Action.Name = open
	}
	if s.Page.Limit < 0 || s.Page.Limit > 1000 {
		return nil, &FieldError{"/page/limit", "a page has 1 to 1000 results"}
	}
	return &s, s.Check()
}
