// Package nearest finds the name that somebody probably meant.
package nearest

import "strings"

// Of returns the candidate with the smallest edit distance to name, ignoring
// case, or "" where none is near: at most half of the letters, and three, may differ.
func Of(name string, candidates []string) string {
	best, bestDistance := "", min(len([]rune(name))/2+1, 4)
	lower := strings.ToLower(name)
	for _, c := range candidates {
		if d := distance(lower, strings.ToLower(c), bestDistance); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}

// Hint is " Did you mean X?" for the nearest candidate, or "".
func Hint(name string, candidates []string) string {
	if n := Of(name, candidates); n != "" {
		return " Did you mean " + n + "?"
	}
	return ""
}

// distance is the Levenshtein distance of a and b (Wagner and Fischer, one row
// at a time), or limit where it is at least that.
func distance(a, b string, limit int) int {
	x, y := []rune(a), []rune(b)
	if d := len(x) - len(y); d >= limit || -d >= limit {
		return limit
	}
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := range x {
		diagonal, smallest := row[0], i+1
		row[0] = i + 1
		for j := range y {
			cost := diagonal
			if x[i] != y[j] {
				cost = 1 + min(diagonal, row[j], row[j+1])
			}
			diagonal, row[j+1] = row[j+1], cost
			smallest = min(smallest, cost)
		}
		if smallest >= limit {
			return limit
		}
	}
	return min(row[len(y)], limit)
}
