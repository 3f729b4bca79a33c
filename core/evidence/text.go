package evidence

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ironledger.example/core/condition"
)

// keyColumns are the columns of a CSV that say which device a row is about.
var keyColumns = []string{"id", "external_id", "serial", "hardware_id"}

// foreign says what is wrong with the header of a CSV that speaks in other words than ours; nil when nothing is. A
// column that is no attribute is refused in each row; here it is an error if no row can say which device it is about.
func (d *Dictionary) foreign(header []string) error {
	if slices.ContainsFunc(header, func(h string) bool { return slices.Contains(keyColumns, h) }) {
		return nil
	}
	var likely []string
	for _, h := range header {
		if name := d.Likely(h); name != "" && name != h {
			likely = append(likely, fmt.Sprintf("%q may be %s", h, name))
		}
	}
	hint := ""
	if len(likely) > 0 {
		hint = "; " + strings.Join(likely, ", ")
	}
	return fmt.Errorf("the header: no column says which device a row is about (id, external_id, serial or hardware_id)%s. "+
		"Name the columns so, or say in a mapping what they mean", hint)
}

// Likely is the attribute or the key that a foreign name of a column might mean; "" for none.
func (d *Dictionary) Likely(column string) string {
	names := slices.Concat(identityColumns, d.Names())
	if slices.Contains(names, column) {
		return column
	}
	word, best := plain(column), ""
	for _, n := range names {
		switch p := plain(n); {
		case p == word:
			return n
		case len(p) > len(plain(best)) && len(p) > 3 &&
			(strings.Contains(word, p) || strings.HasSuffix(p, word) && len(word) > 3):
			best = n
		}
	}
	if best != "" {
		return best
	}
	return condition.Nearest(column, names)
}

// plain is a name in small letters, without what parts its words.
func plain(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}
