package rulebook

import (
	"strconv"
	"strings"

	"ironledger.example/core/rulebook/tree"
)

// DefaultMaxDenied is the share of the people active in the last week that a
// publication may take something from when the rulebook does not say: 20 %.
const DefaultMaxDenied = 0.2

// Guard says when a publication is likely to lock people out.
type Guard struct {
	MaxDenied float64 // the share of people active in the last week, 0 to 1
	// Administrators are the people who must not all be denied; Everyone is never
	// set. Empty: those whose ids are the names of administrators' tokens.
	Administrators Who
}

// guard reads the limits of publications: {max_newly_denied: 20%,
// administrators: {groups: [it]}}.
func (l *loader) guard() {
	l.rb.Guard.MaxDenied = DefaultMaxDenied
	f, ok := l.single("guard")
	if !ok {
		return
	}
	f.Mapping("guard", map[string]func(tree.Field){
		"max_newly_denied": func(f tree.Field) {
			var text string
			f.Text(&text)
			n, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
			if err != nil || !strings.HasSuffix(text, "%") || n < 0 || n > 100 {
				f.Fail("%s is not a share between 0%% and 100%%, as in 20%%", text)
				return
			}
			l.rb.Guard.MaxDenied = n / 100
		},
		"administrators": func(f tree.Field) {
			w := &l.rb.Guard.Administrators
			f.Mapping("administrators", map[string]func(tree.Field){
				"users":  func(f tree.Field) { w.Users = f.Texts() },
				"groups": func(f tree.Field) { w.Groups = f.Texts() },
			})
			if len(w.Users)+len(w.Groups) == 0 {
				f.KeyAt.Fail("administrators needs users or groups")
			}
		},
	})
}

func (g *Guard) String() string {
	text := "at most " + strconv.FormatFloat(g.MaxDenied*100, 'g', -1, 64) + "% newly denied"
	if who := append(append([]string{}, g.Administrators.Users...), g.Administrators.Groups...); len(who) > 0 {
		text += ", administrators " + strings.Join(who, ", ")
	}
	return text
}
