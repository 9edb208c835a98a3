package diff

import "strings"

// Life is how long one line of a configuration stood.
type Life struct {
	Text string   // without line end
	Path []string // the headings above it, when it came
	From int      // the revision with which it came
	Last int      // the last revision that has it; 0 while it stands
	// Before is the life (by its place in [Lineage.Lives], from 1) of the same
	// line under the same headings that ended before; 0 if there is none.
	Before int
	// Was is the life of the line whose value this one changed; 0 if it is new.
	Was int
}

// Lineage follows the lines of one configuration from revision to revision.
// Fed with all of them, in order, it knows since which one each line stands. A
// line that only moved keeps its life.
type Lineage struct {
	Lives []Life
	Now   []int // by line of the newest text (from 0): its life, from 0

	lines  []string
	newest int
	ended  map[string]int // by headings and text: the newest life that ended, from 1
}

// Add goes on to the next revision. PathAt is as of [Side].
func (l *Lineage) Add(revision int, text string, pathAt func(line int) []string) {
	lines := SplitLines(text)
	edits := Edits(l.lines, lines)
	if l.ended == nil {
		l.ended = map[string]int{}
	}
	now := make([]int, 0, len(lines))
	gone := map[string][]int{} // lives that lose their place, by key
	var order []int
	for _, e := range edits {
		for i := e.A0; i < e.A1; i++ {
			k := lifeKey(l.Lives[l.Now[i]].Path, l.Lives[l.Now[i]].Text)
			gone[k] = append(gone[k], l.Now[i])
			order = append(order, l.Now[i])
		}
	}
	i := 0
	type fresh struct{ at, edit int }
	var news []fresh
	for k, e := range edits {
		now = append(now, l.Now[i:e.A0]...)
		for j := e.B0; j < e.B1; j++ {
			news = append(news, fresh{j, k})
			now = append(now, -1)
		}
		i = e.A1
	}
	now = append(now, l.Now[i:]...)
	kept := map[int]bool{}
	var born []fresh
	for _, n := range news {
		var path []string
		if pathAt != nil {
			path = pathAt(n.at + 1)
		}
		text := chomp(lines[n.at])
		key := lifeKey(path, text)
		if list := gone[key]; len(list) > 0 {
			now[n.at], gone[key] = list[0], list[1:]
			kept[list[0]] = true
			continue
		}
		l.Lives = append(l.Lives, Life{Text: text, Path: path, From: revision, Before: l.ended[key]})
		now[n.at] = len(l.Lives) - 1
		born = append(born, n)
	}
	for _, life := range order {
		if kept[life] {
			continue
		}
		x := &l.Lives[life]
		x.Last = l.newest
		l.ended[lifeKey(x.Path, x.Text)] = life + 1
	}
	// A value that changed has a line before it.
	for b := 0; b < len(born); {
		e := edits[born[b].edit]
		var olds, fresh []int
		for i := e.A0; i < e.A1; i++ {
			if life := l.Now[i]; !kept[life] {
				olds = append(olds, life)
			}
		}
		edit := born[b].edit
		for ; b < len(born) && born[b].edit == edit; b++ {
			fresh = append(fresh, now[born[b].at])
		}
		for i, j := range bestPairs(len(olds), len(fresh), func(i, j int) int { return alike(l.Lives[olds[i]].Text, l.Lives[fresh[j]].Text) }) {
			if j >= 0 {
				l.Lives[fresh[j]].Was = olds[i] + 1
			}
		}
	}
	l.lines, l.Now, l.newest = lines, now, revision
}

func lifeKey(path []string, text string) string {
	return strings.Join(path, "\x00") + "\x01" + strings.TrimSpace(text)
}

// Standing reports whether a life covers a revision.
func (x Life) Standing(revision int) bool {
	return x.From <= revision && (x.Last == 0 || revision <= x.Last)
}
