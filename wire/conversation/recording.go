package conversation

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/wire/netconf"
)

// Recording is a conversation that was held with a device, with its secrets
// concealed, so that it can be held again without the device. On a shell an
// exchange is what was typed and what came on the screen until the next thing
// was typed; on the other channels a question and its answer.
type Recording struct {
	Platform     string          `yaml:"platform"`
	Channel      dialect.Channel `yaml:"channel"`
	User         string          `yaml:"user,omitempty"`
	Capabilities []string        `yaml:"capabilities,omitempty"` // of a NETCONF agent
	Exchanges    []Exchange      `yaml:"exchanges"`
}

// Exchange is one of them. Typed secrets stand in it as in a dialect: ${password}.
type Exchange struct {
	Sent string `yaml:"sent,omitempty"` // nothing before the first prompt
	Read lines  `yaml:"read,omitempty"`
}

// lines is a text that stands in a file as a list of its lines.
type lines string

// MarshalYAML implements yaml.Marshaler.
func (l lines) MarshalYAML() (any, error) { return strings.Split(string(l), "\n"), nil }

// UnmarshalYAML implements yaml.Unmarshaler.
func (l *lines) UnmarshalYAML(n *yaml.Node) error {
	var list []string
	if err := n.Decode(&list); err != nil {
		return err
	}
	*l = lines(strings.Join(list, "\n"))
	return nil
}

// MaxRecording is how large the file of a recording may be, in bytes.
const MaxRecording = 8 << 20

// ErrRecording is wrapped where a file is no recording.
var ErrRecording = errors.New("not a recorded session")

// ParseRecording reads the file of a recording.
func ParseRecording(text string) (*Recording, error) {
	if len(text) > MaxRecording {
		return nil, fmt.Errorf("%w: it is larger than %d MiB", ErrRecording, MaxRecording>>20)
	}
	dec := yaml.NewDecoder(strings.NewReader(text))
	dec.KnownFields(true)
	var r Recording
	if err := dec.Decode(&r); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRecording, err)
	}
	if len(r.Exchanges) == 0 || !slices.Contains([]dialect.Channel{dialect.Pty, dialect.Exec, dialect.Netconf, dialect.HTTPS}, r.Channel) {
		return nil, fmt.Errorf("%w: it needs a channel (pty, exec, netconf or https) and exchanges", ErrRecording)
	}
	return &r, nil
}

// String is the recording's file.
func (r *Recording) String() string {
	var b strings.Builder
	b.WriteString("# A session with a device, recorded for replay; its secrets are concealed.\n")
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	_ = enc.Encode(r) // strings and lists of them can always be written
	_ = enc.Close()
	return b.String()
}

// recorder writes a recording down while the conversation is held.
type recorder struct {
	io.ReadWriteCloser
	mu  sync.Mutex
	raw []Exchange
}

func (r *recorder) Read(p []byte) (int, error) {
	n, err := r.ReadWriteCloser.Read(p)
	r.mu.Lock()
	defer r.mu.Unlock()
	last := &r.raw[len(r.raw)-1]
	if room := MaxRecording/2 - len(last.Read); room > 0 {
		last.Read += lines(p[:min(n, room)])
	}
	return n, err
}

func (r *recorder) Write(p []byte) (int, error) {
	r.mu.Lock()
	r.raw = append(r.raw, Exchange{Sent: string(p)})
	r.mu.Unlock()
	return r.ReadWriteCloser.Write(p)
}

func (r *recorder) exchanges() []Exchange {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, e := range r.raw {
		var s screen
		s.write([]byte(e.Read))
		r.raw[i].Read = lines(s.buf)
	}
	return r.raw
}

// conceal takes every secret out of what was said: those that were typed, those
// that the dialect finds in the configurations that came, and what may be more.
func (rec *Recording) conceal(d *dialect.Dialect, cred Credential, answers []Answer) {
	var known []string
	for _, a := range answers {
		known = append(known, d.SecretsIn(d.CleanText(a.Text))...)
	}
	var pairs []string
	for _, p := range [][2]string{{cred.Elevation, "${elevation}"}, {cred.Password, "${password}"}} {
		if p[0] != "" {
			pairs = append(pairs, p[0], p[1])
		}
	}
	typed := strings.NewReplacer(pairs...)
	known = slices.DeleteFunc(known, func(s string) bool { return len(s) < 3 }) // else they would be everywhere
	found := dialect.Hider(append(known, cred.Password, cred.Elevation)...)
	for i := range rec.Exchanges {
		e := &rec.Exchanges[i]
		// The device repeats what was typed, and a prompt ends what it says: both
		// are needed as they are.
		echo, sent := e.Sent, typed.Replace(e.Sent)
		if !strings.HasPrefix(string(e.Read), echo) || sent != echo {
			echo = "" // a device may well repeat a secret that was typed
		}
		body := string(e.Read[len(echo):])
		last := body[strings.LastIndexByte(body, '\n')+1:]
		prompt := ""
		if asks(d, last) {
			prompt = last
		}
		e.Read = lines(echo + d.Conceal(found.Replace(strings.TrimSuffix(body, prompt))) + found.Replace(prompt))
		e.Sent = sent
	}
}

// asks is whether the dialect takes an unfinished line for a prompt or a question.
func asks(d *dialect.Dialect, line string) bool {
	for _, p := range d.Prompts {
		if p.MatchString(line) {
			return true
		}
	}
	for _, p := range d.Pagers {
		if p.See.MatchString(line) {
			return true
		}
	}
	for _, s := range d.Conversation.States {
		for _, rule := range s.On {
			if rule.See != nil && rule.See.MatchString(line) {
				return true
			}
		}
	}
	return false
}

// Record is [Run], and what was said besides; nil for a dialect whose device
// copies files out, which cannot be held again.
func Record(ctx context.Context, conn Conn, d *dialect.Dialect, set Settings) (Result, *Recording, error) {
	rec := &Recording{Platform: d.Name, Channel: d.Reach.Channel, User: set.User}
	taped := &tape{Conn: conn}
	set.tape = taped
	result, err := Run(ctx, taped, d, set)
	for _, s := range d.Conversation.States {
		if s.Drop != "" {
			return result, nil, err
		}
	}
	rec.Exchanges, rec.Capabilities = taped.calls, taped.capabilities
	if taped.shell != nil {
		rec.Exchanges = taped.shell.exchanges()
	}
	rec.conceal(d, set.Credential, result.Answers)
	return result, rec, err
}

// tape is a connection of which all is written down.
type tape struct {
	Conn
	shell        *recorder // the newest
	calls        []Exchange
	capabilities []string
}

func (t *tape) Shell(width, height int) (io.ReadWriteCloser, error) {
	rw, err := t.Conn.Shell(width, height)
	if err != nil {
		return nil, err
	}
	t.shell = &recorder{ReadWriteCloser: rw, raw: []Exchange{{}}}
	return t.shell, nil
}

// replayed is how long a replay waits where a device would be given up on.
const replayed = 2 * settle

// Replay holds a recorded conversation again, now with d. Where d says something
// else than was said then, the error tells what.
func Replay(ctx context.Context, rec *Recording, d *dialect.Dialect, trace func(string, ...any)) (Result, error) {
	if d.Reach.Channel != rec.Channel {
		return Result{}, reason.New(reason.OtherPlatform, "The session was recorded on the channel %s, and the dialect uses %s.", rec.Channel, d.Reach.Channel)
	}
	set := Settings{Credential: Credential{User: rec.User, Password: "${password}", Elevation: "${elevation}"}, Trace: trace}
	p := &playback{rec: rec}
	if rec.Channel == dialect.Pty {
		return Run(ctx, p, d, set)
	}
	r := newRunner(p, d, set)
	err := r.calls(ctx, p.call(r))
	return r.result(), err
}

// playback stands in for the device.
type playback struct {
	rec *Recording
	at  int
}

func (p *playback) call(r *runner) func(context.Context, *dialect.State) (string, bool, error) {
	return func(_ context.Context, s *dialect.State) (string, bool, error) {
		if s.Needs != "" && !(&netconf.Session{Capabilities: p.rec.Capabilities}).Has(s.Needs) {
			return "", false, nil
		}
		asked := r.expand(r.shown(s))
		if p.at >= len(p.rec.Exchanges) {
			return "", false, reason.New(reason.NoPrompt, "The recording ends before %q is asked for.", asked)
		}
		e := p.rec.Exchanges[p.at]
		p.at++
		if e.Sent != asked {
			return "", false, reason.New(reason.NoPrompt, "The dialect asks for %q where the recording has %q.", asked, e.Sent)
		}
		return string(e.Read), true, nil
	}
}

func (p *playback) Exec(string, int) ([]byte, int, error) { return nil, 0, errors.ErrUnsupported }
func (p *playback) Subsystem(string) (io.ReadWriteCloser, error) {
	return nil, errors.ErrUnsupported
}

func (p *playback) Why(err error) error {
	var given *reason.Error
	switch {
	case errors.As(err, &given):
		return given
	case errors.Is(err, os.ErrDeadlineExceeded):
		return reason.New(reason.Hung, "The recording says nothing more here.")
	}
	return reason.New(reason.HungUp, "The recording ends here.")
}

func (p *playback) Shell(int, int) (io.ReadWriteCloser, error) {
	return &script{left: p.rec.Exchanges, more: make(chan struct{}, 1)}, nil
}

// script is a recorded shell.
type script struct {
	mu    sync.Mutex
	left  []Exchange
	say   []byte
	begun bool
	more  chan struct{}
	shut  bool
}

func (s *script) Read(p []byte) (int, error) {
	for {
		s.mu.Lock()
		if !s.begun {
			s.begun = true
			if len(s.left) > 0 && s.left[0].Sent == "" {
				s.say, s.left = []byte(s.left[0].Read), s.left[1:]
			}
		}
		n := copy(p, s.say)
		s.say = s.say[n:]
		over := s.shut || len(s.left) == 0
		s.mu.Unlock()
		switch {
		case n > 0:
			return n, nil
		case over:
			return 0, io.EOF
		}
		select {
		case <-s.more:
		case <-time.After(replayed):
			return 0, os.ErrDeadlineExceeded
		}
	}
}

func (s *script) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.left) == 0 {
		return 0, reason.New(reason.NoPrompt, "The recording ends before %q is typed.", p)
	}
	if s.left[0].Sent != string(p) {
		return 0, reason.New(reason.NoPrompt, "The dialect types %q where the recording has %q.", p, s.left[0].Sent)
	}
	s.say, s.left = append(s.say, s.left[0].Read...), s.left[1:]
	s.wake()
	return len(p), nil
}

func (s *script) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shut = true
	s.wake()
	return nil
}

func (s *script) wake() {
	select {
	case s.more <- struct{}{}:
	default:
	}
}
