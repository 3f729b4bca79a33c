package ledger

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Gist tells in a few words what an entry says, for lists.
func (e *Entry) Gist() string {
	if e.Body == nil {
		return "redacted"
	}
	var b struct {
		From, To, Shadow, Cause     string
		Binding                     []string
		Outcome                     string
		Person, Resource, Rule      string
		Reason, Message, Name, Role string
		Error                       string
		Version, Entry              int64
		Added, Changed, Removed     any
		Refused                     []struct{ Attribute string }
		Source, State               string
		Asked                       struct {
			Subject, Resource struct{ ID string }
			Action            struct{ Name string }
		}
	}
	if json.Unmarshal(e.Body, &b) != nil {
		return ""
	}
	switch e.Kind {
	case StandingChanged:
		text := b.From + " → " + b.To
		switch b.From {
		case "":
			text = "first seen: " + b.To
		case b.To:
			text = "stays " + b.To
		}
		if len(b.Binding) > 0 {
			text += ", by " + strings.Join(b.Binding, ", ")
		}
		return text
	case DecisionMade:
		return fmt.Sprintf("%s: %s, %s %s", b.Outcome, b.Asked.Subject.ID, b.Asked.Action.Name, b.Asked.Resource.ID)
	case SessionEnded:
		return fmt.Sprintf("%s, %s: %s", b.Person, b.Resource, b.Cause)
	case RulebookPublished:
		return fmt.Sprintf("version %d: %s", b.Version, b.Message)
	case PeopleImported, RosterImported:
		text := fmt.Sprintf("%v added, %v changed", b.Added, b.Changed)
		if b.Removed != nil {
			text += fmt.Sprintf(", %v removed", b.Removed)
		}
		return text
	case TokenCreated, TokenRevoked:
		return b.Name + ", " + b.Role
	case EvidenceRefused:
		names := make([]string, len(b.Refused))
		for i, r := range b.Refused {
			names[i] = r.Attribute
		}
		return strings.Trim(b.Error+": "+strings.Join(names, ", "), ": ")
	case Redacted:
		return fmt.Sprintf("entry %d: %s", b.Entry, b.Reason)
	}
	return strings.Trim(b.Rule+": "+b.Reason, ": ")
}
