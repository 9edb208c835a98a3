package standard

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"vergekeep/core/audit"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/pattern"
)

// Kind is how a line deviates.
type Kind string

// The kinds.
const (
	Lacking Kind = "lacking" // the standard has it, the device does not
	Surplus Kind = "surplus" // the device has it, and must not
	Altered Kind = "altered" // both have it, with another value
	Moved   Kind = "moved"   // it stands elsewhere, and order counts
)

// Deviation is one line that is not as it should be.
type Deviation struct {
	Kind           Kind
	Path           []string // headings above it
	Want           string   // the standard's line, slots filled; "" where there is none
	WantLine       int      // where it stands in the file; 0 for none
	Have           string   // the device's line, secrets masked; "" where there is none
	Line, LastLine int      // where it stands in the device's text; of what is lacking, the section that lacks it, or 0
}

// Input is one configuration to be compared.
type Input struct {
	Subject audit.Subject
	View    dialect.View
	Own     Values // of slots with per-device
}

// SectionResult is what became of one section.
type SectionResult struct {
	Section    *Section
	Outcome    audit.Outcome
	Why        string
	Deviations []Deviation
	More       int // deviations beyond those
	Agreed     int // lines of the standard that the device has
	Lines      int // lines of the standard
}

// Result is a comparison with a standard.
type Result struct {
	Sections []SectionResult
	Values   map[string]string // of all slots that have one
}

// MaxDeviations is how many deviations of a section are told one by one.
const MaxDeviations = 200

// Share is how many lines of the standard agree, in all.
func (r *Result) Share() (agreed, lines int) {
	for i := range r.Sections {
		agreed, lines = agreed+r.Sections[i].Agreed, lines+r.Sections[i].Lines
	}
	return agreed, lines
}

// Compare holds a configuration against the standard. Secrets are compared masked:
// what is ●●●●●●●● in a standard stands for any secret.
func (s *Standard) Compare(in Input) Result {
	c := &comparison{standard: s, in: in, tree: masked(in.View), values: map[string]string{}, lack: map[string]bool{}, under: map[*config.Node][]*config.Node{}}
	for name, slot := range s.Slots {
		if slot.Captured() {
			continue
		}
		if v, ok := slot.given(name, in.Subject, in.Own); ok {
			c.values[name] = v
		} else {
			c.lack[name] = true
		}
	}
	out := Result{Values: c.values}
	for _, sec := range s.Sections {
		out.Sections = append(out.Sections, c.section(sec))
	}
	return out
}

// masked is the tree of a configuration with its secrets masked.
func masked(v dialect.View) *config.Tree {
	if d := v.Dialect(); d != nil && len(v.Secret) > 0 {
		return d.Tree(v.Masked())
	}
	return v.Tree
}

type comparison struct {
	standard *Standard
	in       Input
	tree     *config.Tree
	values   map[string]string // of slots, as far as they are known
	lack     map[string]bool   // slots whose source has no value for this device

	sec   *Section
	out   *SectionResult
	local map[string]string // what each captured
	used  map[*config.Node]bool
	under map[*config.Node][]*config.Node // by section: its lines that can be compared
}

func (c *comparison) section(sec *Section) SectionResult {
	out := SectionResult{Section: sec, Outcome: audit.Pass}
	c.sec, c.out, c.used = sec, &out, map[*config.Node]bool{}
	if missing := c.missing(); len(missing) > 0 {
		out.Outcome, out.Why = audit.Undecidable, "there is no value for "+strings.Join(missing, ", ")
		return out
	}
	if sec.each == nil {
		c.local = nil
		c.whole()
	} else {
		found, err := sec.each.Find(c.tree, c.in.Subject)
		if err != nil {
			out.Outcome, out.Why = audit.Undecidable, err.Error()
			return out
		}
		if len(found) == 0 {
			out.Outcome, out.Why = audit.NotApplicable, "there is nothing here that it is about"
			return out
		}
		for _, f := range found {
			c.local = known(f.Captured)
			c.whole()
		}
		c.local = nil
	}
	c.covers()
	n := len(out.Deviations) + out.More
	switch {
	case sec.Optional && out.Agreed == 0 && !slices.ContainsFunc(out.Deviations, func(d Deviation) bool { return d.Kind != Lacking || d.Line > 0 }):
		out = SectionResult{Section: sec, Outcome: audit.NotApplicable, Why: "none of it is there, and it is optional"}
	case n == 1:
		out.Outcome, out.Why = audit.Fail, out.Deviations[0].Said()
	case n > 1:
		out.Outcome, out.Why = audit.Fail, fmt.Sprintf("%d lines: %s", n, out.Deviations[0].Said())
	}
	return out
}

// Said is a deviation in a few words.
func (d *Deviation) Said() string {
	switch d.Kind {
	case Lacking:
		return "lacks " + first(d.Want)
	case Surplus:
		return "must not have " + first(d.Have)
	case Moved:
		return first(d.Have) + " stands elsewhere"
	}
	return fmt.Sprintf("has %s for %s", first(d.Have), first(d.Want))
}

// Should is what is wrong with the line that a device has, or lacks.
func (d *Deviation) Should() string {
	switch d.Kind {
	case Lacking:
		return "lacks: " + d.Want
	case Surplus:
		return "should not be there"
	case Moved:
		return "stands elsewhere, and order counts"
	}
	return "should be: " + d.Want
}

// Proof is the deviation as an audit tells it.
func (d *Deviation) Proof() audit.Proof {
	return audit.Proof{Line: d.Line, LastLine: d.LastLine, Path: d.Path, Text: d.Have, Says: d.Should()}
}

func first(block string) string {
	line, _, more := strings.Cut(block, "\n")
	if more {
		line += " …"
	}
	return fmt.Sprintf("%q", line)
}

// missing is the slots of the section that have a source, and the source has no value
// for this device.
func (c *comparison) missing() []string {
	var list []string
	for _, l := range c.sec.lines {
		for _, s := range l.slots {
			if c.lack[s] && !slices.Contains(list, s) {
				list = append(list, s)
			}
		}
	}
	slices.Sort(list)
	return list
}

// whole compares the section's text once.
func (c *comparison) whole() {
	c.level(c.sec.tree.Children, c.tree.Children, nil, true)
}

// saying is the lines of a section that say something.
func (c *comparison) saying(nodes []*config.Node) []*config.Node {
	var list []*config.Node
	for _, n := range nodes {
		if n.Kind == config.Group || c.sec.lines[n] != nil {
			list = append(list, n)
		}
	}
	return list
}

// counted is the lines of have that can be compared. Sections that only the reader
// sees, and that go on further down, are put together.
func (c *comparison) counted(nodes []*config.Node) []*config.Node {
	list := make([]*config.Node, 0, len(nodes))
	groups := map[string]*config.Node{}
	for _, n := range nodes {
		switch {
		case n.Kind == config.Blank, n.Kind == config.Comment, c.in.View.Forms[int(n.Line)].Volatile:
			continue
		case n.Kind == config.Group:
			if g := groups[n.Text]; g != nil {
				g.Children = append(g.Children, n.Children...)
				continue
			}
			whole := *n
			whole.Children = slices.Clone(n.Children)
			groups[n.Text] = &whole
			n = &whole
		}
		list = append(list, n)
	}
	return list
}

type pair struct {
	want, have *config.Node
	altered    bool
}

// level compares the lines of one section. In a chain of headings that only lead to
// the section that is meant, what stands beside them does not matter.
func (c *comparison) level(wantAll, haveAll []*config.Node, above *config.Node, chain bool) {
	want := c.saying(wantAll)
	have, seen := c.under[above]
	if !seen {
		have = c.counted(haveAll)
		c.under[above] = have
	}
	var pairs []pair
	taken := map[*config.Node]bool{}
	var left []*config.Node
	for _, w := range want {
		h := c.find(w, have, taken)
		if h == nil {
			left = append(left, w)
			continue
		}
		taken[h] = true
		pairs = append(pairs, pair{w, h, false})
	}
	if c.sec.Is == Absent {
		for _, p := range pairs {
			c.forbidden(p)
		}
		c.count(left, true)
		return
	}
	left = c.alike(left, have, taken, &pairs)
	c.out.Lines += len(want)
	for _, p := range pairs {
		switch {
		case p.altered:
			c.note(Deviation{Kind: Altered, Path: c.path(p.have), Want: c.filled(p.want), WantLine: c.wantLine(p.want), Have: c.have(p.have), Line: int(p.have.Line), LastLine: c.lastLine(p.have)})
		default:
			c.out.Agreed++
		}
		c.used[p.have] = true
	}
	c.order(pairs)
	for _, w := range left {
		c.lacks(w, above)
		c.count([]*config.Node{w}, false)
		c.out.Lines--
	}
	for _, p := range pairs {
		if len(p.want.Children) > 0 {
			inner := c.saying(p.want.Children)
			c.level(p.want.Children, p.have.Children, p.have, chain && len(inner) == 1 && len(inner[0].Children) > 0)
		}
	}
	// At the top a chain has only begun: nothing is told of what stands beside it.
	if c.sec.Is == Exactly && !chain {
		for _, h := range have {
			if !taken[h] {
				c.surplus(h)
			}
		}
	}
}

// count adds lines of the standard with all below them; met says that they are as
// they should be.
func (c *comparison) count(nodes []*config.Node, met bool) {
	for _, n := range c.saying(nodes) {
		c.out.Lines++
		if met {
			c.out.Agreed++
		}
		c.count(n.Children, met)
	}
}

// find is the first line of have that a line of the standard matches. Where several
// would do, as a slot that is not known yet stands in a heading, it is the one below
// which least deviates.
func (c *comparison) find(w *config.Node, have []*config.Node, taken map[*config.Node]bool) *config.Node {
	type candidate struct {
		node *config.Node
		got  map[string]string
	}
	var list []candidate
	start := ""
	if l := c.sec.lines[w]; l != nil {
		start = l.start
	}
	// A line of which everything is known is one text.
	whole, known := "", false
	if w.Kind != config.Group && w.Kind != config.Verbatim {
		whole, known = c.plain(c.sec.lines[w].parts)
	}
	for _, h := range have {
		if !strings.HasPrefix(h.Text, start) || taken[h] {
			continue
		}
		if known && h.Kind != config.Group && h.Kind != config.Verbatim {
			if h.Text == whole || len(h.Text) != len(whole) && plainly(h.Text) == plainly(whole) {
				return h
			}
			continue
		}
		if got, ok := c.match(w, h); ok {
			list = append(list, candidate{h, got})
			if len(got) == 0 || len(w.Children) == 0 || len(list) == maxCandidates {
				break
			}
		}
	}
	if len(list) == 0 {
		return nil
	}
	best := list[0]
	if len(list) > 1 {
		least := -1
		for _, x := range list {
			if n := c.trial(w, x.node, x.got); least < 0 || n < least {
				least, best = n, x
			}
		}
	}
	switch {
	case c.sec.Is == Absent:
	case c.local != nil: // of each section its own
		maps.Copy(c.local, best.got)
	default:
		maps.Copy(c.values, best.got)
	}
	return best.node
}

const maxCandidates = 64

// trial is how much deviates below a heading if that is the one.
func (c *comparison) trial(w, h *config.Node, got map[string]string) int {
	trial := *c
	trial.out = &SectionResult{}
	trial.used = map[*config.Node]bool{}
	trial.values, trial.local = maps.Clone(c.values), maps.Clone(c.local)
	maps.Copy(trial.values, got)
	trial.level(w.Children, h.Children, h, false)
	return len(trial.out.Deviations) + trial.out.More
}

// match holds a line of the standard against one of the device, and says which slots
// it makes known.
func (c *comparison) match(w, h *config.Node) (got map[string]string, ok bool) {
	if (w.Kind == config.Group) != (h.Kind == config.Group) {
		return nil, false
	}
	if w.Kind == config.Group {
		parts := split(w.Text)
		return c.fit(parts, h.Text)
	}
	if (w.Kind == config.Verbatim) != (h.Kind == config.Verbatim) {
		return nil, false
	}
	return c.fit(c.sec.lines[w].parts, c.text(h))
}

func (c *comparison) text(h *config.Node) string {
	if h.Kind == config.Verbatim {
		return trimmed(c.tree.Source[h.Head.From:h.Head.To])
	}
	return h.Text
}

// plain is a line with its slots filled; it is false where one is not known.
func (c *comparison) plain(parts []part) (string, bool) {
	if len(parts) == 1 && parts[0].slot == "" {
		return parts[0].text, true
	}
	var b strings.Builder
	for _, p := range parts {
		if p.slot == "" {
			b.WriteString(p.text)
			continue
		}
		v, known := c.value(p.slot)
		if !known {
			return "", false
		}
		b.WriteString(v)
	}
	return b.String(), true
}

// value is what is known of a slot.
func (c *comparison) value(slot string) (string, bool) {
	if v, ok := c.local[slot]; ok {
		return v, true
	}
	v, ok := c.values[slot]
	return v, ok
}

func (c *comparison) fit(parts []part, text string) (got map[string]string, ok bool) {
	if len(parts) == 1 && parts[0].slot == "" {
		return nil, parts[0].text == text || plainly(parts[0].text) == plainly(text)
	}
	got = map[string]string{}
	return got, c.fits(parts, text, got)
}

// plainly is a line with its blanks as one; nothing is done to blocks.
func plainly(s string) string {
	if strings.Contains(s, "\n") || !strings.Contains(s, "  ") && !strings.Contains(s, "\t") {
		return s
	}
	return strings.Join(strings.Fields(s), " ")
}

func (c *comparison) fits(parts []part, text string, got map[string]string) bool {
	if len(parts) == 0 {
		return text == ""
	}
	p := parts[0]
	if p.slot == "" {
		rest, ok := strings.CutPrefix(text, p.text)
		return ok && c.fits(parts[1:], rest, got)
	}
	v, known := c.value(p.slot)
	if !known {
		v, known = got[p.slot]
	}
	if known {
		rest, ok := strings.CutPrefix(text, v)
		return ok && c.fits(parts[1:], rest, got)
	}
	slot := c.standard.Slots[p.slot]
	if p.slot == anything {
		slot = &Slot{Type: Any}
	}
	if slot == nil {
		return false
	}
	limit := len(text)
	if slot.Type != Any {
		if text != "" && (text[0] == '"' || text[0] == '\'') {
			if end := strings.IndexByte(text[1:], text[0]); end >= 0 {
				limit = end + 2
			}
		} else if end := strings.IndexAny(text, " \t\n"); end >= 0 {
			limit = end
		}
	} else if len(parts) > 1 && !strings.Contains(text, parts[1].text) {
		return false
	}
	for end := limit; end > 0; end-- {
		if slot.Type != Any && strings.ContainsAny(text[:end], " \t") {
			if text[0] != '"' && text[0] != '\'' {
				continue
			}
		} else if slot.Check(text[:end]) != nil {
			continue
		}
		got[p.slot] = text[:end]
		if c.fits(parts[1:], text[end:], got) {
			return true
		}
		delete(got, p.slot)
		if len(parts) == 1 {
			return false // it has to take all that is left
		}
	}
	return false
}

// alike pairs lines that are not the same with those that say something else of the
// same thing: the dialect says which part of a line is its value. Where it does not,
// two lines that are the only ones left with their first word are a pair.
func (c *comparison) alike(left, have []*config.Node, taken map[*config.Node]bool, pairs *[]pair) []*config.Node {
	if len(left) == 0 {
		return nil
	}
	take := func(w, h *config.Node) {
		taken[h] = true
		*pairs = append(*pairs, pair{w, h, true})
	}
	var rest []*config.Node
	for _, w := range left {
		var found *config.Node
		if key := c.key(w); key != nil {
			for _, h := range have {
				if taken[h] || h.Kind == config.Group || h.Kind == config.Verbatim {
					continue
				}
				if _, ok := c.fit(key, h.Text); ok {
					found = h
					break
				}
			}
		} else if w.Kind == config.Verbatim {
			word, _, _ := strings.Cut(w.Text, "\n")
			for _, h := range have {
				if !taken[h] && h.Kind == config.Verbatim && sameStart(word, h.Text) {
					found = h
				}
			}
		}
		if found != nil {
			take(w, found)
		} else {
			rest = append(rest, w)
		}
	}
	if c.sec.Is != Exactly {
		return rest
	}
	count := func(list []*config.Node, word string) (n int, last *config.Node) {
		for _, x := range list {
			if !taken[x] && x.Kind == config.Line && firstWord(x.Text) == word {
				n, last = n+1, x
			}
		}
		return n, last
	}
	var lacking []*config.Node
	for _, w := range rest {
		word := firstWord(w.Text)
		if w.Kind == config.Line && word != "" && !strings.Contains(word, slotStart) && strings.Contains(w.Text, " ") && c.key(w) == nil && c.sec.lines[w].order == 0 {
			mine, _ := count(rest, word)
			theirs, h := count(have, word)
			if mine == 1 && theirs == 1 {
				take(w, h)
				continue
			}
		}
		lacking = append(lacking, w)
	}
	return lacking
}

func sameStart(a, b string) bool {
	x, y := strings.Fields(a), strings.Fields(b)
	return len(x) > 1 && len(y) > 1 && x[0] == y[0] && x[1] == y[1]
}

func firstWord(s string) string {
	word, _, _ := strings.Cut(s, " ")
	return word
}

// anything is the slot that stands for a line's value.
const anything = "\x03"

// key is a line with anything for its value; nil where the dialect names none.
func (c *comparison) key(w *config.Node) []part {
	l := c.sec.lines[w]
	if l == nil || l.value.To <= l.value.From {
		return nil
	}
	text := w.Text
	if r := c.tree.Syntax.Reader; r == config.XML || r == config.JSON {
		return append(split(firstWord(text)+" "), part{slot: anything})
	}
	from, to := int(l.value.From-w.At.From), int(l.value.To-w.At.From)
	if from < 0 || to > len(text) || from >= to {
		return nil
	}
	key := append(split(text[:from]), part{slot: anything})
	return append(key, split(text[to:])...)
}

// order finds the lines that stand elsewhere where order counts: all but a longest
// run that stands in the standard's order.
func (c *comparison) order(pairs []pair) {
	if c.sec.Order == "free" {
		return
	}
	by := map[int][]pair{}
	for _, p := range pairs {
		rule := 0
		if l := c.sec.lines[p.want]; l != nil {
			rule = l.order
		}
		if c.sec.Order == "counts" {
			rule = -1
		}
		if rule != 0 {
			by[rule] = append(by[rule], p)
		}
	}
	for _, rule := range slices.Sorted(maps.Keys(by)) {
		list := by[rule]
		slices.SortStableFunc(list, func(a, b pair) int { return int(a.want.Line - b.want.Line) })
		lines := make([]int32, len(list))
		for i, p := range list {
			lines[i] = p.have.Line
		}
		for i, stays := range longestRise(lines) {
			if stays || list[i].altered {
				continue
			}
			p := list[i]
			c.out.Agreed--
			c.note(Deviation{Kind: Moved, Path: c.path(p.have), Want: c.filled(p.want), WantLine: c.wantLine(p.want), Have: c.have(p.have), Line: int(p.have.Line), LastLine: c.lastLine(p.have)})
		}
	}
}

// longestRise says which of the numbers are in a longest rising run (patience
// sorting).
func longestRise(list []int32) []bool {
	in := make([]bool, len(list))
	var tails []int // by length: where the smallest last one is
	before := make([]int, len(list))
	for i, v := range list {
		at, _ := slices.BinarySearchFunc(tails, v, func(j int, v int32) int { return int(list[j] - v) })
		before[i] = -1
		if at > 0 {
			before[i] = tails[at-1]
		}
		if at == len(tails) {
			tails = append(tails, i)
		} else {
			tails[at] = i
		}
	}
	if len(tails) > 0 {
		for i := tails[len(tails)-1]; i >= 0; i = before[i] {
			in[i] = true
		}
	}
	return in
}

func (c *comparison) note(d Deviation) {
	if len(c.out.Deviations) >= MaxDeviations {
		c.out.More++
		return
	}
	c.out.Deviations = append(c.out.Deviations, d)
}

// lacks tells of a line that is not there; of a section, as one.
func (c *comparison) lacks(w, above *config.Node) {
	d := Deviation{Kind: Lacking, Want: c.filled(w), WantLine: c.wantLine(w)}
	if above != nil {
		d.Path, d.Line, d.LastLine = append(c.path(above), above.Text), int(above.Line), int(above.LastLine)
	} else {
		for p := w.Parent; p != nil; p = p.Parent {
			d.Path = append([]string{c.fill(p.Text)}, d.Path...)
		}
	}
	c.note(d)
}

func (c *comparison) surplus(h *config.Node) {
	if h.Kind == config.Group {
		for _, child := range c.counted(h.Children) {
			c.surplus(child)
		}
		return
	}
	if c.used[h] {
		return
	}
	c.used[h] = true
	c.note(Deviation{Kind: Surplus, Path: c.path(h), Have: c.have(h), Line: int(h.Line), LastLine: c.lastLine(h)})
}

// forbidden tells of lines that must not be there: those of the standard below which
// nothing stands.
func (c *comparison) forbidden(p pair) {
	if inner := c.saying(p.want.Children); len(inner) > 0 {
		c.level(p.want.Children, p.have.Children, p.have, false)
		return
	}
	c.out.Lines++
	c.used[p.have] = true
	c.note(Deviation{Kind: Surplus, Path: c.path(p.have), Want: "", WantLine: c.wantLine(p.want), Have: c.have(p.have), Line: int(p.have.Line), LastLine: c.lastLine(p.have)})
}

// covers tells of what stands where only the standard's own lines may.
func (c *comparison) covers() {
	if len(c.sec.Covers) == 0 || c.sec.Is != Exactly {
		return
	}
	pattern.NewSet(c.sec.Covers...).Find(c.tree, func(_ int, m pattern.Match) {
		if !c.in.View.Forms[int(m.Node.Line)].Volatile {
			c.surplus(m.Node)
		}
	})
}

func (c *comparison) path(h *config.Node) []string {
	return slices.DeleteFunc(h.Path(), func(s string) bool { return s == "" })
}

func (c *comparison) wantLine(w *config.Node) int {
	if c.sec.Line == 0 || w.Line == 0 {
		return 0
	}
	return c.sec.Line + int(w.Line) - 1
}

// have is a line of the device, or a block of it with all below.
func (c *comparison) have(h *config.Node) string {
	if h.Kind == config.Verbatim {
		return c.text(h)
	}
	return strings.TrimSpace(c.tree.LineAt(int(h.Line)))
}

func (c *comparison) lastLine(h *config.Node) int {
	if h.Kind == config.Verbatim {
		return int(h.LastLine)
	}
	return int(h.Line)
}

// filled is a line of the standard with what is known of its slots; of a section,
// with all below.
func (c *comparison) filled(w *config.Node) string {
	if w.Kind == config.Verbatim {
		return c.fill(trimmed(c.sec.tree.Source[w.Head.From:w.Head.To]))
	}
	from, to := int(w.Line), int(w.Line)
	if len(w.Children) > 0 {
		to = int(w.LastLine)
	}
	var lines []string
	indent := -1
	for n := from; n <= to; n++ {
		line := c.sec.tree.LineAt(n)
		bare := strings.TrimLeft(line, " \t")
		if indent < 0 {
			indent = len(line) - len(bare)
		}
		lines = append(lines, c.fill(line[min(indent, len(line)-len(bare)):]))
	}
	return strings.Join(lines, "\n")
}

// fill writes what is known of slots in a text; the others stay as the file has them.
func (c *comparison) fill(text string) string {
	var b strings.Builder
	for _, p := range split(text) {
		switch v, ok := c.value(p.slot); {
		case p.slot == "":
			b.WriteString(p.text)
		case ok:
			b.WriteString(v)
		default:
			b.WriteString("${" + p.slot + "}")
		}
	}
	return b.String()
}

// known is a copy of what a section captured, for what else is captured in it.
func known(captured map[string]string) map[string]string {
	if captured == nil {
		return map[string]string{}
	}
	return maps.Clone(captured)
}

// Render writes what a device should have: the sections of the standard with their
// slots filled, those that are captured with what the device has. A slot that has no
// value stays as it is written.
func (s *Standard) Render(in Input) string {
	tree := masked(in.View)
	c := &comparison{standard: s, in: in, tree: tree, values: s.Compare(in).Values, out: &SectionResult{}, used: map[*config.Node]bool{}, under: map[*config.Node][]*config.Node{}}
	var pieces []string
	for _, sec := range s.Sections {
		if sec.Is == Absent {
			continue
		}
		c.sec, c.local = sec, nil
		if sec.each == nil {
			pieces = append(pieces, c.fill(sec.tree.Source))
			continue
		}
		found, err := sec.each.Find(tree, in.Subject)
		if err != nil {
			continue
		}
		for _, f := range found {
			c.local = known(f.Captured)
			c.whole() // for what it captures
			pieces = append(pieces, c.fill(sec.tree.Source))
		}
	}
	return put(pieces, tree.Syntax.Reader)
}

// put writes pieces of a configuration one after the other. Those that begin and end
// with the same marks, as they lie in the same section, are put in one.
func put(pieces []string, reader config.Reader) string {
	var lines []string
	closing := reader == config.XML || reader == config.Brace || reader == config.JSON
	first := ""
	for _, p := range pieces {
		own := strings.Split(strings.TrimRight(p, "\n"), "\n")
		if n := len(lines); closing && n > 0 && len(own) > 2 && own[0] == first && own[len(own)-1] == lines[n-1] {
			lines = append(lines[:n-1], own[1:]...)
			continue
		}
		first = own[0]
		lines = append(lines, own...)
	}
	return strings.Join(lines, "\n") + "\n"
}
