package diff

import (
	"strconv"
	"strings"
)

// Unified writes the comparison in the unified format (IEEE Std 1003.1, diff,
// option -u), which patch accepts. It is "" where there is no difference. The
// names are written as they are: keep line ends out of them.
func (r *Result) Unified(leftName, rightName string, context int) string {
	if len(r.rows) == 0 {
		return ""
	}
	if r.edits == nil {
		r.edits = Edits(r.left, r.right)
	}
	var b strings.Builder
	b.WriteString("--- " + leftName + "\n+++ " + rightName + "\n")
	for k := 0; k < len(r.edits); {
		last := k // the hunk takes all edits whose context would touch
		for last+1 < len(r.edits) && r.edits[last+1].A0-r.edits[last].A1 <= 2*context {
			last++
		}
		r.hunk(&b, r.edits[k:last+1], context)
		k = last + 1
	}
	return b.String()
}

func (r *Result) hunk(b *strings.Builder, edits []Edit, context int) {
	first, last := edits[0], edits[len(edits)-1]
	before := min(context, first.A0)
	after := min(context, len(r.left)-last.A1)
	a0, a1 := first.A0-before, last.A1+after
	b0, b1 := first.B0-before, last.B1+after
	b.WriteString("@@ -" + lineRange(a0, a1) + " +" + lineRange(b0, b1) + " @@\n")
	i := a0
	for _, e := range edits {
		writeLines(b, ' ', r.left[i:e.A0])
		writeLines(b, '-', r.left[e.A0:e.A1])
		writeLines(b, '+', r.right[e.B0:e.B1])
		i = e.A1
	}
	writeLines(b, ' ', r.left[i:a1])
}

// lineRange is "start,count"; an empty range names the line before it.
func lineRange(from, to int) string {
	switch to - from {
	case 0:
		return strconv.Itoa(from) + ",0"
	case 1:
		return strconv.Itoa(from + 1)
	}
	return strconv.Itoa(from+1) + "," + strconv.Itoa(to-from)
}

func writeLines(b *strings.Builder, mark byte, lines []string) {
	for _, line := range lines {
		b.WriteByte(mark)
		b.WriteString(line)
		if !strings.HasSuffix(line, "\n") {
			b.WriteString("\n\\ No newline at end of file\n")
		}
	}
}
