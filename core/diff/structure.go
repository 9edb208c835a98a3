package diff

import (
	"hash/maphash"
	"slices"
	"strings"

	"vergekeep/core/config"
)

// Structure is what a comparison by structure knows of one side beyond its
// lines. With it on both sides, [Compare] matches sections and lines by what
// they are and not by where they stand; order counts only where Order says so.
type Structure struct {
	Tree *config.Tree
	// Look says of a node whether its order among others counts (the number, from
	// 1, of the rule that says so) and where in it its value stands: the other
	// words say which line it is, so that another value is a change of this line.
	// It is only asked of nodes that may differ. It may be nil.
	Look func(*config.Node) (order int, value config.Span)
	// Expected reports whether a line (from 1) is expected to differ. It may be nil.
	Expected func(line int) bool
}

// item is a node as it is compared: its own lines, and its children.
type item struct {
	node       *config.Node
	same       uint64 // what it is: kind and words
	key        uint64 // which one it is, its value left out; 0 where that is not known; filled in by look
	deep       uint64 // all that it holds, byte for byte
	head, tail stretchOf
	end        int  // the line (from 0) behind its last one
	whole      bool // its lines lie one after the other
	order      int
	kids       []item
}

// stretchOf is a run of lines of one side, from 0, the end not included.
type stretchOf struct{ from, to int }

func (s stretchOf) len() int { return s.to - s.from }

// itemiser makes items of a side.
type itemiser struct {
	seed  maphash.Seed
	side  Side
	lines []string
	at    int // the next line that no item has
	// first and last are how many of the outermost nodes, from either end, are the
	// same on both sides; nobody has to look into them.
	first, last int
}

func (z *itemiser) top() []item {
	nodes := z.side.Structure.Tree.Children
	items := make([]item, 0, len(nodes))
	same := func(n *config.Node, deep uint64) {
		items = append(items, item{node: n, same: deep, deep: deep, head: stretchOf{z.at, int(n.LastLine)}, end: int(n.LastLine), tail: stretchOf{int(n.LastLine), int(n.LastLine)}, whole: true})
		z.at = int(n.LastLine)
	}
	for i, n := range nodes[:z.first] {
		same(n, uint64(i)+1)
	}
	items = append(items, z.items(nodes[z.first:len(nodes)-z.last])...)
	for i, n := range nodes[len(nodes)-z.last:] {
		same(n, ^uint64(z.last-i))
	}
	for z.at < len(z.lines) { // what no node claims still has to be compared
		it := item{head: stretchOf{z.at, z.at + 1}, end: z.at + 1, whole: true}
		it.same = z.hash("?", chomp(z.lines[z.at]))
		it.deep = mix(it.same, z.hash("", z.lines[z.at]))
		items = append(items, it)
		z.at++
	}
	return items
}

func (z *itemiser) hash(kind, text string) uint64 {
	h := maphash.String(z.seed, text)
	if kind != "" {
		h = mix(h, uint64(kind[0]))
	}
	return h | 1 // 0 stands for none
}

func mix(a, b uint64) uint64 {
	a = (a ^ b) * 0x9E3779B97F4A7C15
	return a ^ a>>29
}

func (z *itemiser) items(nodes []*config.Node) []item {
	list := make([]item, 0, len(nodes))
	var groups map[string]int
	for _, n := range nodes {
		it := z.item(n)
		if it.end == 0 { // it stands in a line of another
			continue
		}
		if n.Kind == config.Group { // a flat section can go on further down
			if at, ok := groups[n.Text]; ok {
				g := &list[at]
				g.kids, g.deep, g.whole, g.end = append(g.kids, it.kids...), mix(g.deep, it.deep), g.whole && g.end == it.kids[0].head.from, it.end
				continue
			}
			if groups == nil {
				groups = map[string]int{}
			}
			groups[n.Text] = len(list)
		}
		list = append(list, it)
	}
	return list
}

// own takes the lines that belong to n and to nothing below it.
func (z *itemiser) own(n *config.Node) stretchOf {
	s := stretchOf{z.at, z.at}
	for z.at < len(z.lines) && z.side.Structure.Tree.NodeAt(z.at+1) == n {
		z.at++
	}
	s.to = z.at
	return s
}

func (z *itemiser) item(n *config.Node) item {
	it := item{node: n, whole: true}
	it.head = z.own(n)
	from := it.head.from
	if len(n.Children) > 0 {
		it.kids = z.items(n.Children)
	}
	it.tail = z.own(n)
	if z.at == from {
		return item{}
	}
	it.end = z.at
	it.identify(z)
	it.deep = it.same
	for i := it.head.from; i < it.head.to; i++ {
		it.deep = mix(it.deep, z.hash("", z.lines[i]))
	}
	for i := range it.kids {
		it.deep = mix(it.deep, it.kids[i].deep)
		it.whole = it.whole && it.kids[i].whole
	}
	for i := it.tail.from; i < it.tail.to; i++ {
		it.deep = mix(it.deep, z.hash("/", z.lines[i]))
	}
	return it
}

func (it *item) identify(z *itemiser) {
	n := it.node
	kind := "l"
	switch n.Kind {
	case config.Verbatim:
		kind = "v"
	case config.Blank:
		kind = "b"
	case config.Comment:
		kind = "c"
	case config.Group:
		kind = "g"
	}
	text := n.Text
	if form, ok := z.side.Forms[int(n.Line)]; ok {
		if form.Volatile {
			word, _, _ := strings.Cut(text, " ")
			it.key = z.hash("~", word)
		} else {
			text = strings.TrimSpace(form.Text)
		}
	}
	it.same = z.hash(kind, text)
}

// look fills in what the dialect says of items.
func (z *itemiser) look(items []item) {
	s := z.side.Structure
	if s.Look == nil {
		return
	}
	for i := range items {
		it := &items[i]
		if it.node == nil || it.node.Kind == config.Group {
			continue
		}
		order, v := s.Look(it.node)
		if it.order = order; v.To > v.From && it.key == 0 {
			it.key = mix(z.hash("k", s.Tree.Source[it.node.At.From:v.From]), z.hash("", s.Tree.Source[v.To:max(v.To, it.node.At.To)]))
		}
	}
}

// sameEnds counts the outermost nodes that both sides begin with and end with. Most
// configurations differ in a few lines: what is around them is not looked into.
func (c *structural) sameEnds() (first, last int) {
	l, r := c.left.side.Structure.Tree.Children, c.right.side.Structure.Tree.Children
	head := 0 // lines that are the same on both sides
	for head < min(len(c.left.lines), len(c.right.lines)) && c.left.lines[head] == c.right.lines[head] {
		head++
	}
	tail, shift := 0, len(c.right.lines)-len(c.left.lines)
	for tail < min(len(c.left.lines), len(c.right.lines))-head && c.left.lines[len(c.left.lines)-1-tail] == c.right.lines[len(c.right.lines)-1-tail] {
		tail++
	}
	// A line may be the same and count in another way.
	counts := func(a, b map[int]Form, shift, lines int) {
		for line, form := range a {
			if b[line] != form {
				head = min(head, line-1)
			}
			if b[line+shift] != form {
				tail = min(tail, lines-line)
			}
		}
	}
	counts(c.left.side.Forms, c.right.side.Forms, shift, len(c.left.lines))
	counts(c.right.side.Forms, c.left.side.Forms, -shift, len(c.right.lines))
	at := 0
	for ; first < min(len(l), len(r)); first++ {
		x, y := l[first], r[first]
		if int(x.Line) != at+1 || int(y.Line) != at+1 || x.LastLine != y.LastLine || int(x.LastLine) > head {
			break
		}
		at = int(x.LastLine)
	}
	endL, endR := len(c.left.lines), len(c.right.lines)
	for ; last < min(len(l), len(r))-first; last++ {
		x, y := l[len(l)-1-last], r[len(r)-1-last]
		if int(x.LastLine) != endL || int(y.LastLine) != endR || x.LastLine-x.Line != y.LastLine-y.Line || len(c.left.lines)-int(x.Line)+1 > tail {
			break
		}
		endL, endR = int(x.Line)-1, int(y.Line)-1
	}
	return first, last
}

// compareTrees fills r by structure.
func compareTrees(r *Result, left, right Side) {
	seed := maphash.MakeSeed()
	c := &structural{r: r, left: itemiser{seed: seed, side: left, lines: r.left}, right: itemiser{seed: seed, side: right, lines: r.right}}
	first, last := c.sameEnds()
	if slices.ContainsFunc(left.Structure.Tree.Children, isGroup) || slices.ContainsFunc(right.Structure.Tree.Children, isGroup) {
		first, last = 0, 0 // a flat section can go on further down
	}
	c.left.first, c.left.last, c.right.first, c.right.last = first, last, first, last
	var a, b []item
	both(len(r.left)+len(r.right) > 2000, func() { a = c.left.top() }, func() { b = c.right.top() })
	c.lists(a, b)
}

func isGroup(n *config.Node) bool { return n.Kind == config.Group }

type structural struct {
	r           *Result
	left, right itemiser
}

// lists compares the children of one section.
func (c *structural) lists(l, r []item) {
	m := c.match(l, r)
	at := 0 // items of l that are written
	leave := func(to int) {
		for ; at < to; at++ {
			switch {
			case m.right[at] < 0:
				c.gone(&l[at], Removed)
			case m.moved[at] && l[at].order > 0:
				c.movedAway(&l[at], &r[m.right[at]])
			}
		}
	}
	next := make([]int, len(r)+1) // by item of r: the item of l that the next pair in place has
	next[len(r)] = len(l)
	for j := len(r) - 1; j >= 0; j-- {
		next[j] = next[j+1]
		if i := m.left[j]; i >= 0 && !m.out[i] {
			next[j] = i
		}
	}
	for j := range r {
		leave(next[j])
		i := m.left[j]
		switch {
		case i < 0:
			c.gone(&r[j], Added)
		case m.moved[i]:
			c.movedHere(&l[i], &r[j])
		case m.out[i]:
			c.pair(&l[i], &r[j], Order)
		default:
			c.pair(&l[i], &r[j], Counts)
			at = i + 1
		}
	}
	leave(len(l))
}

// matching says which item of one list is which of the other.
type matching struct {
	right, left []int // the partner; -1 for none
	out         []bool
	moved       []bool // of out: its order counts
}

func (c *structural) match(l, r []item) matching {
	ints := make([]int, len(l)+len(r))
	flags := make([]bool, 2*len(l))
	m := matching{ints[:len(l)], ints[len(l):], flags[:len(l)], flags[len(l):]}
	for i := range ints {
		ints[i] = -1
	}
	pair := func(i, j int) { m.right[i], m.left[j] = j, i }
	start := 0
	for start < len(l) && start < len(r) && l[start].deep == r[start].deep {
		pair(start, start)
		start++
	}
	endL, endR := len(l), len(r)
	for endL > start && endR > start && l[endL-1].deep == r[endR-1].deep {
		endL--
		endR--
		pair(endL, endR)
	}
	if start == endL && start == endR {
		return m
	}
	c.left.look(l[start:endL])
	c.right.look(r[start:endR])
	// What is in the same order on both sides.
	numbers := make(map[uint64]int32, endL-start+endR-start)
	number := func(items []item) []int32 {
		ids := make([]int32, len(items))
		for i := range items {
			id, ok := numbers[items[i].same]
			if !ok {
				id = int32(len(numbers))
				numbers[items[i].same] = id
			}
			ids[i] = id
		}
		return ids
	}
	d := differ{a: number(l[start:endL]), b: number(r[start:endR])}
	edits := d.all(len(numbers))
	i, j := 0, 0
	for _, e := range append(edits, Edit{len(d.a), len(d.a), len(d.b), len(d.b)}) {
		for ; i < e.A0; i, j = i+1, j+1 {
			pair(start+i, start+j)
		}
		i, j = e.A1, e.B1
	}
	// What is there on both sides, in another order.
	rest := func(of func(*item) uint64) {
		places := map[uint64][]int{}
		for j := start; j < endR; j++ {
			if k := of(&r[j]); k != 0 && m.left[j] < 0 {
				places[k] = append(places[k], j)
			}
		}
		for i := start; i < endL && len(places) > 0; i++ {
			k := of(&l[i])
			if m.right[i] < 0 && k != 0 && len(places[k]) > 0 {
				pair(i, places[k][0])
				places[k] = places[k][1:]
			}
		}
	}
	if len(edits) > 0 {
		rest(func(it *item) uint64 { return it.same })
		rest(func(it *item) uint64 { return it.key })
		// What looks like a changed value, between two that are in place.
		for _, e := range edits {
			c.alike(l[start+e.A0:start+e.A1], r[start+e.B0:start+e.B1], m.right[start+e.A0:start+e.A1], m.left[start+e.B0:start+e.B1], start+e.A0, start+e.B0)
		}
	}
	m.order(l, start, endL)
	return m
}

// order finds which pairs break the order, as few as can be.
func (m *matching) order(l []item, from, to int) {
	outside := func(class int, mark func(int)) {
		var pairs []pair
		for i := from; i < to; i++ {
			if m.right[i] >= 0 && (class < 0 || l[i].order == class) {
				pairs = append(pairs, pair{i, m.right[i]})
			}
		}
		run := increasing(pairs)
		for _, p := range pairs {
			if len(run) > 0 && run[0].a == p.a {
				run = run[1:]
				continue
			}
			mark(p.a)
		}
	}
	outside(-1, func(i int) { m.out[i] = true })
	if !slices.Contains(m.out[from:to], true) {
		return
	}
	var classes []int
	for i := from; i < to; i++ {
		if m.right[i] >= 0 && l[i].order > 0 && !slices.Contains(classes, l[i].order) {
			classes = append(classes, l[i].order)
		}
	}
	for _, class := range classes {
		outside(class, func(i int) { m.moved[i], m.out[i] = true, true })
	}
}

// alike pairs lines of which only a part changed.
func (c *structural) alike(l, r []item, right, left []int, i0, j0 int) {
	var a, b []int
	collect := func(items []item, partner []int) (free []int) {
		for i := range items {
			if partner[i] < 0 && len(items[i].kids) == 0 && items[i].head.len() == 1 && items[i].node != nil && items[i].node.Kind != config.Blank {
				free = append(free, i)
			}
		}
		return free
	}
	if a = collect(l, right); len(a) == 0 {
		return
	}
	if b = collect(r, left); len(b) == 0 {
		return
	}
	likeness := func(i, j int) int {
		x, y := &l[a[i]], &r[b[j]]
		if x.node.Kind != y.node.Kind {
			return 0
		}
		return alike(c.r.left[x.head.from], c.r.right[y.head.from])
	}
	for i, j := range bestPairs(len(a), len(b), likeness) {
		if j >= 0 {
			right[a[i]], left[b[j]] = j0+b[j], i0+a[i]
		}
	}
}

// gone writes an item that is only on one side.
func (c *structural) gone(it *item, kind Kind) {
	c.each(it, func(line int) {
		if kind == Removed {
			c.row(Row{Kind: Removed, Left: line + 1})
		} else {
			c.row(Row{Kind: Added, Right: line + 1})
		}
	})
}

// each goes over all lines of an item.
func (c *structural) each(it *item, f func(line int)) {
	for i := it.head.from; i < it.head.to; i++ {
		f(i)
	}
	for k := range it.kids {
		c.each(&it.kids[k], f)
	}
	for i := it.tail.from; i < it.tail.to; i++ {
		f(i)
	}
}

func (c *structural) movedAway(l, r *item) {
	other := r.head.from
	lines := l.head
	if l.deep == r.deep && l.whole && r.whole {
		lines.to = l.end
	}
	for i := lines.from; i < lines.to; i++ {
		c.row(Row{Kind: Moved, Left: i + 1, Other: other + i - lines.from + 1})
	}
}

func (c *structural) movedHere(l, r *item) {
	if l.deep == r.deep && l.whole && r.whole {
		for j := r.head.from; j < r.end; j++ {
			c.row(Row{Kind: Moved, Right: j + 1, Other: l.head.from + j - r.head.from + 1})
		}
		return
	}
	for j := r.head.from; j < r.head.to; j++ {
		c.row(Row{Kind: Moved, Right: j + 1, Other: min(l.head.from+j-r.head.from, max(l.head.to-1, l.head.from)) + 1})
	}
	c.lists(l.kids, r.kids)
	c.lines(l.tail, r.tail)
}

// pair writes an item that is on both sides. Where aside says so, its first
// line is told to stand elsewhere, though that does not count.
func (c *structural) pair(l, r *item, aside Aside) {
	if l.deep == r.deep && l.whole && r.whole && l.end-l.head.from == r.end-r.head.from {
		from, to := l.head.from, r.head.from
		if aside != Counts && from < l.end {
			c.row(Row{Kind: Moved, Left: from + 1, Right: to + 1, Aside: aside})
			from, to = from+1, to+1
		}
		c.r.equal(from, to, l.end-from)
		return
	}
	lh, rh := l.head, r.head
	if aside != Counts && lh.len() > 0 && rh.len() > 0 && c.r.left[lh.from] == c.r.right[rh.from] {
		c.row(Row{Kind: Moved, Left: lh.from + 1, Right: rh.from + 1, Aside: aside})
		lh.from++
		rh.from++
	}
	c.lines(lh, rh)
	c.lists(l.kids, r.kids)
	c.lines(l.tail, r.tail)
}

// lines compares the own lines of an item.
func (c *structural) lines(l, r stretchOf) {
	if l.len() == 1 && r.len() == 1 {
		c.line(l.from, r.from)
		return
	}
	i, j := l.from, r.from
	for _, e := range append(Edits(c.r.left[l.from:l.to], c.r.right[r.from:r.to]), Edit{l.len(), l.len(), r.len(), r.len()}) {
		c.r.equal(i, j, l.from+e.A0-i)
		i, j = l.from+e.A0, r.from+e.B0
		for ; i < l.from+e.A1 && j < r.from+e.B1; i, j = i+1, j+1 {
			c.line(i, j)
		}
		for ; i < l.from+e.A1; i++ {
			c.row(Row{Kind: Removed, Left: i + 1})
		}
		for ; j < r.from+e.B1; j++ {
			c.row(Row{Kind: Added, Right: j + 1})
		}
	}
}

func (c *structural) line(i, j int) {
	if c.r.left[i] == c.r.right[j] {
		c.r.equal(i, j, 1)
		return
	}
	c.row(Row{Kind: Changed, Left: i + 1, Right: j + 1})
}

// row completes a row and adds it.
func (c *structural) row(row Row) {
	var l, r Form
	isL, isR := row.Left == 0, row.Right == 0
	expected := true
	if row.Left > 0 {
		row.LeftText = chomp(c.r.left[row.Left-1])
		row.Path = pathAt(c.left.side, row.Left)
		l, isL = c.left.side.Forms[row.Left]
		expected = c.left.expected(row.Left)
	}
	if row.Right > 0 {
		row.RightText = chomp(c.r.right[row.Right-1])
		row.Path = pathAt(c.right.side, row.Right)
		r, isR = c.right.side.Forms[row.Right]
		expected = expected && c.right.expected(row.Right)
	}
	switch {
	case row.Aside != Counts:
	case (row.Left == 0 || l.Volatile) && (row.Right == 0 || r.Volatile):
		row.Aside = Volatile
	case row.Kind == Changed && isL && isR && l.Text == r.Text:
		row.Aside = Undecidable
	case expected:
		row.Aside = Expected
	case strings.TrimSpace(row.LeftText) == strings.TrimSpace(row.RightText) && row.Kind != Moved && !c.verbatim(row):
		row.Aside = Layout // only blanks, or nothing but them
	}
	if row.Kind == Changed {
		row.LeftWords, row.RightWords = words(row.LeftText, row.RightText)
	}
	c.r.add(row)
}

func (z *itemiser) expected(line int) bool {
	f := z.side.Structure.Expected
	return f != nil && f(line)
}

// verbatim reports whether a row stands in a block where blanks count.
func (c *structural) verbatim(row Row) bool {
	in := func(z *itemiser, line int) bool {
		n := z.side.Structure.Tree.NodeAt(line)
		return line > 0 && n != nil && n.Kind == config.Verbatim
	}
	return in(&c.left, row.Left) || in(&c.right, row.Right)
}
