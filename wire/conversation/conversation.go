// Package conversation is the one engine that runs a dialect's table of states
// over a connection: commands on exec channels, a shell on a pseudo-terminal,
// or NETCONF operations. What it brings back is the device's answers, free of
// echo, prompts, pagers and control sequences.
//
// On a shell the hard part is to know where an answer ends, because a banner
// or a configuration can hold text that looks like the prompt. A prompt is
// therefore only a candidate until the echo of the next line stands directly
// behind it. Sending that next line costs nothing, as it has to be sent anyway;
// if something else follows, the candidate was part of the text, and the
// conversation starts afresh, this time waiting at each candidate for the
// device to stay quiet.
package conversation

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/wire/netconf"
	"vergekeep/wire/ssh"
)

// Conn is a connection that a conversation can be held over; [*ssh.Conn] is one.
type Conn interface {
	Shell(width, height int) (io.ReadWriteCloser, error)
	Exec(command string, limit int) (output []byte, status int, err error)
	Subsystem(name string) (io.ReadWriteCloser, error)
	// Why explains an error of reading or writing, with a reason.
	Why(err error) error
}

// Files is a connection that files can be fetched over.
type Files interface {
	File(way ssh.Way, path string, limit int) ([]byte, error)
}

// Getter is a connection that knows only questions and answers (HTTPS).
type Getter interface {
	Get(ctx context.Context, path, accept string, limit int) ([]byte, error)
}

// Drops receives what devices copy to us.
type Drops interface {
	// Offer opens a place for one file; by is sftp or tftp.
	Offer(ctx context.Context, by string) (Drop, error)
}

// Drop is a place for one file.
type Drop interface {
	URL() string                              // for the device's copy command
	Wait(ctx context.Context) ([]byte, error) // until the file is whole
	Close()                                   // nothing more is taken
}

// Settings are what a conversation needs besides its connection and dialect.
type Settings struct {
	Credential
	// Console says that this is a console server's port: somebody may have left
	// a session there in the middle of something.
	Console bool
	Drops   Drops // nil where there is no place for drops
	// Trace is told each step, without secrets; it may be nil.
	Trace func(format string, args ...any)
	// Pace is asked before each command is sent, and may wait; it may be nil.
	Pace func(context.Context) error

	tape *tape // where the conversation is recorded
}

// Credential is what the dialect's ${user}, ${password} and ${elevation} stand for.
type Credential struct{ User, Password, Elevation string }

// Answer is what a device answered in a state that keeps it.
type Answer struct {
	Name string // the state's keep
	Item string // of a state that runs once for each item
	Text string
}

// MaxAnswer is how much a device may say in one answer, in bytes. 300,000
// lines of 100 characters fit in.
const MaxAnswer = 32 << 20

// maxSession is how much of what was said is kept for a look at it.
const maxSession = 256 << 10

// maxGreeting is how much it may say before its first prompt.
const maxGreeting = 1 << 20

// Result is what a conversation brought back. Session holds what was said, for
// a look at a conversation that failed; it may hold secrets.
type Result struct {
	Answers []Answer
	Session []byte
}

// Run holds the conversation. Its error carries a reason.
func Run(ctx context.Context, conn Conn, d *dialect.Dialect, set Settings) (Result, error) {
	r := newRunner(conn, d, set)
	defer r.close()
	switch d.Reach.Channel {
	case dialect.HTTPS:
		err := r.calls(ctx, r.get)
		return r.result(), err
	case dialect.Exec:
		err := r.calls(ctx, r.exec)
		return r.result(), err
	case dialect.Netconf:
		err := r.overNetconf(ctx)
		return r.result(), err
	}
	err := r.overShell(ctx, set.Console)
	if errors.Is(err, errFooled) {
		r.close()
		r = newRunner(conn, d, set)
		defer r.close()
		err = r.overShell(ctx, true)
		if errors.Is(err, errFooled) {
			err = reason.New(reason.NoPrompt, "Text in the device's output looks like its prompt and cannot be told from it.")
		}
	}
	return r.result(), err
}

// Arrive logs in as far as the first prompt that leads on, and out again; it
// asks for nothing. On channels without a prompt, being connected is enough.
func Arrive(ctx context.Context, conn Conn, d *dialect.Dialect, set Settings) error {
	switch d.Reach.Channel {
	case dialect.Exec:
		return nil
	case dialect.HTTPS:
		r := newRunner(conn, d, set)
		_, _, err := r.get(ctx, d.Conversation.States[d.Conversation.Start])
		return err
	case dialect.Netconf:
		r := newRunner(conn, d, set)
		rw, err := conn.Subsystem("netconf")
		if err != nil {
			return err
		}
		defer rw.Close()
		s, err := netconf.Open(rw, MaxAnswer)
		if err != nil {
			return r.netconfError(err)
		}
		_ = s.Close()
		return nil
	}
	// The same states up to the first command that is kept; from there it leaves.
	short := *d
	short.Conversation.States = map[string]*dialect.State{}
	for name, s := range d.Conversation.States {
		cut := *s
		cut.On = slices.Clone(s.On)
		for i, rule := range cut.On {
			if next := d.Conversation.States[rule.Go]; next != nil && next.Keep != "" {
				cut.On[i].Go = dialect.Done
			}
		}
		short.Conversation.States[name] = &cut
	}
	_, err := Run(ctx, conn, &short, set)
	return err
}

// Until is a dialect whose conversation ends when an answer has been kept.
func Until(d *dialect.Dialect, keep string) *dialect.Dialect {
	short := *d
	short.Conversation.States = map[string]*dialect.State{}
	for name, s := range d.Conversation.States {
		cut := *s
		if s.Keep == keep {
			cut.Then, cut.Otherwise, cut.On = dialect.Done, dialect.Done, slices.Clone(s.On)
			for i, rule := range cut.On {
				if rule.Go != "" {
					cut.On[i].Go = dialect.Done
				}
			}
		}
		short.Conversation.States[name] = &cut
	}
	return &short
}

func newRunner(conn Conn, d *dialect.Dialect, set Settings) *runner {
	return &runner{conn: conn, d: d, cred: set.Credential, set: set, items: map[string][]string{}}
}

type runner struct {
	conn    Conn
	d       *dialect.Dialect
	cred    Credential
	set     Settings
	drop    Drop // open while a state with one runs
	answers []Answer
	session []byte
	items   map[string][]string // by state: what is still to do
	item    string
	// unconfirmed is the answer that ends at the present candidate. A state
	// that runs once for each item in it needs it before the echo comes.
	unconfirmed Answer
}

// plain is the connection without a tape around it.
func (r *runner) plain() Conn {
	if t := r.set.tape; t != nil {
		return t.Conn
	}
	return r.conn
}

// pace waits for a command's turn.
func (r *runner) pace(ctx context.Context) error {
	if r.set.Pace == nil {
		return nil
	}
	return r.set.Pace(ctx)
}

// trace tells a step of the conversation.
func (r *runner) trace(format string, args ...any) {
	if r.set.Trace != nil {
		r.set.Trace(format, args...)
	}
}

func (r *runner) close() {
	if r.drop != nil {
		r.drop.Close()
		r.drop = nil
	}
}

// open makes a place for the file that the state makes the device copy to us.
func (r *runner) open(ctx context.Context, s *dialect.State) error {
	if s.Drop == "" {
		return nil
	}
	if r.set.Drops == nil {
		return reason.New(reason.NothingSent, "This platform copies its configuration to the service, which takes no drops by %s.", s.Drop)
	}
	r.close()
	var err error
	r.drop, err = r.set.Drops.Offer(ctx, s.Drop)
	return err
}

// dropped waits for the file of a state.
func (r *runner) dropped(ctx context.Context, s *dialect.State) (string, error) {
	defer r.close()
	ctx, cancel := context.WithTimeoutCause(ctx, r.d.Reach.Silence, reason.New(reason.NothingSent, "Its copy command ended, but nothing arrived here within %s.", r.d.Reach.Silence))
	defer cancel()
	file, err := r.drop.Wait(ctx)
	if err != nil {
		var given *reason.Error
		if ctx.Err() != nil && errors.As(context.Cause(ctx), &given) {
			return "", given
		}
		return "", r.conn.Why(err)
	}
	return string(file), nil
}

func (r *runner) result() Result { return Result{r.answers, r.session} }

// log keeps what was said, up to a size.
func (r *runner) log(text string) {
	if room := maxSession - len(r.session); room > 0 {
		r.session = append(r.session, text[:min(len(text), room)]...)
	}
}

// answer looks at the end of a command's output and keeps it where wanted.
func (r *runner) answer(ctx context.Context, s *dialect.State, text string) error {
	if line, means, isError := dialect.FirstError(r.d.Errors, text); isError {
		if !s.Tolerate {
			return reason.New(means, "It answered %q to %q.", r.quote(line), r.shown(s))
		}
		text = ""
	} else if s.Drop != "" {
		var err error
		if text, err = r.dropped(ctx, s); err != nil {
			return err
		}
	}
	if s.Keep != "" {
		r.trace("%s: kept as %q, %d lines", s.Name, s.Keep, strings.Count(text, "\n"))
		r.answers = append(r.answers, Answer{s.Keep, r.item, text})
	}
	return nil
}

// kept is the newest answer of that name.
func (r *runner) kept(name string) string {
	if r.unconfirmed.Name == name {
		return r.unconfirmed.Text
	}
	for _, a := range slices.Backward(r.answers) {
		if a.Name == name {
			return a.Text
		}
	}
	return ""
}

// next says whether a state has anything to do: a state with Each takes its
// next item.
func (r *runner) next(s *dialect.State) bool {
	if s.Each == nil {
		return true
	}
	items, begun := r.items[s.Name]
	if !begun {
		for _, m := range s.Each.Match.FindAllStringSubmatch(r.kept(s.Each.From), 1000) {
			items = append(items, m[1])
		}
	}
	if len(items) == 0 {
		r.items[s.Name] = items
		r.item = ""
		return false
	}
	r.item, r.items[s.Name] = items[0], items[1:]
	return true
}

// quote is a line of the device as it may stand in a reason: short, and without
// the credential, which a careless device repeats.
func (r *runner) quote(line string) string {
	for _, secret := range []string{r.cred.Password, r.cred.Elevation} {
		if secret != "" {
			line = strings.ReplaceAll(line, secret, dialect.Mask)
		}
	}
	if len(line) > 100 {
		return strings.ToValidUTF8(line[:100], "") + "…"
	}
	return line
}

func (r *runner) expand(text string) string {
	if !strings.Contains(text, "${") {
		return text
	}
	drop := ""
	if r.drop != nil {
		drop = r.drop.URL()
	}
	return strings.NewReplacer("${item}", r.item, "${user}", r.cred.User, "${drop}", drop).Replace(text)
}

// shown is what a state asks for, as it may stand in a reason.
func (r *runner) shown(s *dialect.State) string {
	for _, asked := range []string{s.Send, s.RPC, s.Get, s.File} {
		if asked != "" {
			return strings.ReplaceAll(asked, "${item}", r.item)
		}
	}
	return ""
}

// maxSteps bounds a conversation.
const maxSteps = 5000

// calls runs states that are a question and its answer.
func (r *runner) calls(ctx context.Context, call func(context.Context, *dialect.State) (string, bool, error)) error {
	name := r.d.Conversation.Start
	for range maxSteps {
		if name == dialect.Done {
			return nil
		}
		if err := ctx.Err(); err != nil {
			return r.conn.Why(err)
		}
		s := r.d.Conversation.States[name]
		if !r.next(s) {
			name = s.Otherwise
			continue
		}
		if err := r.pace(ctx); err != nil {
			return err
		}
		r.trace("%s: asks for %s", s.Name, r.shown(s))
		text, ok, err := call(ctx, s)
		if err != nil {
			return err
		}
		if r.set.tape != nil && ok {
			r.set.tape.calls = append(r.set.tape.calls, Exchange{Sent: r.expand(r.shown(s)), Read: lines(text)})
		}
		if !ok {
			name = s.Otherwise
			continue
		}
		if err := r.answer(ctx, s, text); err != nil {
			return err
		}
		name = s.Then
	}
	return reason.New(reason.NoPrompt, "The conversation did not come to an end after %d steps.", maxSteps)
}

func (r *runner) exec(ctx context.Context, s *dialect.State) (string, bool, error) {
	if s.File != "" {
		return r.file(s)
	}
	if err := r.open(ctx, s); err != nil {
		return "", false, err
	}
	command := r.expand(s.Send)
	out, status, err := r.conn.Exec(command, MaxAnswer)
	r.log(command + "\n" + string(out[:min(len(out), 64<<10)]))
	switch {
	case errors.Is(err, ssh.ErrTooMuch):
		return "", false, flood(MaxAnswer)
	case err != nil:
		return "", false, r.conn.Why(err)
	}
	text := string(out)
	if status > 0 && !s.Tolerate {
		// Only a known error answer is quoted: anything else may be a
		// configuration, and any line of one can hold a secret.
		if line, means, known := dialect.FirstError(r.d.Errors, text); known {
			return "", false, reason.New(means, "It answered %q to %q, with status %d.", r.quote(line), command, status)
		}
		return "", false, reason.New(reason.DeviceError, "It ended %q with status %d.", command, status)
	}
	return text, true, nil
}

func (r *runner) file(s *dialect.State) (string, bool, error) {
	files, ok := r.plain().(Files)
	if !ok {
		return "", false, reason.New(reason.Protocol, "Files are fetched over SSH only, and the record says otherwise.")
	}
	path := r.expand(s.File)
	text, err := files.File(ssh.Way(s.By), path, MaxAnswer)
	r.log("file " + path + "\n")
	switch {
	case errors.Is(err, ssh.ErrTooMuch):
		return "", false, flood(MaxAnswer)
	case err != nil && s.Tolerate && reason.Of(err, "") == reason.DeviceError:
		return "", true, nil
	case err != nil:
		return "", false, r.conn.Why(err)
	}
	return string(text), true, nil
}

func (r *runner) get(ctx context.Context, s *dialect.State) (string, bool, error) {
	getter, ok := r.plain().(Getter)
	if !ok {
		return "", false, reason.New(reason.Protocol, "This platform needs HTTPS, and the record says otherwise.")
	}
	path := r.expand(s.Get)
	text, err := getter.Get(ctx, path, s.Accept, MaxAnswer)
	r.log("GET " + path + "\n" + string(text[:min(len(text), 64<<10)]) + "\n")
	if err != nil && s.Tolerate && reason.Of(err, "") == reason.DeviceError {
		return "", true, nil
	}
	return string(text), err == nil, err
}

func flood(limit int) error {
	return reason.New(reason.Flood, "It sent more than %d MiB without coming to an end.", limit>>20)
}

func (r *runner) overNetconf(ctx context.Context) error {
	rw, err := r.conn.Subsystem("netconf")
	if err != nil {
		return err
	}
	defer rw.Close()
	s, err := netconf.Open(rw, MaxAnswer)
	if err != nil {
		return r.netconfError(err)
	}
	if r.set.tape != nil {
		r.set.tape.capabilities = s.Capabilities
	}
	err = r.calls(ctx, func(_ context.Context, state *dialect.State) (string, bool, error) {
		if state.Needs != "" && !s.Has(state.Needs) {
			return "", false, nil
		}
		data, err := s.Call(r.expand(state.RPC))
		r.log(state.RPC + "\n" + data[:min(len(data), 64<<10)] + "\n")
		var answered *netconf.RPCError
		if errors.As(err, &answered) {
			if state.Tolerate {
				return "", true, nil
			}
			return "", false, reason.New(reason.DeviceError, "It answered %q to %q.", r.quote(answered.Error()), state.RPC)
		}
		if err != nil {
			return "", false, r.netconfError(err)
		}
		return data, true, nil
	})
	if err == nil {
		_ = s.Close() // a device that hangs up here has answered everything
	}
	return err
}

func (r *runner) netconfError(err error) error {
	switch {
	case errors.Is(err, netconf.ErrTooLarge):
		return flood(MaxAnswer)
	case errors.Is(err, netconf.ErrFraming), errors.Is(err, netconf.ErrProtocol):
		return reason.New(reason.Protocol, "It does not speak NETCONF as it should: %w.", err)
	}
	return r.conn.Why(err)
}

// Greeting is what a device says on a shell on its own, until it is quiet.
func Greeting(ctx context.Context, conn Conn) (string, error) {
	rw, err := conn.Shell(200, 50)
	if err != nil {
		return "", err
	}
	defer rw.Close()
	in := newInput(rw, true)
	defer in.close()
	var s screen
	for len(s.buf) < maxGreeting && ctx.Err() == nil {
		wait := settle
		if len(s.buf) == 0 {
			wait = 5 * settle
		}
		p, err := in.next(wait)
		if errors.Is(err, errQuiet) || err == io.EOF {
			break
		}
		if err != nil {
			return "", conn.Why(err)
		}
		s.write(p)
	}
	return string(s.buf), nil
}

// Capabilities is what a device lists in its NETCONF hello (RFC 6241, 8.1).
func Capabilities(conn Conn) ([]string, error) {
	rw, err := conn.Subsystem("netconf")
	if err != nil {
		return nil, err
	}
	defer rw.Close()
	s, err := netconf.Open(rw, 1<<20)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return s.Capabilities, nil
}
