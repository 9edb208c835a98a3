// Package glob matches names against patterns with * (any run of characters,
// also none) and ? (any one character). Nothing else is special.
package glob

// Match reports whether the whole of s matches pattern. It takes time
// proportional to len(pattern) * len(s) at the worst.
func Match(pattern, s string) bool {
	p, i := 0, 0
	star, mark := -1, 0
	for i < len(s) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, i
			p++
		case p < len(pattern) && pattern[p] == s[i]:
			p, i = p+1, i+1
		case p < len(pattern) && pattern[p] == '?':
			p, i = p+1, i+runeLen(s[i:])
		case star >= 0:
			mark++
			p, i = star+1, mark
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' {
		p++
	}
	return p == len(pattern)
}

func runeLen(s string) int {
	for n := 1; n < len(s); n++ {
		if s[n]&0xC0 != 0x80 {
			return n
		}
	}
	return len(s)
}
