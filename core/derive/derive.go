// Package derive finds out what the devices of a class have in common: it drafts a
// standard from their configurations, and names the odd ones out.
//
// A line is known by the headings above it and by its own words without the value
// that the dialect says it has. Lines that at least a share of the devices have are
// the draft's; where their values differ a slot stands, with a type that fits all of
// them. The draft is then compared with each device as any standard is, so that what
// it says of the devices is what it will go on to say. Nothing is left to chance: the
// same configurations give the same draft, byte for byte.
package derive

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/audit"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/pattern"
	"vergekeep/core/standard"
)

// ErrDerive is wrapped where nothing can be derived.
var ErrDerive = errors.New("nothing can be derived")

// Member is one device of the class.
type Member struct {
	Name    string
	Subject audit.Subject
	View    dialect.View
}

// Options say how a draft is made. The zero value is the usual.
type Options struct {
	ID, Title, Applies string
	Share              float64 // of the devices that have to have a line; 0 for 0.8
}

// Draft is a derived standard.
type Draft struct {
	Text    string // the file
	Common  int    // lines in it
	Slots   []Slot
	Odd     []Odd // devices that deviate, the oddest first
	Members int
}

// Slot is what varies, with how often which value is there.
type Slot struct {
	Name, Type, Line string
	Values           []Count // the most frequent first, at most twenty
	Distinct         int
}

// Count is a value and how many devices have it.
type Count struct {
	Value string
	Count int
}

// Odd is a device that deviates from what the others share.
type Odd struct {
	Device     string
	Deviations []Deviation
	Weight     float64 // the sum of how unusual its deviations are
}

// Deviation is one line of an odd device.
type Deviation struct {
	standard.Deviation
	Section string
	With    int     // devices that have it so
	Unusual float64 // bits: 1 for one that half of the devices have, 10 for one in a thousand
}

// place is a line of the class: all devices' lines with the same identity.
type place struct {
	identity string
	parent   *place
	text     string // as the first device has it
	before   string // its text before the value, and behind
	after    string
	valued   bool
	verbatim bool
	ordered  bool
	devices  int
	last     int // the device that was counted last, from 1
	values   map[string]int
	first    string // value of the first device
	children []*place
	byID     map[string]*place
	mixed    bool // something below is neither common nor rare
	slot     *slot
	group    bool
}

type slot struct {
	name, kind string
	min, max   float64
	of         []string
	field      string
}

// From drafts a standard from devices of one platform.
func From(members []Member, d *dialect.Dialect, o Options) (*Draft, error) {
	if len(members) < 2 {
		return nil, fmt.Errorf("%w: it takes two devices to have something in common", ErrDerive)
	}
	if o.Title == "" {
		o.Title = "Derived from " + strconv.Itoa(len(members)) + " devices"
	}
	return from(members, d, nil, o)
}

// One drafts a standard from one good device: of the sections that the patterns find, or
// of all where there are none. What is the device's own becomes a slot: its name, its
// site, its addresses, and the addresses with a prefix length that its interfaces have.
// Whatever else stands in a chosen section is the draft's; of the headings above it,
// nothing but that they are there.
func One(m Member, d *dialect.Dialect, only []*pattern.Pattern, o Options) (*Draft, error) {
	if o.Title == "" {
		o.Title = "As " + m.Name + " has it"
	}
	if o.ID == "" {
		o.ID = "draft"
	}
	return from([]Member{m}, d, only, o)
}

func from(members []Member, d *dialect.Dialect, only []*pattern.Pattern, o Options) (*Draft, error) {
	if o.Share == 0 {
		o.Share = 0.8
	}
	if o.Share < 0.5 || o.Share > 1 {
		return nil, fmt.Errorf("%w: the share is between 0.5 and 1, not %g", ErrDerive, o.Share)
	}
	if o.ID == "" {
		o.ID = "derived"
	}
	root := &place{byID: map[string]*place{}}
	trees := make([]*config.Tree, len(members))
	for i := range members {
		trees[i] = members[i].View.Tree
		if len(members[i].View.Secret) > 0 {
			trees[i] = d.Tree(members[i].View.Masked())
		}
		g := gatherer{d: d, tree: trees[i], view: members[i].View, look: d.Look(trees[i]), device: i + 1, own: strings.NewReplacer()}
		if len(members[i].Name) >= minName {
			g.own = strings.NewReplacer(members[i].Name, ownName)
		}
		if len(members) == 1 {
			g.one = members[0].Subject
		}
		if len(only) > 0 {
			if g.kept = chosen(trees[i], only); len(g.kept) == 0 {
				return nil, fmt.Errorf("%w: %s has nothing that those patterns find", ErrDerive, members[i].Name)
			}
		}
		g.gather(root, trees[i].Children)
	}
	w := writer{d: d, members: members, least: int(math.Ceil(o.Share * float64(len(members)))), names: map[string]bool{own: true}}
	w.decide(root)
	text, err := w.file(root, o)
	if err != nil {
		return nil, err
	}
	draft := &Draft{Text: text, Common: w.common, Slots: w.slots, Members: len(members)}
	if draft.Common == 0 {
		return nil, fmt.Errorf("%w: the devices have not a line in common", ErrDerive)
	}
	s, err := standard.Parse(o.ID+".yaml", text, dialect.Set{d.Name: d})
	if err != nil {
		return nil, fmt.Errorf("%w: the draft cannot be read: %w", ErrDerive, err)
	}
	for i := range members {
		r := s.Compare(standard.Input{Subject: members[i].Subject, View: members[i].View})
		odd := Odd{Device: members[i].Name}
		for _, sec := range r.Sections {
			for _, dev := range sec.Deviations {
				with := w.with(root, dev)
				x := Deviation{Deviation: dev, Section: sec.Section.ID, With: with, Unusual: -math.Log2(float64(max(with, 1)) / float64(len(members)))}
				if x.Unusual < 0 {
					x.Unusual = 0
				}
				odd.Weight += x.Unusual
				odd.Deviations = append(odd.Deviations, x)
			}
		}
		if len(odd.Deviations) > 0 {
			slices.SortStableFunc(odd.Deviations, func(a, b Deviation) int { return cmp.Compare(b.Unusual, a.Unusual) })
			draft.Odd = append(draft.Odd, odd)
		}
	}
	slices.SortStableFunc(draft.Odd, func(a, b Odd) int {
		return cmp.Or(cmp.Compare(b.Weight, a.Weight), strings.Compare(a.Device, b.Device))
	})
	return draft, nil
}

// ownName stands for a device's own name wherever it is written: that differs from
// device to device, and is well.
const (
	ownName = "\x01"
	minName = 4
)

type gatherer struct {
	own    *strings.Replacer
	d      *dialect.Dialect
	tree   *config.Tree
	view   dialect.View
	look   func(*config.Node) (int, config.Span)
	device int
	one    audit.Subject           // the only device; nil where there are several
	kept   map[*config.Node]choice // nil: all
}

// choice is why a line is in a draft of chosen sections.
type choice int

const (
	whole choice = iota + 1 // it was chosen, or what it stands in
	leads                   // it only leads to one that was
)

// chosen is the lines that patterns find, with what is in them and what leads there.
func chosen(t *config.Tree, only []*pattern.Pattern) map[*config.Node]choice {
	found := map[*config.Node]bool{}
	pattern.NewSet(only...).Find(t, func(_ int, m pattern.Match) { found[m.Node] = true })
	kept := map[*config.Node]choice{}
	var walk func(nodes []*config.Node, within bool) bool
	walk = func(nodes []*config.Node, within bool) (any bool) {
		for _, n := range nodes {
			is := within || found[n]
			switch below := walk(n.Children, is); {
			case is:
				kept[n] = whole
			case below:
				kept[n] = leads
			default:
				continue
			}
			any = true
		}
		return any
	}
	walk(t.Children, false)
	return kept
}

// gather counts the lines of one device.
func (g *gatherer) gather(into *place, nodes []*config.Node) {
	// Elements that stand once are known by their name, several by what they hold.
	var same map[string]int
	leaves := g.tree.Syntax.Reader == config.XML || g.tree.Syntax.Reader == config.JSON
	if leaves {
		same = map[string]int{}
		for _, n := range nodes {
			name, _, _ := strings.Cut(n.Text, " ")
			same[name]++
		}
	}
	times := map[string]int{}
	for _, n := range nodes {
		if n.Kind == config.Blank || n.Kind == config.Comment || g.view.Forms[int(n.Line)].Volatile || g.kept != nil && g.kept[n] == 0 {
			continue
		}
		p := place{text: n.Text, group: n.Kind == config.Group, verbatim: n.Kind == config.Verbatim}
		order, at := 0, config.Span{}
		if !p.group {
			order, at = g.look(n)
		}
		p.ordered = order > 0
		value := ""
		switch {
		case p.verbatim:
			p.text = g.own.Replace(block(g.tree, n))
			words := strings.Fields(n.Text)
			p.identity = "v " + strings.Join(words[:min(2, len(words))], " ")
			p.valued, value = true, p.text
		case at.To > at.From && !leaves:
			p.before, p.after, p.valued = g.tree.Source[n.At.From:at.From], g.tree.Source[at.To:max(at.To, n.At.To)], true
			value = g.own.Replace(g.tree.Source[at.From:at.To])
			p.identity = "l " + p.before + "\x00" + p.after
		case leaves && len(n.Children) == 0:
			name, rest, has := strings.Cut(n.Text, " ")
			if has && same[name] == 1 {
				p.before, p.valued, value = name+" ", true, g.own.Replace(rest)
				p.identity = "l " + name
				break
			}
			p.identity = "l " + n.Text
		default:
			p.identity = "l " + n.Text
			if g.one == nil || leaves || p.group || len(n.Children) > 0 {
				break
			}
			if from, to := ownPart(g.one, n.Text); from > 0 {
				p.before, p.after, p.valued, value = n.Text[:from], n.Text[to:], true, n.Text[from:to]
			}
		}
		if n := times[p.identity]; n > 0 && !p.group { // the same line again
			times[p.identity]++
			p.identity += "\x00" + strconv.Itoa(n)
		} else {
			times[p.identity] = 1
		}
		known := into.byID[p.identity]
		if known == nil {
			p.parent, p.byID, p.values, p.first = into, map[string]*place{}, map[string]int{}, value
			known = &p
			into.byID[p.identity] = known
			into.children = append(into.children, known)
		}
		if known.last != g.device {
			known.last = g.device
			known.devices++
			known.mixed = known.mixed || g.kept[n] == leads
			if p.valued {
				known.values[value]++
			}
		}
		if len(n.Children) > 0 {
			g.gather(known, n.Children)
		}
	}
}

func block(t *config.Tree, n *config.Node) string {
	return strings.TrimRight(t.Source[n.Head.From:n.Head.To], " \t\r\n")
}

type writer struct {
	d       *dialect.Dialect
	members []Member
	least   int // devices that have to have a line
	names   map[string]bool
	slots   []Slot
	all     []*place // those with slots
	named   bool     // a device's own name stands somewhere
	common  int
}

// decide marks which lines are the draft's, and gives slots to those that vary.
func (w *writer) decide(p *place) {
	for _, c := range p.children {
		if c.devices < w.least {
			if c.devices*5 > len(w.members) { // a fifth of them have it: that is a habit, and no slip
				p.mixed = true
			}
			continue
		}
		if c.valued {
			top := 0
			for _, n := range c.values {
				top = max(top, n)
			}
			switch {
			case len(w.members) == 1:
				if !c.verbatim && isOwn(w.members[0].Subject, c.usual()) {
					c.slot = w.slotFor(c)
				}
			case top >= w.least:
			case c.verbatim: // a block that differs everywhere says nothing of the class
				c.devices = 0
				p.mixed = true
				continue
			default:
				c.slot = w.slotFor(c)
			}
		}
		w.decide(c)
	}
}

// isOwn reports whether a value of the one device is its own and no other's.
func isOwn(of audit.Subject, value string) bool {
	mine := func(a netip.Addr) bool { return slices.Contains(of.Field("address"), a.String()) }
	value = strings.Trim(value, `"`)
	if p, err := netip.ParsePrefix(value); err == nil {
		// Both addresses of a link of two are hosts: RFC 3021, RFC 6164.
		return p.Addr() != p.Masked().Addr() || p.Bits() == p.Addr().BitLen()-1 || mine(p.Addr())
	}
	if a, err := netip.ParseAddr(value); err == nil {
		return mine(a)
	}
	site := of.Field("site")
	return len(site) > 0 && site[0] != "" && site[0] == value
}

// ownPart is where in a line that holds no value for its dialect something stands at the
// end that is the device's own; without quotes.
func ownPart(of audit.Subject, line string) (from, to int) {
	for from := strings.IndexByte(line, ' ') + 1; from > 0; {
		rest := line[from:]
		if quoted := len(rest) > 2 && rest[0] == '"' && rest[len(rest)-1] == '"'; quoted && isOwn(of, rest) {
			return from + 1, len(line) - 1
		}
		if isOwn(of, rest) {
			return from, len(line)
		}
		next := strings.IndexByte(rest, ' ')
		if next < 0 {
			break
		}
		from += next + 1
	}
	return 0, 0
}

// usual is the value that most devices have; of several, the first in order.
func (p *place) usual() string {
	best := ""
	for _, v := range slices.Sorted(maps.Keys(p.values)) {
		if best == "" || p.values[v] > p.values[best] {
			best = v
		}
	}
	return best
}

// slotFor finds the type that fits all values of a line.
func (w *writer) slotFor(p *place) *slot {
	s := &slot{kind: "address", min: math.Inf(1), max: math.Inf(-1)}
	values := slices.Sorted(maps.Keys(p.values))
	fits := func(f func(string) bool) bool {
		return !slices.ContainsFunc(values, func(v string) bool { return !f(strings.Trim(v, `"`)) })
	}
	switch {
	case fits(func(v string) bool { _, err := netip.ParseAddr(v); return err == nil }):
	case fits(func(v string) bool { _, err := netip.ParsePrefix(v); return err == nil }):
		s.kind = "prefix"
	case fits(func(v string) bool {
		n, err := strconv.ParseFloat(v, 64)
		s.min, s.max = min(s.min, n), max(s.max, n)
		return err == nil
	}):
		s.kind = "number"
	case !fits(func(v string) bool { return !strings.ContainsAny(v, " \t") }):
		s.kind = "any"
	case len(values) <= 6 && len(values)*4 <= len(w.members):
		s.kind, s.of = "one-of", values
	default:
		s.kind = "word"
	}
	if s.kind == "word" || s.kind == "any" {
		for _, field := range []string{"site", "role"} {
			matches := 0
			for i := range w.members {
				if list := w.members[i].Subject.Field(field); len(list) > 0 && list[0] != "" && p.values[list[0]] > 0 {
					matches++
				}
			}
			if matches == len(w.members) && len(values) == len(distinct(w.members, field)) {
				s.field = field
				break
			}
		}
	}
	s.name = w.nameFor(p)
	line := p.before + "${" + s.name + "}" + p.after
	out := Slot{Name: s.name, Type: s.kind, Line: strings.Join(append(p.path(), line), " > "), Distinct: len(values)}
	if s.field != "" {
		out.Type = "the device's " + s.field
	}
	for v, n := range p.values {
		out.Values = append(out.Values, Count{v, n})
	}
	slices.SortFunc(out.Values, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Value, b.Value))
	})
	out.Values = out.Values[:min(len(out.Values), 20)]
	for i := range out.Values {
		out.Values[i].Value = strings.ReplaceAll(out.Values[i].Value, ownName, "(its own name)")
	}
	w.slots = append(w.slots, out)
	return s
}

func distinct(members []Member, field string) map[string]bool {
	out := map[string]bool{}
	for i := range members {
		if list := members[i].Subject.Field(field); len(list) > 0 {
			out[list[0]] = true
		}
	}
	return out
}

func (p *place) path() []string {
	var list []string
	for x := p.parent; x != nil && x.parent != nil; x = x.parent {
		list = append([]string{x.text}, list...)
	}
	return list
}

// nameFor makes a name of the words of a line and of the heading above it.
func (w *writer) nameFor(p *place) string {
	words := ""
	if p.parent != nil && p.parent.parent != nil {
		fields := strings.Fields(p.parent.text)
		words = strings.Join(fields[max(0, len(fields)-1):], "-") + "-"
	}
	before := strings.Fields(p.before)
	words += strings.Join(before[max(0, len(before)-2):], "-")
	name := slug(words, "_-")
	if name == "" {
		name = "value"
	}
	for n := 2; w.names[name]; n++ {
		name = strings.TrimRight(name, "0123456789")
		name = strings.TrimSuffix(name, "-") + "-" + strconv.Itoa(n)
	}
	w.names[name] = true
	return name
}

func slug(s, keep string) string {
	var b strings.Builder
	for _, c := range strings.ToLower(s) {
		switch {
		case c < unicode.MaxASCII && (unicode.IsLetter(c) || unicode.IsDigit(c)), strings.ContainsRune(keep, c):
			b.WriteRune(c)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	return strings.TrimLeft(strings.Trim(b.String(), "-"), "0123456789-_")
}

// section is a part of the draft.
type section struct {
	place *place
	chain []*place // headings that only lead to it
}

// file writes the draft.
func (w *writer) file(root *place, o Options) (string, error) {
	var sections []section
	var lines []*place // of the top, that are no sections
	level, chain := root, []*place(nil)
	for { // headings that hold all there is only lead to it
		var in []*place
		for _, c := range level.children {
			if c.devices >= w.least {
				in = append(in, c)
			}
		}
		if len(in) != 1 || len(in[0].children) == 0 || in[0].slot != nil {
			break
		}
		level, chain = in[0], append(chain, in[0])
	}
	for _, c := range level.children {
		switch {
		case c.devices < w.least:
		case len(c.children) > 0:
			sections = append(sections, section{c, chain})
		default:
			lines = append(lines, c)
		}
	}
	doc := yaml.Node{Kind: yaml.MappingNode}
	add := func(n *yaml.Node, key string, value *yaml.Node) {
		n.Content = append(n.Content, text(key), value)
	}
	add(&doc, "language", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: "1"})
	add(&doc, "standard", text(o.ID))
	add(&doc, "title", text(o.Title))
	if o.Applies != "" {
		add(&doc, "applies", text(o.Applies))
	}
	add(&doc, "platform", text(w.d.Name))
	list := yaml.Node{Kind: yaml.SequenceNode}
	ids := map[string]bool{}
	one := func(id, mode, body string) {
		if body == "" { // a section that only the reader sees, without a line in common
			return
		}
		id = strings.Trim(slug(id, "-"), "-")
		id = strings.ReplaceAll(id, "--", "-")
		if id == "" {
			id = "lines"
		}
		if len(id) > 60 {
			id = strings.Trim(id[:60], "-")
		}
		base := id
		for n := 2; ids[id]; n++ {
			id = base + "-" + strconv.Itoa(n)
		}
		ids[id] = true
		sec := yaml.Node{Kind: yaml.MappingNode}
		add(&sec, "id", text(id))
		add(&sec, "is", text(mode))
		add(&sec, "text", &yaml.Node{Kind: yaml.ScalarNode, Style: yaml.LiteralStyle, Value: body})
		list.Content = append(list.Content, &sec)
	}
	if len(lines) > 0 {
		one("lines", "at-least", w.text(chain, lines))
	}
	for _, s := range sections {
		mode := "exactly"
		if anyMixed(s.place, w.least) {
			mode = "at-least"
		}
		one(s.place.text, mode, w.text(s.chain, []*place{s.place}))
	}
	if len(w.all) > 0 || w.named {
		slots := yaml.Node{Kind: yaml.MappingNode}
		if w.named {
			s := yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
			add(&s, "field", text("name"))
			add(&slots, own, &s)
		}
		slices.SortFunc(w.all, func(a, b *place) int { return strings.Compare(a.slot.name, b.slot.name) })
		for _, p := range w.all {
			s := yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
			switch {
			case p.slot.field != "":
				add(&s, "field", text(p.slot.field))
			default:
				add(&s, "type", text(p.slot.kind))
			}
			number := func(f float64) *yaml.Node {
				return &yaml.Node{Kind: yaml.ScalarNode, Value: strconv.FormatFloat(f, 'f', -1, 64)}
			}
			if p.slot.kind == "number" && p.slot.field == "" {
				add(&s, "min", number(p.slot.min))
				add(&s, "max", number(p.slot.max))
			}
			if p.slot.kind == "one-of" {
				of := yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
				for _, v := range p.slot.of {
					of.Content = append(of.Content, text(v))
				}
				add(&s, "of", &of)
			}
			add(&slots, p.slot.name, &s)
		}
		add(&doc, "slots", &slots)
	}
	add(&doc, "sections", &list)
	var b strings.Builder
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(&doc); err != nil {
		return "", err
	}
	return b.String(), e.Close()
}

func text(s string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s}
	if strings.ContainsAny(s, ":{}[],&*#?|-<>=!%@\\\"'`\n") || s == "" || s[0] >= '0' && s[0] <= '9' || s == "true" || s == "false" || s == "null" || s == "yes" || s == "no" {
		if len(s) > 0 && !isIdentifier(s) {
			n.Style = yaml.DoubleQuotedStyle
		}
	}
	return n
}

func isIdentifier(s string) bool {
	for i, c := range s {
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '-')) {
			return false
		}
	}
	return s != "true" && s != "false" && s != "null" && s != "yes" && s != "no"
}

func anyMixed(p *place, least int) bool {
	if p.mixed {
		return true
	}
	for _, c := range p.children {
		if c.devices >= least && anyMixed(c, least) {
			return true
		}
	}
	return false
}

// text writes lines in the platform's syntax, under the headings that lead to them.
func (w *writer) text(chain, lines []*place) string {
	var b strings.Builder
	reader := w.d.Syntax.Reader
	unit := "  "
	if reader == config.Brace {
		unit = "    "
	}
	var write func(p *place, depth int)
	write = func(p *place, depth int) {
		indent := strings.Repeat(unit, depth)
		if p.verbatim {
			b.WriteString(w.literal(p.usual()) + "\n")
			w.common++
			return
		}
		line := w.literal(p.text)
		if p.valued {
			v := w.literal(p.usual())
			if p.slot != nil {
				v = "${" + p.slot.name + "}"
				w.all = append(w.all, p)
			}
			line = w.literal(p.before) + v + w.literal(p.after)
		}
		var inner []*place
		for _, c := range p.children {
			if c.devices >= w.least {
				inner = append(inner, c)
			}
		}
		if p.group {
			for _, c := range inner {
				write(c, depth)
			}
			return
		}
		w.common++
		open, close := w.marks(line, len(p.children) > 0)
		b.WriteString(indent + open + "\n")
		for _, c := range inner {
			write(c, depth+1)
		}
		if close != "" {
			b.WriteString(indent + close + "\n")
		}
	}
	for i, p := range chain {
		open, _ := w.marks(w.literal(p.text), true)
		b.WriteString(strings.Repeat(unit, i) + open + "\n")
	}
	for _, p := range lines {
		write(p, len(chain))
	}
	for i, p := range slices.Backward(chain) {
		if _, close := w.marks(w.literal(p.text), true); close != "" {
			b.WriteString(strings.Repeat(unit, i) + close + "\n")
		}
	}
	return b.String()
}

// marks is a line as the syntax writes it: of a section, what opens and closes it.
func (w *writer) marks(line string, section bool) (open, close string) {
	name, rest, _ := strings.Cut(line, " ")
	switch w.d.Syntax.Reader {
	case config.Brace:
		if section {
			return line + " {", "}"
		}
		return line + ";", ""
	case config.XML:
		if section { // a key that stands behind the name is an element of its own
			return "<" + name + ">", "</" + name + ">"
		}
		if rest == "" {
			return "<" + name + "/>", ""
		}
		return "<" + name + ">" + rest + "</" + name + ">", ""
	case config.JSON:
		if section {
			return fmt.Sprintf("%q: {", name), "}"
		}
		return fmt.Sprintf("%q: %s", name, rest), ""
	}
	return line, ""
}

// own is the slot for a device's own name.
const own = "own-name"

func (w *writer) literal(s string) string {
	w.named = w.named || strings.Contains(s, ownName)
	return strings.ReplaceAll(strings.ReplaceAll(s, "${", "$${"), ownName, "${"+own+"}")
}

// with is how many devices have a line as a deviation has it: of what is lacking,
// how many lack it too.
func (w *writer) with(root *place, d standard.Deviation) int {
	look := func(path []string, line string) *place {
		at := root
		for _, heading := range path {
			next := at.lookup(heading)
			if next == nil {
				return nil
			}
			at = next
		}
		return at.lookup(line)
	}
	switch d.Kind {
	case standard.Lacking:
		head, _, _ := strings.Cut(d.Want, "\n")
		if p := look(d.Path, w.bare(head)); p != nil {
			return len(w.members) - p.devices
		}
	case standard.Surplus, standard.Altered:
		head, _, _ := strings.Cut(d.Have, "\n")
		bare := w.bare(head)
		if p := look(d.Path, bare); p != nil {
			if p.valued && !p.verbatim {
				return p.values[strings.TrimSuffix(strings.TrimPrefix(bare, p.before), p.after)]
			}
			if p.verbatim {
				return p.values[d.Have]
			}
			return p.devices
		}
	case standard.Moved:
		return 1
	}
	return 1
}

// bare is a line as it stands in the tree: without the marks of its syntax.
func (w *writer) bare(line string) string {
	tree := w.d.Tree(strings.TrimSpace(line) + "\n")
	var found *config.Node
	tree.Walk(func(n *config.Node) bool {
		if n.Kind != config.Group && found == nil {
			found = n
		}
		return found == nil
	})
	if found == nil {
		return line
	}
	return found.Text
}

// lookup is the line of a section that a text is of.
func (p *place) lookup(line string) *place {
	if c := p.byID["l "+line]; c != nil {
		return c
	}
	for _, c := range p.children {
		if c.group {
			if inner := c.lookup(line); inner != nil {
				return inner
			}
		}
		if c.valued && !c.verbatim && strings.HasPrefix(line, c.before) && strings.HasSuffix(line, c.after) && len(line) >= len(c.before)+len(c.after) || c.text == line || c.verbatim && strings.HasPrefix(c.text, line) {
			return c
		}
	}
	return nil
}
