package archive

import (
	"encoding/binary"
	"errors"

	"vergekeep/core/diff"
)

// told is the first byte of a content that is kept as steps from its base; a
// Zstandard frame starts with another byte (RFC 8878, 3.1.1), and so does a
// primed content. Each step is three variable-length integers and some bytes:
// how many bytes of the base to copy, how many to leave out, how many bytes of
// its own follow, and these bytes. What is left of the base comes last.
const told = 0x01

var errDelta = errors.New("a content does not fit its base")

// delta tells text against base.
func delta(text, base string) []byte {
	start, end := common(text, base)
	data := []byte{told}
	at := 0 // in base
	step := func(from, to int, own string) {
		data = binary.AppendUvarint(data, uint64(from-at))
		data = binary.AppendUvarint(data, uint64(to-from))
		data = binary.AppendUvarint(data, uint64(len(own)))
		data = append(data, own...)
		at = to
	}
	left, right := base[start:len(base)-end], text[start:len(text)-end]
	if len(left) == 0 || len(right) == 0 || len(left)+len(right) < 64 {
		step(start, len(base)-end, right)
		return data
	}
	// Whole lines are compared, so that lines which stand elsewhere are found.
	a, b := diff.SplitLines(left), diff.SplitLines(right)
	i, j, x, y := 0, 0, start, 0 // lines and bytes gone over
	for _, e := range diff.Edits(a, b) {
		for ; i < e.A0; i, j = i+1, j+1 {
			x += len(a[i])
			y += len(b[j])
		}
		x1, y1 := x, y
		for ; i < e.A1; i++ {
			x1 += len(a[i])
		}
		for ; j < e.B1; j++ {
			y1 += len(b[j])
		}
		s, t := common(right[y:y1], base[x:x1])
		step(x+s, x1-t, right[y+s:y1-t])
		x, y = x1, y1
	}
	return data
}

// common is how many bytes two texts share at their start, and then at their end.
func common(a, b string) (start, end int) {
	n := min(len(a), len(b))
	for start < n && a[start] == b[start] {
		start++
	}
	for end < n-start && a[len(a)-1-end] == b[len(b)-1-end] {
		end++
	}
	return start, end
}

// apply undoes delta.
func apply(data []byte, base string, size int) ([]byte, error) {
	text := make([]byte, 0, size)
	rest := data[1:]
	for len(rest) > 0 {
		var n [3]uint64
		for i := range n {
			value, w := binary.Uvarint(rest)
			if w <= 0 || value > maxContent {
				return nil, errDelta
			}
			n[i], rest = value, rest[w:]
		}
		if n[0]+n[1] > uint64(len(base)) || n[2] > uint64(len(rest)) || len(text)+int(n[0]+n[2]) > maxContent {
			return nil, errDelta
		}
		text = append(append(text, base[:n[0]]...), rest[:n[2]]...)
		base, rest = base[n[0]+n[1]:], rest[n[2]:]
	}
	return append(text, base...), nil
}
