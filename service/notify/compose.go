package notify

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"os"
	"strings"
	"text/template"
	"time"

	"vergekeep/core/report"
	"vergekeep/core/selector"
	"vergekeep/service/changes"
	"vergekeep/wire/mail"
)

func hostName() string {
	name, err := os.Hostname()
	if err != nil {
		return ""
	}
	return name
}

// Letter is what is put into a template.
type Letter struct {
	Sentence string // what there is to say first
	Text     string // all that the usual message says
	Notices  []struct {
		At                  time.Time
		Kind, Title, Detail string
		Device              string
	}
	Count  int
	Device string // of the first one
	URL    string // of the console
}

type templates struct{ subject, body *template.Template }

// maxLetter is how long what a template makes may be, in bytes.
const maxLetter = 1 << 20

func parseTemplates(x *Subscription) (templates, error) {
	var t templates
	for _, one := range []struct {
		what, text string
		limit      int
		to         **template.Template
	}{{"subject", x.Subject, 500, &t.subject}, {"body", x.Body, 20_000, &t.body}} {
		if one.text == "" {
			continue
		}
		if len(one.text) > one.limit {
			return t, fmt.Errorf("%w: the template of its %s is longer than %d bytes", ErrSubscription, one.what, one.limit)
		}
		parsed, err := template.New(one.what).Option("missingkey=error").Parse(one.text)
		if err != nil {
			return t, fmt.Errorf("%w: the template of its %s: %w", ErrSubscription, one.what, err)
		}
		*one.to = parsed
		if _, err := fill(parsed, example); err != nil {
			return t, fmt.Errorf("%w: the template of its %s: %w; it can use .Sentence, .Text, .Notices, .Count, .Device and .URL", ErrSubscription, one.what, err)
		}
	}
	return t, nil
}

var example = Letter{Sentence: "x", Text: "x", Count: 1, Device: "x", URL: "x", Notices: make([]struct {
	At                  time.Time
	Kind, Title, Detail string
	Device              string
}, 1)}

// bounded takes so much and no more.
type bounded struct{ bytes.Buffer }

var errTooLong = errors.New("it becomes too long")

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > maxLetter {
		return 0, errTooLong
	}
	return b.Buffer.Write(p)
}

func fill(t *template.Template, l Letter) (string, error) {
	var b bounded
	err := t.Execute(&b, l)
	return b.String(), err
}

// maxChanges is how many changes a message tells with their differences.
const maxChanges = 30

// compose writes the message about notices, without secrets.
func (s *Service) compose(ctx context.Context, x *Subscription, list []Notice, digest bool) (mail.Message, error) {
	zone, err := time.LoadLocation(x.Zone)
	if err != nil {
		zone = time.UTC
	}
	var found []changes.Change
	var said []report.Said
	more := 0
	for _, n := range list {
		if n.Change == 0 {
			said = append(said, report.Said{At: n.At, Text: n.Title, Detail: n.Detail})
			continue
		}
		if len(found) == maxChanges {
			more++
			continue
		}
		c, err := s.Changes.Get(ctx, n.Change)
		if err != nil {
			return mail.Message{}, err
		}
		found = append(found, c)
	}
	r := s.Changes.Report(ctx, found, zone, "")
	r.Said = said
	switch {
	case len(list) == 0:
		r.Sentence = "Nothing happened."
	case len(found) == 0 && len(said) == 1:
		r.Sentence = said[0].Text + "."
	case len(found) == 0:
		r.Sentence = fmt.Sprintf("%d things happened.", len(said))
	}
	if more > 0 {
		r.About = append(r.About, fmt.Sprintf("%d more changes are in the console.", more))
	}
	r.About = append(r.About, "This is the subscription "+x.Name+" of Verge Keep.")
	var text, page bytes.Buffer
	if err := errors.Join(r.Text(&text), r.HTML(&page)); err != nil {
		return mail.Message{}, err
	}
	m := mail.Message{Subject: strings.TrimSuffix(r.Sentence, "."), Text: text.String(), HTML: page.String()}
	if digest {
		m.Subject = x.Name + ": " + m.Subject
	}
	if x.Subject == "" && x.Body == "" {
		return m, nil
	}
	t, err := parseTemplates(x)
	if err != nil {
		return m, err
	}
	l := Letter{Sentence: r.Sentence, Text: m.Text, Count: len(list), URL: s.URL()}
	for _, n := range list {
		name := s.deviceName(ctx, n.DeviceID)
		if l.Device == "" {
			l.Device = name
		}
		l.Notices = append(l.Notices, struct {
			At                  time.Time
			Kind, Title, Detail string
			Device              string
		}{n.At.In(zone), string(n.Kind), n.Title, n.Detail, name})
	}
	if t.subject != nil {
		if m.Subject, err = fill(t.subject, l); err != nil {
			return m, fmt.Errorf("%w: its subject: %w", ErrSubscription, err)
		}
		m.Subject = strings.Join(strings.Fields(m.Subject), " ")
	}
	if t.body != nil {
		if m.Text, err = fill(t.body, l); err != nil {
			return m, fmt.Errorf("%w: its body: %w", ErrSubscription, err)
		}
		m.HTML = "<!doctype html><pre>" + html.EscapeString(m.Text) + "</pre>"
	}
	return m, nil
}

// Preview is the message that a subscription would have sent about the newest
// notices that it wants.
func (s *Service) Preview(ctx context.Context, x Subscription) (mail.Message, error) {
	if err := s.Check(ctx, &x); err != nil {
		return mail.Message{}, err
	}
	list, err := s.newest(ctx, &x)
	if err != nil {
		return mail.Message{}, err
	}
	return s.compose(ctx, &x, list, x.Digest != "")
}

// newest is the newest notice that a subscription wants, or of a digest the newest
// ten.
func (s *Service) newest(ctx context.Context, x *Subscription) ([]Notice, error) {
	sel, err := selector.Parse(x.Selector)
	if err != nil {
		return nil, err
	}
	all, err := s.Notices(ctx, 0, 500)
	if err != nil {
		return nil, err
	}
	most := 1
	if x.Digest != "" {
		most = 10
	}
	var list []Notice
	for i := range all {
		names, err := s.byID(ctx, all[i:i+1])
		if err != nil {
			return nil, err
		}
		if len(list) < most && x.wants(&all[i], names[all[i].DeviceID], sel) {
			list = append([]Notice{all[i]}, list...)
		}
	}
	return list, nil
}

// TestChannel sends a message that says that it is one to see whether it arrives.
func (s *Service) TestChannel(ctx context.Context, name, by string) error {
	c, err := s.channel(ctx, name)
	if err != nil {
		return err
	}
	x := Subscription{Name: "test", Zone: "UTC"}
	n := Notice{At: s.Now(), Kind: "test", Title: by + " has asked for this message, to see that it arrives"}
	return s.through(ctx, &c, &x, []Notice{n}, fmt.Sprintf("test-%d", s.Now().UnixNano()), false)
}

// eventData is what a hook is told.
func (s *Service) eventData(ctx context.Context, n *Notice) (json.RawMessage, error) {
	data := map[string]any{"notice": n.ID, "title": n.Title, "detail": n.Detail}
	if name := s.deviceName(ctx, n.DeviceID); name != "" {
		data["device"] = name
	}
	if n.Round != 0 {
		data["round"] = n.Round
	}
	if n.Change != 0 {
		c, err := s.Changes.Get(ctx, n.Change)
		if err != nil {
			return nil, err
		}
		r := s.Changes.Report(ctx, []changes.Change{c}, time.UTC, "")
		var text bytes.Buffer
		if err := r.Text(&text); err != nil {
			return nil, err
		}
		from, to := c.When()
		data["change"] = map[string]any{
			"id": c.ID, "site": c.Site, "from": from, "to": to, "found": c.Found, "accounts": c.Accounts, "sources": c.Sources, "methods": c.Methods,
			"added": c.Stats.Added, "removed": c.Stats.Removed, "changed": c.Stats.Changed, "moved": c.Stats.Moved,
			"severity": c.Severity.String(), "sections": c.Sections, "place": c.Place, "window": c.Hours, "verdict": c.Verdict, "reference": c.Reference,
			"text": text.String(), "link": fmt.Sprintf("%s/changes?change=%d", s.URL(), c.ID),
		}
	}
	return json.Marshal(data)
}
