package rulebook

import (
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/token"
)

// Format prints every condition of a rulebook in the canonical way and leaves
// all else as it stands, comments and order too. Conditions over several lines
// are left alone. The error is [Problems].
func Format(files []File) ([]File, error) {
	l, err := load(files)
	if err != nil {
		return nil, err
	}
	out := make([]File, len(files))
	for i, f := range files {
		if out[i] = f; !IsYAML(f.Name) {
			continue
		}
		lines := strings.Split(f.Text, "\n")
		for j := range lines {
			lines[j] = strings.TrimRight(lines[j], " \t\r")
		}
		for k := len(l.conds) - 1; k >= 0; k-- { // from the end, so that columns stay true
			if c := l.conds[k]; c.file == f.Name {
				line := c.token.Position.Line - 1
				lines[line] = c.rewrite(lines[line])
			}
		}
		out[i] = File{f.Name, strings.TrimRight(strings.Join(lines, "\n"), "\n") + "\n"}
	}
	return out, nil
}

// rewrite puts the canonical form in the place of the condition on its line.
func (c placed) rewrite(line string) string {
	quoted := func(s string) string { return s }
	switch c.token.Type {
	case token.SingleQuoteType:
		quoted = func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	case token.DoubleQuoteType:
		quoted = strconv.Quote
	}
	runes := []rune(line)
	start := c.token.Position.Column - 1
	if start < 0 || start > len(runes) {
		return line
	}
	rest := string(runes[start:])
	old := quoted(c.src)
	if !strings.HasPrefix(rest, old) {
		return line
	}
	return string(runes[:start]) + quoted(c.prog.String()) + rest[len(old):]
}
