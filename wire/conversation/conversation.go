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

// maxGreeting is how much it may say before its first prompt.
const maxGreeting = 1 << 20

// Result is what a conversation brought back. Session holds what was said, for
// a look at a conversation that failed; it may hold secrets.
type Result struct {
	Answers []Answer
	Session string
}

// Run holds the conversation. Its error carries a reason.
func Run(ctx context.Context, conn Conn, d *dialect.Dialect, cred Credential) (Result, error) {
	r := &runner{conn: conn, d: d, cred: cred, items: map[string][]string{}}
	switch d.Reach.Channel {
	case dialect.Exec:
		err := r.calls(ctx, r.exec)
		return r.result(), err
	case dialect.Netconf:
		err := r.overNetconf(ctx)
		return r.result(), err
	}
	err := r.overShell(ctx, false)
	if errors.Is(err, errFooled) {
		r = &runner{conn: conn, d: d, cred: cred, items: map[string][]string{}}
		err = r.overShell(ctx, true)
		if errors.Is(err, errFooled) {
			err = reason.New(reason.NoPrompt, "Text in the device's output looks like its prompt and cannot be told from it.")
		}
	}
	return r.result(), err
}

type runner struct {
	conn    Conn
	d       *dialect.Dialect
	cred    Credential
	answers []Answer
	session strings.Builder
	items   map[string][]string // by state: what is still to do
	item    string
	// unconfirmed is the answer that ends at the present candidate. A state
	// that runs once for each item in it needs it before the echo comes.
	unconfirmed Answer
}

func (r *runner) result() Result { return Result{r.answers, r.session.String()} }

// log keeps what was said, up to a size.
func (r *runner) log(text string) {
	const limit = 256 << 10
	if room := limit - r.session.Len(); room > 0 {
		r.session.WriteString(text[:min(len(text), room)])
	}
}

// answer looks at the end of a command's output and keeps it where wanted.
func (r *runner) answer(s *dialect.State, text string) error {
	if line, isError := dialect.FirstError(r.d.Errors, text); isError {
		if !s.Tolerate {
			return reason.New(reason.DeviceError, "It answered %q to %q.", r.quote(line), r.expand(s.Send+s.RPC))
		}
		text = ""
	}
	if s.Keep != "" {
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
	return strings.NewReplacer("${item}", r.item, "${user}", r.cred.User).Replace(text)
}

// maxSteps bounds a conversation.
const maxSteps = 5000

// calls runs states that are a question and its answer.
func (r *runner) calls(ctx context.Context, call func(*dialect.State) (string, bool, error)) error {
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
		text, ok, err := call(s)
		if err != nil {
			return err
		}
		if !ok {
			name = s.Otherwise
			continue
		}
		if err := r.answer(s, text); err != nil {
			return err
		}
		name = s.Then
	}
	return reason.New(reason.NoPrompt, "The conversation did not come to an end after %d steps.", maxSteps)
}

func (r *runner) exec(s *dialect.State) (string, bool, error) {
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
		if line, known := dialect.FirstError(r.d.Errors, text); known {
			return "", false, reason.New(reason.DeviceError, "It answered %q to %q, with status %d.", r.quote(line), command, status)
		}
		return "", false, reason.New(reason.DeviceError, "It ended %q with status %d.", command, status)
	}
	return text, true, nil
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
	err = r.calls(ctx, func(state *dialect.State) (string, bool, error) {
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
