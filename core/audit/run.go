package audit

import (
	"fmt"
	"slices"
	"strings"

	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/pattern"
	"vergekeep/core/selector"
)

// Subject is the device that a configuration is of.
type Subject interface {
	selector.Subject
}

// Kept is how a configuration is kept, for rules that ask that.
type Kept struct {
	Freshness   string // fresh, late, stale, no capture yet
	Baseline    bool   // there is one
	Unsaved     bool   // running is not what startup is
	OldestOpen  int64  // seconds since the oldest change without a verdict was found; 0 for none
	OpenChanges int
}

// Input is one configuration to be audited.
type Input struct {
	Subject Subject
	View    dialect.View
	Kept    *Kept // nil: rules about the keeping are not applicable
	Main    bool  // it is the part that rules about the device as a whole are told of
}

// Offer is what a configuration says for a rule that looks across devices: values
// that have to be unique, or what has to agree for a key.
type Offer struct {
	Rule       *Rule
	Key, Value string // Value is "" for one that has to be unique
	Proof      Proof
}

// maxOffers bounds what one configuration says for one rule.
const maxOffers = 5000

// Run audits one configuration. Rules that look across devices pass here, and give
// offers; [Across] says what becomes of them.
func (p *Program) Run(in Input) (results []Result, offers []Offer) {
	shown := &mask{view: in.View, dialect: p.dialect}
	hits := map[*book][][]pattern.Match{}
	for _, b := range []*book{p.open, p.secret} {
		found := make([][]pattern.Match, len(b.list))
		if len(b.list) > 0 {
			b.set.Find(in.View.Tree, func(i int, m pattern.Match) {
				// Where a secret stands only its mask may be matched.
				if b == p.open && shown.hides(m.Node) {
					is := false
					if m, is = shown.again(b.list[i], m.Node); !is {
						return
					}
				}
				found[i] = append(found[i], m)
			})
		}
		hits[b] = found
	}
	shared := map[*book]map[string]*sectionSet{p.open: {}, p.secret: {}}
	results = make([]Result, 0, len(p.rules))
	var device map[string]any
	for i := range p.rules {
		r := &p.rules[i]
		out := Result{Rule: r.rule, Outcome: Pass}
		switch {
		case !r.rule.Applies.Match(in.Subject):
			out.Outcome, out.Why = NotApplicable, "the rule is not for this device"
		case r.rule.keeping != nil:
			out.keeping(r.rule.keeping, in)
		case r.check == nil:
			out.Outcome, out.Why = NotApplicable, r.why
		default:
			if device == nil {
				device = describe(in.Subject)
			}
			b := p.open
			if r.rule.Secrets {
				b = p.secret
			}
			run := run{Result: &out, c: r.check, shown: shown, hits: hits[b], device: device, shared: shared[b]}
			run.all()
			offers = append(offers, run.offers...)
		}
		results = append(results, out)
	}
	return results, offers
}

func describe(s Subject) map[string]any {
	first := func(key string) string {
		if v := s.Field(key); len(v) > 0 {
			return v[0]
		}
		return ""
	}
	out := map[string]any{"labels": s.Field("label")}
	for _, key := range []string{"name", "site", "role", "platform", "model", "version", "serial"} {
		out[key] = first(key)
	}
	return out
}

func (r *Result) keeping(k *Keeping, in Input) {
	if in.Kept == nil || !in.Main {
		r.Outcome, r.Why = NotApplicable, "how it is kept is not known here"
		return
	}
	bad := ""
	switch k.What {
	case "fresh":
		if in.Kept.Freshness != "fresh" && in.Kept.Freshness != "late" {
			bad = "its last good capture is older than promised: it is " + in.Kept.Freshness
		}
	case "baseline":
		if !in.Kept.Baseline {
			bad = "it has no baseline"
		}
	case "saved":
		if in.Kept.Unsaved {
			bad = "what runs was not saved: after a restart the device comes up otherwise"
		}
	case "judged":
		if in.Kept.OldestOpen > int64(k.Older.Seconds()) {
			bad = fmt.Sprintf("%s for a verdict; the oldest was found %s ago", said(in.Kept.OpenChanges, "change waits", "changes wait"), days(in.Kept.OldestOpen))
		}
	}
	if bad != "" {
		r.Why = bad
		r.fail(Proof{Says: bad})
	}
}

func days(seconds int64) string {
	if n := seconds / 86400; n != 1 {
		return fmt.Sprintf("%d days", n)
	}
	return "1 day"
}

// mask is a configuration as it may be shown. The text with its secrets masked is
// only parsed where one of them stands in what was found.
type mask struct {
	view    dialect.View
	dialect *dialect.Dialect
	tree    *config.Tree
}

// hides reports whether a secret stands on a node's lines, or in a heading above.
func (k *mask) hides(n *config.Node) bool {
	if len(k.view.Secret) == 0 || k.dialect == nil {
		return false
	}
	for ; n != nil; n = n.Parent {
		last := n.Line
		if n.Kind == config.Verbatim {
			last = n.LastLine
		}
		for line := n.Line; line <= last; line++ {
			if k.view.Secret[int(line)] {
				return true
			}
		}
	}
	return false
}

func (k *mask) masked() *config.Tree {
	if k.tree == nil {
		k.tree = k.dialect.Tree(k.view.Masked())
	}
	return k.tree
}

// again matches a pattern against the masked text's node in the place of one.
func (k *mask) again(p *pattern.Pattern, n *config.Node) (m pattern.Match, is bool) {
	t := k.masked()
	at := t.NodeAt(int(n.Line))
	if at == nil || at.Line != n.Line {
		return m, false
	}
	pattern.NewSet(p).FindAt(t, at, func(_ int, found pattern.Match) { m, is = found, true })
	m.Node = n // it is known by its node in the text as it is
	return m, is
}

// PathAt and LineAt are the headings above a line, and the line, without secrets.
func (k *mask) PathAt(line int) []string {
	if n := k.view.Tree.NodeAt(line); n != nil && k.hides(n) {
		return k.masked().PathAt(line)
	}
	return k.view.Tree.PathAt(line)
}

func (k *mask) LineAt(line int) string {
	if k.dialect != nil && k.view.Secret[line] {
		return k.masked().LineAt(line)
	}
	return k.view.Tree.LineAt(line)
}

// run is one check on one configuration.
type run struct {
	*Result
	c      *compiled
	shown  *mask
	hits   [][]pattern.Match
	device map[string]any
	shared map[string]*sectionSet // by for-each; of one configuration
	offers []Offer
}

// section is one of what for-each finds: a node, or all lines with the same captured
// values.
type section struct {
	nodes []*config.Node
	first pattern.Match
	at    int // its place among the sections
	set   *sectionSet
}

// captured is what the section captured.
func (s *section) captured() map[string]string { return values(s.first) }

// sectionSet is the sections of one for-each, which checks with the same one share.
type sectionSet struct {
	list   []section
	byNode map[*config.Node][]int32
	// mine are the matches of a pattern that are in each section, by the pattern's
	// place in the book.
	mine map[int][][]pattern.Match
}

// most bounds the sections of one configuration that are looked into.
const most = 20_000

func (r *run) all() {
	for _, w := range r.c.ifHas {
		if len(r.hits[w.at]) == 0 {
			r.Outcome, r.Why = NotApplicable, "there is no "+w.said()
			return
		}
	}
	for _, w := range r.c.ifLacks {
		if len(r.hits[w.at]) > 0 {
			r.Outcome, r.Why = NotApplicable, "there is "+w.said()
			return
		}
	}
	if r.c.when != nil {
		if ok, err := r.c.when.truth(r.variables(nil)); err != nil {
			r.undecidable(err)
			return
		} else if !ok {
			r.Outcome, r.Why = NotApplicable, "what it depends on does not hold"
			return
		}
	}
	r.references()
	if len(r.c.each) == 0 {
		r.one(nil)
	} else {
		sections := r.sections().list
		looked := 0
		for i := range sections {
			is, err := r.meant(&sections[i])
			if err != nil {
				r.undecidable(err)
				return
			}
			if is {
				looked++
				r.one(&sections[i])
			}
		}
		if looked == 0 && r.Outcome == Pass {
			r.Outcome, r.Why = NotApplicable, "there is nothing here that it is about"
		}
	}
	r.sum()
}

func (r *run) undecidable(err error) {
	if r.Outcome == Fail {
		return
	}
	r.Outcome, r.Why = Undecidable, err.Error()
	if r.Rule.Secrets { // the error may quote what the expression looked at
		r.Why = "its expression cannot be evaluated here"
	}
}

// sections is what for-each finds, in the order of the text.
func (r *run) sections() *sectionSet {
	key := ""
	for _, w := range r.c.each {
		key += fmt.Sprint(w.at, " ")
	}
	set := r.shared[key]
	if set == nil {
		set = r.find()
		r.shared[key] = set
	}
	// Which matches are whose.
	once := func(w wanted) {
		if w.pattern != nil && set.mine[w.at] == nil {
			set.mine[w.at] = r.assign(set, w)
		}
	}
	for _, group := range [][]wanted{r.c.has, r.c.lacks, r.c.require, r.c.forbid, r.c.order, r.c.are} {
		for _, w := range group {
			once(w)
		}
	}
	for _, w := range []*wanted{r.c.of, r.c.count} {
		if w != nil {
			once(*w)
		}
	}
	for _, n := range r.c.letNames {
		once(r.c.let[n])
	}
	return set
}

func (r *run) find() *sectionSet {
	var matches []pattern.Match
	for _, w := range r.c.each {
		matches = append(matches, r.hits[w.at]...)
	}
	if len(r.c.each) > 1 {
		slices.SortStableFunc(matches, func(a, b pattern.Match) int { return int(a.Node.Line - b.Node.Line) })
	}
	set := &sectionSet{list: make([]section, 0, len(matches)), byNode: make(map[*config.Node][]int32, len(matches)), mine: map[int][][]pattern.Match{}}
	byKey := make(map[string]int, len(matches))
	for _, m := range matches {
		at := -1
		if len(m.Captured) > 0 {
			key := joined(m, r.c.names)
			if known, ok := byKey[key]; ok {
				at = known
			} else {
				byKey[key] = len(set.list)
			}
		}
		if at < 0 {
			if len(set.list) >= most {
				break
			}
			at = len(set.list)
			set.list = append(set.list, section{first: m, at: at, set: set})
		}
		set.list[at].nodes = append(set.list[at].nodes, m.Node)
		set.byNode[m.Node] = append(set.byNode[m.Node], int32(at))
	}
	return set
}

// assign says which matches of a pattern are in which section.
func (r *run) assign(set *sectionSet, w wanted) [][]pattern.Match {
	mine := make([][]pattern.Match, len(set.list))
	switch {
	case w.up >= 0:
		hits := r.hits[w.at]
		for from := 0; from < len(hits); {
			// Those of one section mostly lie one after the other.
			node := above(hits[from].Node, w.up)
			to := from + 1
			for to < len(hits) && above(hits[to].Node, w.up) == node {
				to++
			}
			for _, i := range set.byNode[node] {
				if mine[i] == nil {
					mine[i] = hits[from:to:to]
				} else {
					mine[i] = append(mine[i], hits[from:to]...)
				}
			}
			from = to
		}
	case len(w.shared) > 0:
		by := map[string][]pattern.Match{}
		for _, m := range r.hits[w.at] {
			key := joined(m, w.shared)
			by[key] = append(by[key], m)
		}
		for i := range set.list {
			mine[i] = by[joined(set.list[i].first, w.shared)]
		}
	default:
		for i := range mine {
			mine[i] = r.hits[w.at]
		}
	}
	return mine
}

func values(m pattern.Match) map[string]string {
	if len(m.Captured) == 0 {
		return nil
	}
	out := make(map[string]string, len(m.Captured))
	for _, c := range m.Captured {
		out[c.Name] = c.Text
	}
	return out
}

// joined is what a match captured under some names, as a key.
func joined(m pattern.Match, names []string) string {
	if len(names) == 1 {
		w, _ := m.Get(names[0])
		return w.Text
	}
	var b strings.Builder
	for _, n := range names {
		w, _ := m.Get(n)
		b.WriteString(w.Text)
		b.WriteByte(0)
	}
	return b.String()
}

// above is the node so many headings up, sections that only the reader sees left out.
func above(n *config.Node, up int) *config.Node {
	for range up {
		if n = n.Parent; n == nil {
			return nil
		}
		for n != nil && n.Kind == config.Group {
			n = n.Parent
		}
	}
	return n
}

func (r *run) found(s *section, w wanted) []pattern.Match {
	if s == nil {
		return r.hits[w.at]
	}
	return s.set.mine[w.at][s.at]
}

// meant reports whether a section is one of those that the check is about.
func (r *run) meant(s *section) (bool, error) {
	for _, w := range r.c.has {
		if len(r.found(s, w)) == 0 {
			return false, nil
		}
	}
	for _, w := range r.c.lacks {
		if len(r.found(s, w)) > 0 {
			return false, nil
		}
	}
	if r.c.where == nil {
		return true, nil
	}
	return r.c.where.truth(r.variables(s))
}

func (r *run) variables(s *section) map[string]any {
	vars := map[string]any{"device": r.device}
	for _, n := range r.c.names {
		vars[n] = ""
	}
	if s != nil {
		for n, v := range s.captured() {
			vars[n] = v
		}
	}
	for _, n := range r.c.letNames {
		found := r.found(s, r.c.let[n])
		list := make([]string, len(found))
		for i, m := range found {
			w, _ := m.Get("value")
			list[i] = w.Text
		}
		vars[n] = list
	}
	return vars
}

// place is where a section is, for a proof of something that lacks.
func (r *run) place(s *section, says string) Proof {
	if s == nil {
		return Proof{Says: says}
	}
	p := r.proof(s.nodes[0], says)
	p.LastLine = int(s.nodes[len(s.nodes)-1].LastLine)
	return p
}

func (r *run) proof(n *config.Node, says string) Proof {
	p := Proof{Line: int(n.Line), LastLine: int(n.LastLine), Says: says, Path: r.shown.PathAt(int(n.Line))}
	p.Text = strings.TrimSpace(r.shown.LineAt(int(n.Line)))
	if len(n.Children) > 0 && n.Kind == config.Section {
		p.LastLine = p.Line
	}
	return p
}

// one holds a section, or the whole configuration, against the check.
func (r *run) one(s *section) {
	for _, w := range r.c.require {
		if len(r.found(s, w)) == 0 {
			r.fail(r.place(s, "lacks "+w.said()))
		}
	}
	for _, w := range r.c.forbid {
		for _, m := range r.found(s, w) {
			r.fail(r.proof(m.Node, "must not be there"))
		}
	}
	if r.c.of != nil {
		r.exactly(s)
	}
	if len(r.c.order) > 0 {
		r.ordered(s)
	}
	if c := r.c.Count; c != nil {
		n := len(r.found(s, *r.c.count))
		what := r.c.count.said()
		switch {
		case c.AtLeast != nil && n < *c.AtLeast:
			r.fail(r.place(s, fmt.Sprintf("has %d of %s; at least %d have to be there", n, what, *c.AtLeast)))
		case c.AtMost != nil && n > *c.AtMost:
			for _, m := range r.found(s, *r.c.count)[*c.AtMost:] {
				r.fail(r.proof(m.Node, fmt.Sprintf("is one of %d; at most %d may be there", n, *c.AtMost)))
			}
		}
	}
	if r.c.expect != nil {
		switch ok, err := r.c.expect.truth(r.variables(s)); {
		case err != nil:
			r.undecidable(err)
		case !ok:
			r.unexpected(s)
		}
	}
	if r.c.unique != nil || r.c.key != nil {
		r.offer(s)
	}
}

// unexpected proves an expression that does not hold by what it looked at.
func (r *run) unexpected(s *section) {
	says := r.c.Says
	if says == "" {
		says = "does not hold: " + r.c.Expect
	}
	var nodes []*config.Node
	for _, n := range r.c.letNames {
		for _, m := range r.found(s, r.c.let[n]) {
			if !slices.Contains(nodes, m.Node) {
				nodes = append(nodes, m.Node)
			}
		}
	}
	if len(nodes) == 0 {
		r.fail(r.place(s, says))
		return
	}
	for _, n := range nodes {
		r.fail(r.proof(n, says))
	}
}

func (r *run) exactly(s *section) {
	are := map[*config.Node]bool{}
	for _, w := range r.c.are {
		found := r.found(s, w)
		if len(found) == 0 {
			r.fail(r.place(s, "lacks "+w.said()))
		}
		for _, m := range found {
			are[m.Node] = true
		}
	}
	for _, m := range r.found(s, *r.c.of) {
		if m.Node.Kind != config.Comment && !are[m.Node] {
			r.fail(r.proof(m.Node, "is one too many"))
		}
	}
}

// ordered wants the first match of each pattern to stand behind that of the one
// before.
func (r *run) ordered(s *section) {
	var last pattern.Match
	before := ""
	for _, w := range r.c.order {
		found := r.found(s, w)
		what := w.said()
		if len(found) == 0 {
			r.fail(r.place(s, "lacks "+what))
			continue
		}
		m := found[0]
		if last.Node != nil && m.Node.Line <= last.Node.Line {
			r.fail(r.proof(m.Node, "has to stand behind "+before))
			continue
		}
		last, before = m, what
	}
}

func (r *run) offer(s *section) {
	vars := r.variables(s)
	at := r.place(s, "")
	add := func(key, value string) {
		if key != "" && len(r.offers) < maxOffers {
			r.offers = append(r.offers, Offer{Rule: r.Rule, Key: key, Value: value, Proof: at})
		}
	}
	if r.c.unique != nil {
		list, err := r.c.unique.texts(vars)
		if err != nil {
			r.undecidable(err)
		}
		for _, v := range list {
			add(v, "")
		}
		return
	}
	keys, err := r.c.key.texts(vars)
	if err != nil {
		r.undecidable(err)
		return
	}
	list, err := r.c.value.texts(vars)
	if err != nil {
		r.undecidable(err)
		return
	}
	for _, k := range keys {
		add(k, strings.Join(list, ", "))
	}
}

// references looks for names that are used and defined nowhere, or the other way
// round.
func (r *run) references() {
	for _, k := range r.c.kinds {
		gather := func(list []wanted) (known map[string]bool, in []pattern.Match) {
			known = map[string]bool{}
			for _, w := range list {
				for _, m := range r.hits[w.at] {
					for _, n := range namesOf(m) {
						known[n] = true
					}
					in = append(in, m)
				}
			}
			return known, in
		}
		defined, definitions := gather(k.defined)
		used, uses := gather(k.used)
		against, where, says := defined, uses, "is used, and nothing defines it"
		if k.unused {
			against, where, says = used, definitions, "is defined, and nothing uses it"
		}
		told := map[string]bool{}
		for _, m := range where {
			for _, n := range namesOf(m) {
				if !against[n] && !told[n] && !k.always[n] {
					told[n] = true
					if r.Rule.Secrets {
						n = "here"
					}
					r.fail(r.proof(m.Node, fmt.Sprintf("the %s %s %s", k.kind, n, says)))
				}
			}
		}
	}
}

// namesOf is the names that a match of a reference captured: one word, or several.
func namesOf(m pattern.Match) []string {
	if w, ok := m.Get("name"); ok {
		return []string{strings.Trim(w.Text, `"'`)}
	}
	var list []string
	names, _ := m.Get("names")
	for _, f := range strings.Fields(names.Text) {
		if f = strings.Trim(f, `"'[](),;`); f != "" {
			list = append(list, f)
		}
	}
	return list
}
