package conversation

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
)

// errFooled says that a candidate turned out to be no prompt.
var errFooled = errors.New("text that looked like the prompt")

// wakePause is how long a console port gets to react to what wakes it.
const wakePause = 100 * time.Millisecond

// settle is how long a device must stay quiet at a candidate in a visit that
// was fooled before.
const settle = 700 * time.Millisecond

// shell is a conversation on a pseudo-terminal.
type shell struct {
	*runner
	ctx     context.Context // of the visit
	rw      io.ReadWriteCloser
	in      *input
	s       screen
	state   *dialect.State
	out     int // where the output of the state's line starts
	window  int // what stands before it has been reacted to
	checked int // finished lines before it have been looked at
	fired   []int
	name    string // what the prompt's group "name" matched first
	echo    *echo  // the line whose echo is awaited
	settle  bool
	prompt  bool // a prompt has been seen and confirmed
}

// echo is a line that was sent at a candidate.
type echo struct {
	line     string
	from, to int            // the candidate in the screen
	previous *dialect.State // whose output ends at the candidate
	item     string         // its item
}

func (r *runner) overShell(ctx context.Context, settle bool) error {
	rw, err := r.conn.Shell(r.d.Reach.Width, r.d.Reach.Height)
	if err != nil {
		return err
	}
	defer rw.Close()
	sh := &shell{runner: r, rw: rw, in: newInput(rw, settle), settle: settle}
	sh.s.buf = make([]byte, 0, 8<<10)
	if r.set.Console {
		if err := sh.wake(ctx); err != nil {
			return err
		}
	}
	defer sh.in.close()
	err = sh.run(ctx)
	if err != nil {
		// Log out all the same; the close that follows covers a device that
		// is not at a prompt.
		_, _ = io.WriteString(rw, r.d.Conversation.Leave+"\n")
	}
	r.session = sh.s.buf[:min(len(sh.s.buf), maxSession)]
	return err
}

// wake types what brings a console port's session to a prompt.
func (sh *shell) wake(ctx context.Context) error {
	for _, keys := range sh.d.Reach.Wake {
		if err := sh.write(keys); err != nil {
			return err
		}
		select {
		case <-time.After(wakePause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

func (sh *shell) run(ctx context.Context) error {
	sh.ctx = ctx
	if err := sh.enter(sh.d.Conversation.Start, -1); err != nil {
		return err
	}
	for {
		again, err := sh.react()
		if err != nil {
			return err
		}
		if again {
			if sh.state == nil && sh.echo == nil {
				return nil // logged out, and all answers are confirmed
			}
			continue
		}
		if err := sh.read(ctx); err != nil {
			if err == io.EOF && sh.state == nil {
				return sh.hungUpAtLeave()
			}
			return sh.explain(err)
		}
	}
}

// explain makes a reason of an error of reading.
func (sh *shell) explain(err error) error {
	why := sh.conn.Why(err)
	switch reason.Of(why, "") {
	case reason.Hung:
		switch {
		case len(sh.s.buf) == 0:
			return reason.New(reason.Silent, "It let us in and then said nothing for %s.", sh.d.Reach.Silence)
		case !sh.prompt:
			return reason.New(reason.NoPrompt, "No prompt came within %s; the last line was %q.", sh.d.Reach.Silence, sh.quote(sh.lastLine()))
		}
		return reason.New(reason.Hung, "It fell silent for %s %s.", sh.d.Reach.Silence, sh.where())
	case reason.HungUp:
		return reason.New(reason.HungUp, "It closed the connection %s.", sh.where())
	}
	return why
}

// where says how far the visit has come. It quotes nothing of an answer: any
// line of it can hold a secret.
func (sh *shell) where() string {
	switch {
	case !sh.prompt:
		return "before it showed a prompt"
	case sh.state == nil:
		return "while we logged out, before the last answer was complete"
	}
	return fmt.Sprintf("after %d lines of its answer to %q", bytes.Count(sh.s.buf[sh.out:], []byte{'\n'}), sh.expand(sh.state.Send))
}

func (sh *shell) lastLine() string {
	text := strings.TrimRight(string(sh.s.buf), " \n")
	return text[strings.LastIndexByte(text, '\n')+1:]
}

// read adds what comes next to the screen.
func (sh *shell) read(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	p, err := sh.in.next(0)
	if err != nil {
		return err
	}
	sh.s.write(p)
	limit := MaxAnswer
	if !sh.prompt {
		limit = maxGreeting
	}
	if len(sh.s.buf)-sh.out > limit {
		return flood(limit)
	}
	return nil
}

// enter goes to a state, or logs out where the conversation is done. The
// candidate at which it happens starts at from; -1 is the very beginning.
func (sh *shell) enter(name string, from int) error {
	item := sh.item // of the state that ends here
	if target := sh.d.Conversation.States[name]; target != nil && target.Each != nil && sh.state != nil && from >= 0 {
		sh.unconfirmed = Answer{Name: sh.state.Keep, Text: string(sh.s.buf[min(sh.out, from):from])}
		defer func() { sh.unconfirmed = Answer{} }()
	}
	for range maxSteps {
		if name == dialect.Done {
			return sh.send(nil, sh.d.Conversation.Leave, from, item)
		}
		s := sh.d.Conversation.States[name]
		if !sh.next(s) {
			name = s.Otherwise
			continue
		}
		if s.Send != "" {
			if err := errors.Join(sh.pace(sh.ctx), sh.open(sh.ctx, s)); err != nil {
				return err
			}
			return sh.send(s, sh.expand(s.Send), from, item)
		}
		if from >= 0 {
			if err := sh.finish(sh.state, item, from); err != nil {
				return err
			}
		}
		sh.begin(s, len(sh.s.buf))
		return nil
	}
	return reason.New(reason.NoPrompt, "The conversation did not come to an end after %d steps.", maxSteps)
}

// send writes a line at the candidate that starts at from and moves on to s
// (nil: out of the device); the line's echo will tell whether that was a prompt.
func (sh *shell) send(s *dialect.State, line string, from int, item string) error {
	if from < 0 {
		return reason.New(reason.NoPrompt, "The dialect %s sends a line before it has seen a prompt.", sh.d.Name)
	}
	sh.echo = &echo{line: line, from: from, to: len(sh.s.buf), previous: sh.state, item: item}
	sh.state = s
	if s != nil {
		sh.trace("%s: sends %q", s.Name, s.Send)
	} else {
		sh.trace("leaves with %q", sh.d.Conversation.Leave)
	}
	return sh.write(line + "\n")
}

func (sh *shell) write(text string) error {
	if _, err := io.WriteString(sh.rw, text); err != nil && sh.state != nil {
		return sh.explain(err)
	}
	return nil
}

// begin makes s the current state; its output starts at out.
func (sh *shell) begin(s *dialect.State, out int) {
	sh.state, sh.out, sh.window, sh.checked = s, out, out, out
	if s != nil {
		sh.fired = make([]int, len(s.On))
	}
}

// finish takes the output of a state that ends where the prompt starts.
func (sh *shell) finish(s *dialect.State, item string, end int) error {
	if s == nil || s.Send == "" {
		return nil
	}
	current := sh.item
	sh.item = item
	err := sh.answer(sh.ctx, s, string(sh.s.buf[min(sh.out, end):end]))
	sh.item = current
	return err
}

// react does what the state's rules say about what has arrived. It reports
// whether it did anything, after which it wants to be asked again.
func (sh *shell) react() (bool, error) {
	if sh.echo != nil {
		return sh.awaitEcho()
	}
	if sh.state == nil {
		return false, nil
	}
	last := sh.s.last(sh.window)
	for _, p := range sh.d.Pagers {
		if len(last) > 0 && p.See.Match(last) {
			sh.s.wipe()
			sh.window = len(sh.s.buf)
			return true, sh.write(p.Key)
		}
	}
	for i, rule := range sh.state.On {
		switch {
		case rule.Line != nil:
			if line, ok := sh.finished(rule.Line); ok {
				return true, sh.fire(i, line, sh.s.line)
			}
		case rule.Prompt != "":
			if sh.isPrompt(rule.Prompt, last) && sh.s.line >= sh.window {
				quiet, err := sh.quiet()
				if err != nil || !quiet {
					return true, err
				}
				return true, sh.fire(i, "", sh.s.line)
			}
		case rule.See != nil:
			if len(last) > 0 && rule.See.Match(last) {
				return true, sh.fire(i, "", sh.s.line)
			}
		}
	}
	sh.checked = max(sh.checked, sh.s.line)
	return false, nil
}

// finished looks for a finished line, not looked at before, that matches.
func (sh *shell) finished(re *regexp.Regexp) (string, bool) {
	for at := sh.checked; at < sh.s.line; {
		end := at + bytes.IndexByte(sh.s.buf[at:sh.s.line], '\n')
		if line := sh.s.buf[at:end]; re.Match(line) {
			sh.checked = end + 1
			return string(line), true
		}
		at = end + 1
	}
	return "", false
}

// isPrompt reports whether text is that prompt and nothing else.
func (sh *shell) isPrompt(prompt string, text []byte) bool {
	re := sh.d.Prompts[prompt]
	m := re.FindSubmatch(text)
	if m == nil || len(text) == 0 {
		return false
	}
	if i := re.SubexpIndex("name"); i > 0 && sh.name != "" {
		return string(m[i]) == sh.name
	}
	return true
}

// quiet waits, where the visit was fooled before or the device repeats nothing,
// until nothing more comes. It is false where something came.
func (sh *shell) quiet() (bool, error) {
	if !sh.settle && sh.d.Reach.Echo {
		return true, nil
	}
	p, err := sh.in.next(settle)
	if errors.Is(err, errQuiet) {
		return true, nil
	}
	if err != nil {
		return false, sh.explain(err)
	}
	sh.s.write(p)
	return false, nil
}

// fire carries out rule i of the state.
func (sh *shell) fire(i int, line string, from int) error {
	rule := sh.state.On[i]
	sh.fired[i]++
	switch {
	case rule.Prompt != "":
		sh.trace("%s: sees the prompt %q, goes to %s", sh.state.Name, rule.Prompt, rule.Go)
	case rule.Line != nil:
		sh.trace("%s: a line matches %s", sh.state.Name, rule.Line)
	default:
		sh.trace("%s: sees %s, answers %q", sh.state.Name, rule.See, rule.Answer+rule.Key)
	}
	sh.window = len(sh.s.buf)
	if rule.Fail != "" {
		if line == "" {
			line = sh.lastLine()
		}
		return reason.New(reason.Code(rule.Fail), "It answered %q.", sh.quote(line))
	}
	if rule.Answer != "" {
		text, err := sh.secretAnswer(rule.Answer, sh.fired[i])
		if err != nil {
			return err
		}
		if err := sh.write(text + "\n"); err != nil {
			return err
		}
	}
	if rule.Key != "" {
		if sh.fired[i] > 1000 {
			return reason.New(reason.NoPrompt, "It asked for a key a thousand times.")
		}
		if err := sh.write(rule.Key); err != nil {
			return err
		}
	}
	if rule.Go != "" {
		return sh.enter(rule.Go, from)
	}
	return nil
}

// secretAnswer fills in the credential. A question that comes a second time
// means that the first answer was refused; asking on would lock the account.
func (sh *shell) secretAnswer(answer string, times int) (string, error) {
	switch {
	case strings.Contains(answer, "${elevation}"):
		if sh.cred.Elevation == "" {
			return "", reason.New(reason.ElevationMissing, "It wants the secret of its elevated mode, and the credential has none.")
		}
		if times > 1 {
			return "", reason.New(reason.ElevationRefused, "It refused the secret of its elevated mode.")
		}
	case times > 1:
		return "", reason.New(reason.CredentialRefused, "It refused the login of %s.", sh.cred.User)
	}
	return strings.NewReplacer("${user}", sh.cred.User, "${password}", sh.cred.Password, "${elevation}", sh.cred.Elevation, "${item}", sh.item).Replace(answer), nil
}

// awaitEcho looks whether the line that was sent stands behind the candidate.
func (sh *shell) awaitEcho() (bool, error) {
	e := sh.echo
	if !sh.d.Reach.Echo {
		return true, sh.confirm(e.from, e.to)
	}
	want := e.line + "\n"
	rest := string(sh.s.buf[min(e.to, len(sh.s.buf)):])
	switch {
	case strings.HasPrefix(rest, want):
		return true, sh.confirm(e.from, e.to+len(want))
	case strings.HasPrefix(want, rest):
		return false, nil
	}
	return false, errFooled
}

// confirm ends the previous state's output at the prompt and begins the new one.
func (sh *shell) confirm(prompt, out int) error {
	e := sh.echo
	sh.echo = nil
	sh.prompt = true
	if sh.name == "" {
		text := sh.s.buf[prompt:e.to]
		for _, re := range sh.d.Prompts {
			if m := re.FindSubmatch(text); m != nil {
				if i := re.SubexpIndex("name"); i > 0 {
					sh.name = string(m[i])
				}
			}
		}
	}
	if err := sh.finish(e.previous, e.item, prompt); err != nil {
		return err
	}
	sh.begin(sh.state, out)
	return nil
}

// hungUpAtLeave accepts that a device closes the session at once instead of
// repeating the line that logs out, if nothing else stood behind the prompt.
func (sh *shell) hungUpAtLeave() error {
	if e := sh.echo; e != nil {
		if !strings.HasPrefix(e.line+"\n", string(sh.s.buf[e.to:])) {
			return sh.explain(io.ErrUnexpectedEOF)
		}
		return sh.confirm(e.from, len(sh.s.buf))
	}
	return nil
}

// errQuiet says that nothing came within the time asked for.
var errQuiet = errors.New("quiet")

// input reads from a stream; only where a limit in time may be asked for does
// a goroutine of its own do it.
type input struct {
	r     io.Reader
	buf   *[]byte
	piece chan []byte
	done  chan struct{}
	end   error
}

// buffers are lent to one conversation each.
var buffers = sync.Pool{New: func() any {
	b := make([]byte, 32<<10)
	return &b
}}

// close ends the goroutine and gives the buffer back.
func (in *input) close() {
	close(in.done)
	buffers.Put(in.buf)
}

func newInput(r io.Reader, timed bool) *input {
	in := &input{r: r, buf: buffers.Get().(*[]byte), done: make(chan struct{})}
	if timed {
		in.start()
	}
	return in
}

func (in *input) start() {
	in.piece = make(chan []byte)
	go func() { // ends with the stream, which its owner closes
		for {
			p := make([]byte, 32<<10)
			n, err := in.r.Read(p)
			if n > 0 {
				select {
				case in.piece <- p[:n]:
				case <-in.done:
					return
				}
			}
			if err != nil {
				in.end = err
				close(in.piece)
				return
			}
		}
	}()
}

// next is what comes next; a limit above zero bounds the waiting.
func (in *input) next(limit time.Duration) ([]byte, error) {
	if limit > 0 && in.piece == nil {
		in.start()
	}
	if in.piece == nil {
		n, err := in.r.Read(*in.buf)
		if n > 0 {
			return (*in.buf)[:n], nil
		}
		if err == nil {
			err = io.ErrNoProgress
		}
		return nil, err
	}
	var expired <-chan time.Time
	if limit > 0 {
		timer := time.NewTimer(limit)
		defer timer.Stop()
		expired = timer.C
	}
	select {
	case p, ok := <-in.piece:
		if !ok {
			return nil, in.end
		}
		return p, nil
	case <-expired:
		return nil, errQuiet
	}
}
