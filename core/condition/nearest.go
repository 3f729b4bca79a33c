package condition

import "strings"

// Nearest returns the candidate closest to word by edit distance, or "" when
// none is close enough to be what was meant.
func Nearest(word string, candidates []string) string {
	best, bestCost := "", 1+max(1, len(word)/3)
	for _, c := range candidates {
		if cost := distance(strings.ToLower(word), strings.ToLower(c), bestCost); cost < bestCost {
			best, bestCost = c, cost
		}
	}
	if best == "" { // a part of a name
		for _, c := range candidates {
			if strings.HasSuffix(c, "."+word) || len(word) > 2 && strings.HasPrefix(c, word) {
				return c
			}
		}
	}
	return best
}

// distance is the edit distance with adjacent transpositions, given up at limit.
func distance(a, b string, limit int) int {
	if d := len(a) - len(b); d >= limit || -d >= limit {
		return limit
	}
	prev2, prev, cur := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return prev[len(b)]
}

func didYouMean(word string, candidates []string) string {
	if near := Nearest(word, candidates); near != "" {
		return "did you mean " + near + "?"
	}
	return ""
}
