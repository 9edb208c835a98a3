// Package dialect holds what Verge Keep knows about a platform, as data: how
// to talk to it (prompts, pagers, a bounded table of conversation states),
// how its configurations are written (a reader of core/config with
// parameters), which signs show that a capture is complete, what in it changes
// by itself, and what is secret.
//
// A dialect is a YAML file that a network engineer writes; docs/dialects.md
// teaches how and dialect.schema.json describes the form. [Parse] checks one
// and says file and line of everything that is wrong. [Load] reads the built-in
// ones and then a folder of the user's, which may replace a built-in one.
package dialect

import (
	"regexp"
	"time"

	"vergekeep/core/config"
	"vergekeep/core/pattern"
	"vergekeep/core/reason"
)

// Dialect describes one platform. It is immutable once loaded.
type Dialect struct {
	Name    string
	Title   string
	Maker   string
	Variant string // which of the file's variants this is; "" for the file itself
	Source  string // where it was loaded from
	Version string // short fingerprint of the file's contents
	Text    string // the file itself

	Reach        Reach
	Prompts      map[string]*regexp.Regexp
	Pagers       []Pager
	Errors       []Sign // error answers
	Login        []Sign // refusals before it lets us in
	Recognise    Recognise
	Names        map[string]*pattern.Pattern // neutral names
	Conversation Conversation
	Captures     []Capture
	Clean        []Transform
	Complete     Complete
	Steady       []Steady
	Nameplate    map[string]Fact
	Syntax       config.Syntax
	Volatile     []*pattern.Pattern
	Secrets      []Secret
	Order        []*pattern.Pattern // lines whose order among each other counts
	Values       []*pattern.Pattern // what is captured is the value; the rest says which line it is
	Own          []*pattern.Pattern // what each device has of its own
	References   []Reference

	Signals []Signal
	Ask     *Question // nil: there is no cheap one

	Variants []Variant

	aside  []*pattern.Pattern // of what does not count besides, see [Dialect.With]
	marked *pattern.Set       // the patterns of Secrets, then those of Volatile, then those of aside
	shaped *pattern.Set       // the patterns of Order, then those of Values
	own    *pattern.Set
}

// Channel is how a dialect's commands reach the device.
type Channel string

// The channels.
const (
	Exec    Channel = "exec"    // one SSH exec request a command
	Pty     Channel = "pty"     // a shell on a pseudo-terminal
	Netconf Channel = "netconf" // the NETCONF subsystem (RFC 6242)
	HTTPS   Channel = "https"   // HTTPS, RESTCONF (RFC 8040) among it
)

// Reach is how a device of this platform is reached, with time limits.
type Reach struct {
	Channel Channel
	Width   int  // columns of the pseudo-terminal
	Height  int  // rows
	Echo    bool // the device repeats what is typed
	Port    int  // where the record gives none; 0 for the protocol's own
	Wake    []string
	Connect time.Duration
	Silence time.Duration
	Visit   time.Duration
}

// Sign is a text with the reason that it means.
type Sign struct {
	See   *regexp.Regexp
	Means reason.Code
}

// Recognise is how a device of the platform is told at first sight; what is nil
// or empty says nothing.
type Recognise struct {
	General     bool           // it fits many platforms
	Banner      *regexp.Regexp // what it says before or after the login
	Prompt      *regexp.Regexp
	Capability  *regexp.Regexp // one of its NETCONF capabilities
	SysObjectID string         // SNMP: a prefix
	SysDescr    *regexp.Regexp
}

// Pager is a halt in the output that goes on at a key.
type Pager struct {
	See *regexp.Regexp // the whole unfinished last line
	Key string
}

// Done is the name of the state that ends a conversation well.
const Done = "done"

// Conversation is a bounded table of states.
type Conversation struct {
	Start  string
	Leave  string // the line that logs out
	States map[string]*State
}

// State is one step: something is sent on entering it, and what comes back
// decides where to go.
type State struct {
	Name      string
	Send      string // a line
	RPC       string // netconf: the operation element
	Get       string // https: a path
	Accept    string // https: the media type asked for
	File      string // exec: a file to fetch instead of a command
	By        string // how File is fetched: sftp or scp
	Drop      string // sftp or tftp: the answer is what the device copies to us
	Needs     string // netconf: a capability without which the state is left by Otherwise
	Keep      string // the name under which the answer is kept
	Tolerate  bool   // an error answer is an empty answer
	Then      string // exec and netconf: where to go when the answer is there
	Otherwise string // where to go when Needs is lacking or Each has no more items
	Each      *Each
	On        []Rule
}

// Each makes a state run once for each match in an answer kept before. The
// match's first group is ${item}.
type Each struct {
	From  string
	Match *regexp.Regexp
}

// Rule is one reaction. Exactly one of Prompt, See and Line says to what.
type Rule struct {
	Prompt string         // name of a prompt: it stands alone on the unfinished last line
	See    *regexp.Regexp // matched against the unfinished last line
	Line   *regexp.Regexp // matched against each finished line since the state began

	Answer string // a line to send that the device does not repeat
	Key    string // bytes to send without a line end
	Go     string
	Fail   string // a reason code
}

// Capture says which kept answer is which configuration.
type Capture struct {
	Datastore string
	Part      string // "${item}" for one part each
	From      string
	Optional  bool   // a visit without it is good all the same
	Convert   string // how its bytes become text, or ""
}

// Transform is one step of cleaning; exactly one field is set.
type Transform struct {
	Drop      *regexp.Regexp // lines, anywhere
	DropFirst *regexp.Regexp // lines at the start, as long as they match
	DropLast  *regexp.Regexp // lines at the end, as long as they match
	Join      *Join
}

// Join puts a line that the device wrapped together again.
type Join struct {
	Mark   *regexp.Regexp // at the end of a line that goes on; what it matches is taken away
	Indent *regexp.Regexp // at the start of the continuation; likewise
}

// Complete is the signs by which a capture is known to be whole.
type Complete struct {
	First    *regexp.Regexp // the first line that is not blank
	Last     *regexp.Regexp // the last one
	Closed   bool           // every section and block is closed, and nothing else
	MinLines int
}

// Fact is one field of the nameplate: the first group of Match in the answer
// kept as From.
type Fact struct {
	From  string
	Match *regexp.Regexp
}

// Steady is a fact that must be the same before and after the configuration
// was read.
type Steady struct{ Before, After Fact }

// NameplateFields are the facts that a dialect can name.
var NameplateFields = []string{"name", "serial", "model", "version", "uptime"}

// Reference is a kind of name that one place defines and others use: each pattern
// captures one as {name}, or several as {names..}.
type Reference struct {
	Name          string // of the kind: access-list, group
	Defined, Used []*pattern.Pattern
	Always        []string // names that need no definition
}

// Secret is a place that holds a secret: what the pattern captures as "secret".
type Secret struct {
	Pattern  *pattern.Pattern
	Resalted bool // written anew at each show
}
