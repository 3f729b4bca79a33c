// Package yamltext keeps YAML that came from elsewhere from taking its reader down.
package yamltext

// MaxNest is how deep brackets, or lists on one line, may stand within each other.
const MaxNest = 64

// TooDeep returns the line where brackets, or dashes in one line, nest too deep
// for a reader that goes down with them, or 0.
func TooDeep(text string) int {
	depth, dashes, line := 0, 0, 1
	for i := range len(text) {
		switch text[i] {
		case '\n':
			line, dashes = line+1, 0
		case '-':
			if i+1 < len(text) && text[i+1] == ' ' {
				if dashes++; dashes > MaxNest {
					return line
				}
			}
		case '[', '{':
			depth++
		case ']', '}':
			depth = max(0, depth-1)
		}
		if depth > MaxNest {
			return line
		}
	}
	return 0
}
