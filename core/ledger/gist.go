package ledger

import (
	"encoding/json"
	"fmt"
	"slices"
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
		Reports, Attributes         int
		Unmatched                   json.RawMessage // a number, or a text
		Examples                    []struct{ Attribute, Message string }
		Gained, Lost                []struct{ Kind, Text string }
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
		var parts []string
		for n, what := range map[string]int{"reports": b.Reports, "attributes": b.Attributes} {
			if what > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", what, n))
			}
		}
		slices.Sort(parts)
		text := strings.Join(parts, ", ")
		if len(b.Examples) > 0 {
			x := b.Examples[0]
			text += ": " + strings.Trim(x.Attribute+": "+x.Message, ": ")
		}
		return strings.Trim(text, ": ")
	case DeviceKeyed:
		var parts []string
		for _, k := range b.Gained {
			parts = append(parts, "gained "+k.Kind+" "+k.Text)
		}
		for _, k := range b.Lost {
			parts = append(parts, "lost "+k.Kind+" "+k.Text)
		}
		return strings.Join(parts, ", ")
	case Redacted:
		return fmt.Sprintf("entry %d: %s", b.Entry, b.Reason)
	}
	return strings.Trim(b.Rule+": "+b.Reason, ": ")
}
