// Package client calls the service. Most of it is generated from the contract
// into gen; this is its face: sign-in, errors that say what happened, and the
// stream of events.
package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"

	"vergekeep/client/gen"
)

// Error is a problem that the service answered with (RFC 9457).
type Error struct{ gen.Problem }

func (e *Error) Error() string {
	if e.Detail != nil && *e.Detail != "" {
		return *e.Detail
	}
	return e.Title
}

// ErrUnreachable is wrapped where the service does not answer.
var ErrUnreachable = errors.New("the service cannot be reached")

// Client is a service seen from outside.
type Client struct {
	*gen.ClientWithResponses
	url   string
	token string
	http  *http.Client
}

// New makes a client of the service at address, such as http://127.0.0.1:7420.
// The token may be empty until SignIn.
func New(address, token string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is no address of a service; write for example http://127.0.0.1:7420", address)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	c := &Client{url: strings.TrimRight(address, "/"), token: token, http: &http.Client{Jar: jar}}
	c.ClientWithResponses, err = gen.NewClientWithResponses(c.url+"/api/v1", gen.WithHTTPClient(c.http), gen.WithRequestEditorFn(c.authorise))
	return c, err
}

func (c *Client) authorise(_ context.Context, r *http.Request) error {
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	return nil
}

// Response is what every generated answer is.
type Response interface {
	StatusCode() int
	GetBody() []byte
}

// Check makes an error of a failed call: of err, or of a problem in the answer.
func Check(r Response, err error) error {
	if err != nil {
		var opErr *net.OpError
		var urlErr *url.Error
		switch {
		case errors.Is(err, context.Canceled):
		case errors.As(err, &opErr):
			return fmt.Errorf("%w: %w", ErrUnreachable, opErr)
		case errors.As(err, &urlErr): // the line was cut in the middle
			return fmt.Errorf("%w: %w", ErrUnreachable, urlErr.Err)
		}
		return err
	}
	if r.StatusCode() < 300 {
		return nil
	}
	e := &Error{}
	if json.Unmarshal(r.GetBody(), &e.Problem) != nil || e.Title == "" {
		e.Title, e.Status = fmt.Sprintf("the service answered with status %d", r.StatusCode()), r.StatusCode()
	}
	return e
}

// IsStatus reports whether err is a problem with that status.
func IsStatus(err error, status int) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == status
}

// Event is one event of the stream.
type Event struct {
	Type string
	Data gen.RoundEvent
}

// Events streams events until ctx or the stream ends; f is called for each. It
// returns after ready has been called once the stream is open.
func (c *Client) Events(ctx context.Context, ready func(), f func(Event)) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.url+"/api/v1/events", nil)
	if err != nil {
		return err
	}
	if err := c.authorise(ctx, r); err != nil {
		return err
	}
	resp, err := c.http.Do(r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		body, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
		if err != nil {
			return err
		}
		return Check(answer{resp.StatusCode, body}, nil)
	}
	ready()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	var e Event
	for lines.Scan() {
		switch line := lines.Text(); {
		case strings.HasPrefix(line, "event: "):
			e.Type = line[len("event: "):]
		case strings.HasPrefix(line, "data: "):
			if err := json.Unmarshal([]byte(line[len("data: "):]), &e.Data); err != nil {
				return fmt.Errorf("reading an event: %w", err)
			}
		case line == "" && e.Type != "":
			f(e)
			e = Event{}
		}
	}
	return lines.Err()
}

type answer struct {
	status int
	body   []byte
}

func (a answer) StatusCode() int { return a.status }
func (a answer) GetBody() []byte { return a.body }

// WaitForRound returns when a round has ended. Each visit that ends is told to
// progress, which may be nil.
func (c *Client) WaitForRound(ctx context.Context, id int64, progress func(gen.Visit)) (*gen.RoundDetail, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan struct{}, 1)
	signal := func() {
		select {
		case ended <- struct{}{}:
		default:
		}
	}
	open := make(chan struct{})
	go func() {
		defer signal()
		_ = c.Events(ctx, func() { close(open) }, func(e Event) {
			switch {
			case e.Data.Round != id:
			case e.Type == "round-ended":
				signal()
			case e.Data.Visit != nil && progress != nil:
				progress(*e.Data.Visit)
			}
		})
	}()
	// Without a stream the round is asked for now and then.
	select {
	case <-open:
	case <-ended:
	}
	for {
		r, err := c.GetRoundWithResponse(ctx, id)
		if err := Check(r, err); err != nil {
			return nil, err
		}
		if r.JSON200.Round.State != gen.RoundStateRunning {
			return r.JSON200, nil
		}
		select {
		case <-ended:
		case <-time.After(2 * time.Second):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}
