package dialect

import (
	"cmp"
	"crypto/sha256"
	_ "embed" // the schema
	"encoding/hex"
	"errors"
	"io/fs"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/config"
	"vergekeep/core/form"
	"vergekeep/core/nearest"
	"vergekeep/core/pattern"
	"vergekeep/core/reason"
)

// MaxSize is how large a dialect file may be, in bytes.
const MaxSize = 256 << 10

// file mirrors the YAML form; dialect.schema.json describes it.
type file struct {
	Format int
	Name   string
	Title  string
	Maker  string
	Reach  struct {
		Channel                 Channel
		Width, Height, Port     int
		Wake                    []string
		Echo                    *bool
		Connect, Silence, Visit string
	}
	Prompts   map[string]string
	Pagers    []struct{ See, Key string }
	Errors    []fileSign
	Login     []fileSign
	Recognise struct {
		General                    bool
		Banner, Prompt, Capability string
		SysObjectID                string `yaml:"sys-object-id"`
		SysDescr                   string `yaml:"sys-descr"`
	}
	Names        map[string]string
	Conversation struct {
		Start  string
		Leave  string
		States map[string]fileState
	}
	Captures []Capture
	Clean    []struct {
		Drop      string
		DropFirst string `yaml:"drop-first"`
		DropLast  string `yaml:"drop-last"`
		Join      *struct{ Mark, Indent string }
	}
	Complete struct {
		First, Last string
		Closed      bool
		MinLines    int `yaml:"min-lines"`
	}
	Steady    []struct{ Before, After, Match string }
	Nameplate map[string]struct{ From, Match string }
	Syntax    struct {
		Reader   config.Reader
		Comment  []string
		Verbatim []struct{ Start, End string }
		Groups   []string
		Keys     map[string]string
	}
	Volatile []string
	Secrets  []struct {
		Pattern  string
		Resalted bool
	}
	Order, Values, Own []string
	References         []struct {
		Name          string
		Defined, Used []string
		Always        []string
	}
	Signals  []fileSignal
	Ask      *struct{ After, Match, Object string }
	Variants []fileVariant
}

// fileVariant says which devices it is for, and what in the file is otherwise
// for them.
type fileVariant struct {
	Name, Model, Version string
	Change               yaml.Node
}

// fileSign is an expression, or an expression with the reason that it means.
type fileSign struct{ See, Means string }

// UnmarshalYAML reads both forms.
func (s *fileSign) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		return n.Decode(&s.See)
	}
	type plain fileSign
	return n.Decode((*plain)(s))
}

type fileState struct {
	Send, RPC, Needs, Keep, Then, Otherwise string
	Get, Accept, File, By, Drop             string
	Tolerate                                bool
	Each                                    *struct{ From, Match string }
	On                                      []struct{ Prompt, See, Line, Answer, Key, Go, Fail string }
}

// SchemaText is the published JSON Schema of dialect files.
//
//go:embed dialect.schema.json
var SchemaText string

var schema = form.NewSchema(SchemaText)

// Parse reads and checks one dialect file. Its error is a [*form.Error].
func Parse(name, text string) (*Dialect, error) {
	doc, err := form.Read(name, text, "dialect", "format: 1", MaxSize)
	if err != nil {
		return nil, err
	}
	c := &checker{doc}
	d, err := c.read(text)
	if err != nil {
		return nil, err
	}
	if err := c.variants(d, text); err != nil {
		return nil, err
	}
	return d, nil
}

// read makes a dialect of the checker's document.
func (c *checker) read(text string) (*Dialect, error) {
	if !c.Check(schema) {
		return nil, c.Err()
	}
	var f file
	if err := c.Decode(&f); err != nil {
		return nil, err
	}
	d := c.build(&f)
	if err := c.Err(); err != nil {
		return nil, err
	}
	d.mark()
	d.shaped, d.own = pattern.NewSet(slices.Concat(d.Order, d.Values)...), pattern.NewSet(d.Own...)
	sum := sha256.Sum256([]byte(text))
	d.Source, d.Text, d.Version = c.File, text, hex.EncodeToString(sum[:6])
	return d, nil
}

// mark puts the patterns of what is secret and what is volatile together.
func (d *Dialect) mark() {
	patterns := make([]*pattern.Pattern, 0, len(d.Secrets)+len(d.Volatile)+len(d.aside))
	for _, s := range d.Secrets {
		patterns = append(patterns, s.Pattern)
	}
	d.marked = pattern.NewSet(slices.Concat(patterns, d.Volatile, d.aside)...)
}

// With is the dialect with some more patterns of what does not count. A line that
// holds a secret counts nevertheless: a changed secret is a change.
func (d *Dialect) With(patterns ...*pattern.Pattern) *Dialect {
	if len(patterns) == 0 {
		return d
	}
	out := *d
	out.aside = slices.Concat(d.aside, patterns)
	out.mark()
	out.Variants = slices.Clone(d.Variants)
	for i := range out.Variants {
		out.Variants[i].Dialect = d.Variants[i].Dialect.With(patterns...)
	}
	return &out
}

// checker reads one file, or a variant of it.
type checker struct{ *form.Document }

// whole compiles an expression that must match a whole line.
func (c *checker) whole(source string, path ...string) *regexp.Regexp {
	if c.Regexp(source, path...) == nil {
		return nil
	}
	return regexp.MustCompile(`^(?:` + source + `)$`)
}

func (c *checker) duration(s string, fallback time.Duration, path ...string) time.Duration {
	if s == "" {
		return fallback
	}
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 || d > 24*time.Hour {
		c.Complain(path, "%q is no time limit; write for example 30s or 10m, at most 24h", s)
	}
	return d
}

func (c *checker) build(f *file) *Dialect {
	d := &Dialect{Name: f.Name, Title: f.Title, Maker: f.Maker, Captures: f.Captures, Prompts: map[string]*regexp.Regexp{}, Nameplate: map[string]Fact{}}
	d.Reach = Reach{
		Channel: f.Reach.Channel, Width: f.Reach.Width, Height: f.Reach.Height, Echo: f.Reach.Echo == nil || *f.Reach.Echo,
		Connect: c.duration(f.Reach.Connect, 15*time.Second, "reach", "connect"),
		Silence: c.duration(f.Reach.Silence, 45*time.Second, "reach", "silence"),
		Visit:   c.duration(f.Reach.Visit, 2*time.Hour, "reach", "visit"),
	}
	d.Reach.Wake, d.Reach.Port = f.Reach.Wake, f.Reach.Port
	if len(d.Reach.Wake) == 0 {
		d.Reach.Wake = []string{"\x15", "\r"}
	}
	if d.Reach.Width == 0 {
		d.Reach.Width = 32767
	}
	if d.Reach.Height == 0 {
		d.Reach.Height = 24
	}
	for name, source := range f.Prompts {
		d.Prompts[name] = c.whole(source, "prompts", name)
	}
	for i, p := range f.Pagers {
		d.Pagers = append(d.Pagers, Pager{c.whole(p.See, "pagers", strconv.Itoa(i), "see"), p.Key})
	}
	d.Errors = c.signs(f.Errors, reason.DeviceError, "errors")
	d.Login = c.signs(f.Login, reason.CredentialRefused, "login")
	d.Recognise = Recognise{
		Banner: c.Regexp(f.Recognise.Banner, "recognise", "banner"), Prompt: c.Regexp(f.Recognise.Prompt, "recognise", "prompt"),
		Capability: c.Regexp(f.Recognise.Capability, "recognise", "capability"), SysDescr: c.Regexp(f.Recognise.SysDescr, "recognise", "sys-descr"),
		SysObjectID: f.Recognise.SysObjectID, General: f.Recognise.General,
	}
	d.Names = map[string]*pattern.Pattern{}
	for name, source := range f.Names {
		d.Names[name] = c.Pattern(source, "names", name)
	}
	for i, t := range f.Clean {
		at := strconv.Itoa(i)
		out := Transform{
			Drop:      c.Regexp(t.Drop, "clean", at, "drop"),
			DropFirst: c.Regexp(t.DropFirst, "clean", at, "drop-first"),
			DropLast:  c.Regexp(t.DropLast, "clean", at, "drop-last"),
		}
		if t.Join != nil {
			out.Join = &Join{c.Regexp(t.Join.Mark, "clean", at, "join", "mark"), c.Regexp(t.Join.Indent, "clean", at, "join", "indent")}
		}
		d.Clean = append(d.Clean, out)
	}
	d.Complete = Complete{
		First: c.Regexp(f.Complete.First, "complete", "first"), Last: c.Regexp(f.Complete.Last, "complete", "last"),
		Closed: f.Complete.Closed, MinLines: f.Complete.MinLines,
	}
	d.Syntax = config.Syntax{Reader: f.Syntax.Reader, Comment: f.Syntax.Comment, Keys: f.Syntax.Keys}
	for i, v := range f.Syntax.Verbatim {
		d.Syntax.Verbatim = append(d.Syntax.Verbatim, config.VerbatimRule{Start: c.Regexp(v.Start, "syntax", "verbatim", strconv.Itoa(i), "start"), End: v.End})
	}
	for _, g := range f.Syntax.Groups {
		d.Syntax.Groups = append(d.Syntax.Groups, strings.Fields(g))
	}
	patterns := func(list []string, at string) (out []*pattern.Pattern) {
		for i, source := range list {
			out = append(out, c.Pattern(source, at, strconv.Itoa(i)))
		}
		return out
	}
	d.Volatile, d.Order, d.Own = patterns(f.Volatile, "volatile"), patterns(f.Order, "order"), patterns(f.Own, "own")
	d.Values = patterns(f.Values, "values")
	for i, p := range d.Values {
		if p != nil && !slices.Contains(p.Captures(), "value") {
			c.Complain([]string{"values", strconv.Itoa(i)}, "it captures nothing as {value} or {value..}")
		}
	}
	for i, s := range f.Secrets {
		at := []string{"secrets", strconv.Itoa(i), "pattern"}
		p := c.Pattern(s.Pattern, at...)
		if p != nil && !strings.Contains(strings.Join(p.Captures(), " "), "secret") && !strings.HasSuffix(s.Pattern, "**") {
			c.Complain(at, "it captures nothing as {secret} and takes no whole block with **")
		}
		d.Secrets = append(d.Secrets, Secret{p, s.Resalted})
	}
	c.conversation(f, d)
	for field, fact := range f.Nameplate {
		re := c.Regexp(fact.Match, "nameplate", field, "match")
		if re != nil && re.NumSubexp() < 1 {
			c.Complain([]string{"nameplate", field, "match"}, "it needs one group ( ) around the value")
			re = nil
		}
		if re != nil {
			d.Nameplate[field] = Fact{fact.From, re}
		}
		c.kept(f, fact.From, "nameplate", field, "from")
	}
	for i, s := range f.Steady {
		at := strconv.Itoa(i)
		re := c.Regexp(s.Match, "steady", at, "match")
		if re != nil && re.NumSubexp() < 1 {
			c.Complain([]string{"steady", at, "match"}, "it needs one group ( ) around the value")
			re = nil
		}
		c.kept(f, s.Before, "steady", at, "before")
		c.kept(f, s.After, "steady", at, "after")
		if re != nil {
			d.Steady = append(d.Steady, Steady{Fact{s.Before, re}, Fact{s.After, re}})
		}
	}
	for i, capture := range f.Captures {
		c.kept(f, capture.From, "captures", strconv.Itoa(i), "from")
	}
	for i, r := range f.References {
		at := []string{"references", strconv.Itoa(i)}
		out := Reference{Name: r.Name, Always: r.Always}
		for _, side := range []struct {
			key  string
			list []string
			into *[]*pattern.Pattern
		}{{"defined", r.Defined, &out.Defined}, {"used", r.Used, &out.Used}} {
			for j, source := range side.list {
				p := c.Pattern(source, slices.Concat(at, []string{side.key, strconv.Itoa(j)})...)
				if p != nil && !slices.Contains(p.Captures(), "name") && !slices.Contains(p.Captures(), "names") {
					c.Complain(slices.Concat(at, []string{side.key, strconv.Itoa(j)}), "it captures nothing as {name} or {names..}")
				}
				*side.into = append(*side.into, p)
			}
		}
		d.References = append(d.References, out)
	}
	c.signals(f, d)
	return d
}

func (c *checker) signs(list []fileSign, usual reason.Code, at string) []Sign {
	var out []Sign
	for i, s := range list {
		sign := Sign{c.Regexp(s.See, at, strconv.Itoa(i)), usual}
		if s.Means != "" {
			sign.Means = c.code(s.Means, at, strconv.Itoa(i), "means")
		}
		out = append(out, sign)
	}
	return out
}

// code complains of a reason that there is not.
func (c *checker) code(s string, path ...string) reason.Code {
	if reason.Code(s).Advice() == "" {
		var codes []string
		for _, code := range reason.Codes() {
			codes = append(codes, string(code))
		}
		c.Complain(path, "%q is no reason code.%s", s, nearest.Hint(s, codes))
	}
	return reason.Code(s)
}

// kept complains where no state keeps an answer of that name.
func (c *checker) kept(f *file, name string, path ...string) {
	var names []string
	for _, s := range f.Conversation.States {
		if s.Keep == name {
			return
		}
		if s.Keep != "" {
			names = append(names, s.Keep)
		}
	}
	sort.Strings(names)
	c.Complain(path, "no state keeps an answer as %q; kept are %s", name, strings.Join(names, ", "))
}

func (c *checker) conversation(f *file, d *Dialect) {
	conv := Conversation{Start: f.Conversation.Start, Leave: f.Conversation.Leave, States: map[string]*State{}}
	names := []string{Done}
	for name := range f.Conversation.States {
		names = append(names, name)
	}
	sort.Strings(names)
	reached := map[string]bool{conv.Start: true}
	known := func(target string, path ...string) {
		if target == "" {
			return
		}
		reached[target] = true
		if _, ok := f.Conversation.States[target]; !ok && target != Done {
			c.Complain(path, "there is no state %q.%s", target, nearest.Hint(target, names))
		}
	}
	known(conv.Start, "conversation", "start")
	for name, s := range f.Conversation.States {
		at := []string{"conversation", "states", name}
		sub := func(more ...string) []string { return append(append([]string(nil), at...), more...) }
		if name == Done {
			c.Complain(at, "%q is where a conversation ends; give this state another name", Done)
		}
		state := &State{Name: name, Send: s.Send, RPC: s.RPC, Needs: s.Needs, Keep: s.Keep, Tolerate: s.Tolerate, Then: s.Then, Otherwise: s.Otherwise,
			Get: s.Get, Accept: s.Accept, File: s.File, By: cmp.Or(s.By, "sftp"), Drop: s.Drop}
		known(s.Then, sub("then")...)
		known(s.Otherwise, sub("otherwise")...)
		if s.Each != nil {
			state.Each = &Each{s.Each.From, c.Regexp(s.Each.Match, sub("each", "match")...)}
			c.kept(f, s.Each.From, sub("each", "from")...)
			if state.Each.Match != nil && state.Each.Match.NumSubexp() < 1 {
				c.Complain(sub("each", "match"), "it needs one group ( ) around the item")
			}
		}
		if (s.Each != nil || s.Needs != "") && s.Otherwise == "" {
			c.Complain(at, "it needs an 'otherwise': where to go when there is nothing to do here")
		}
		for i, r := range s.On {
			ruleAt := sub("on", strconv.Itoa(i))
			rule := Rule{Prompt: r.Prompt, Answer: r.Answer, Key: r.Key, Go: r.Go, Fail: r.Fail}
			rule.See = c.Regexp(r.See, append(ruleAt, "see")...)
			rule.Line = c.Regexp(r.Line, append(ruleAt, "line")...)
			if r.Prompt != "" && f.Prompts[r.Prompt] == "" {
				var prompts []string
				for p := range f.Prompts {
					prompts = append(prompts, p)
				}
				c.Complain(append(ruleAt, "prompt"), "there is no prompt %q.%s", r.Prompt, nearest.Hint(r.Prompt, prompts))
			}
			known(r.Go, append(ruleAt, "go")...)
			if r.Fail != "" {
				c.code(r.Fail, append(ruleAt, "fail")...)
			}
			state.On = append(state.On, rule)
		}
		switch {
		case f.Reach.Channel == Pty && len(s.On) == 0 && s.Each == nil:
			c.Complain(at, "on a pty a state needs 'on': what to do when something comes back")
		case f.Reach.Channel != Pty && s.Then == "":
			c.Complain(at, "on this channel a state needs 'then': where to go when the answer is there")
		case f.Reach.Channel == Netconf && s.RPC == "":
			c.Complain(at, "on netconf a state needs 'rpc'")
		case f.Reach.Channel == Exec && s.Send == "" && s.File == "":
			c.Complain(at, "on exec a state needs 'send' or 'file'")
		case f.Reach.Channel == HTTPS && s.Get == "":
			c.Complain(at, "on https a state needs 'get'")
		case s.Drop != "" && !strings.Contains(s.Send, "${drop}"):
			c.Complain(at, "with 'drop' it must send a command that holds ${drop}: where the device copies the file to")
		}
		conv.States[name] = state
	}
	for name := range f.Conversation.States {
		if !reached[name] {
			c.Complain([]string{"conversation", "states", name}, "no other state leads here")
		}
	}
	if !reached[Done] {
		c.Complain([]string{"conversation"}, "no state goes to %q, so the conversation never ends well", Done)
	}
	if f.Reach.Channel == Pty && conv.Leave == "" {
		c.Complain([]string{"conversation"}, "it needs a 'leave': the line that logs out")
	}
	d.Conversation = conv
}

// Set is the dialects that the service knows, by name.
type Set map[string]*Dialect

// Names lists them in order.
func (s Set) Names() []string {
	names := make([]string, 0, len(s))
	for n := range s {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// Load reads the built-in dialects and then every .yaml file of each folder; a
// later one replaces an earlier one of the same name. It reads on after a
// faulty file, and returns what is good together with what is wrong.
func Load(folders ...fs.FS) (Set, error) {
	set := Set{}
	var wrong form.Error
	for _, folder := range append([]fs.FS{Builtin()}, folders...) {
		names, err := fs.Glob(folder, "*.yaml")
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			text, err := fs.ReadFile(folder, name)
			if err != nil {
				return nil, err
			}
			d, err := Parse(name, string(text))
			var fault *form.Error
			if errors.As(err, &fault) {
				wrong.Complaints = append(wrong.Complaints, fault.Complaints...)
				continue
			}
			set[d.Name] = d
		}
	}
	if len(wrong.Complaints) > 0 {
		return set, &wrong
	}
	return set, nil
}
