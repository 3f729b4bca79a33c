package rulebook

import (
	"strings"
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
			if c := l.conds[k]; c.File == f.Name {
				line := c.Line() - 1
				lines[line] = c.Rewrite(lines[line])
			}
		}
		out[i] = File{f.Name, strings.TrimRight(strings.Join(lines, "\n"), "\n") + "\n"}
	}
	return out, nil
}
