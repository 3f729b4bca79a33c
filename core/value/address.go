package value

import "strings"

// HardwareAddress reads the address of a network interface (IEEE 802, 48 bits) in any of its usual forms:
// aa:bb:cc:dd:ee:ff, AA-BB-CC-DD-EE-FF, aabb.ccdd.eeff or aabbccddeeff. It returns it in lower case with colons, and ""
// for what is none, or is that of nobody (all zeros, or all ones).
func HardwareAddress(text string) string {
	text = strings.ToLower(strings.TrimSpace(text))
	for _, form := range []struct {
		separator string
		digits    int // between two of them
	}{{":", 2}, {"-", 2}, {".", 4}, {"", 12}} {
		groups := []string{text}
		if form.separator != "" {
			groups = strings.Split(text, form.separator)
		}
		digits := strings.Join(groups, "")
		if len(groups) != 12/form.digits || len(digits) != 12 || len(groups[0]) != form.digits ||
			strings.Trim(digits, "0123456789abcdef") != "" {
			continue
		}
		for _, g := range groups {
			if len(g) != form.digits {
				return ""
			}
		}
		if digits == "000000000000" || digits == "ffffffffffff" {
			return ""
		}
		out := digits[:2]
		for i := 2; i < 12; i += 2 {
			out += ":" + digits[i:i+2]
		}
		return out
	}
	return ""
}
