package notify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/changes"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
	"vergekeep/wire/mail"
)

// ErrReport is wrapped where a report makes no sense.
var ErrReport = errors.New("it cannot be reported like this")

// Report is a report of changes that is made by itself and mailed.
type Report struct {
	Name       string
	Expression string // cron, five fields
	Zone       string
	Span       time.Duration // how far back
	Selector   string
	Form       string // html, pdf, csv
	Channel    string // of kind mail
	Account    string
	At         time.Time

	last time.Time
}

// Media are the media types of the forms of a report.
var Media = map[string]string{"html": "text/html; charset=utf-8", "pdf": "application/pdf", "csv": "text/csv; charset=utf-8"}

// Written is a report that can be written in all forms.
type Written interface {
	HTML(io.Writer) error
	PDF(io.Writer) error
	CSV(io.Writer) error
}

// Document writes a report in one of its forms.
func Document(r Written, form string) ([]byte, error) {
	var b bytes.Buffer
	var err error
	switch form {
	case "html":
		err = r.HTML(&b)
	case "pdf":
		err = r.PDF(&b)
	case "csv":
		err = r.CSV(&b)
	default:
		err = fmt.Errorf("%w: the form is html, pdf or csv, not %q", ErrReport, form)
	}
	return b.Bytes(), err
}

// Reports are the reports that are made by themselves, in order of name.
func (s *Service) Reports(ctx context.Context) ([]Report, error) {
	rows, err := s.DB.Query(ctx, `SELECT name, expression, zone, span, selector, form, channel, last_due, account, at FROM reports ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Report
	for rows.Next() {
		var r Report
		var span, last, at int64
		if err := rows.Scan(&r.Name, &r.Expression, &r.Zone, &span, &r.Selector, &r.Form, &r.Channel, &last, &r.Account, &at); err != nil {
			return nil, err
		}
		r.Span, r.last, r.At = time.Duration(span)*time.Second, store.Time(last), store.Time(at)
		list = append(list, r)
	}
	return list, rows.Err()
}

// SetReport makes or changes a report.
func (s *Service) SetReport(ctx context.Context, r Report) error {
	if err := ref.CheckName(r.Name); err != nil {
		return fmt.Errorf("%w: its name %w", ErrReport, err)
	}
	if _, err := cron.ParseStandard(r.Expression); err != nil {
		return fmt.Errorf("%w: %w; write for example 0 7 * * 1", ErrReport, err)
	}
	if _, err := time.LoadLocation(r.Zone); err != nil || r.Zone == "Local" {
		return fmt.Errorf("%w: %q is no time zone", ErrReport, r.Zone)
	}
	if r.Span < time.Hour || r.Span > 400*24*time.Hour {
		return fmt.Errorf("%w: it tells of an hour at the least and of 400 days at the most", ErrReport)
	}
	if Media[r.Form] == "" {
		return fmt.Errorf("%w: the form is html, pdf or csv, not %q", ErrReport, r.Form)
	}
	if err := selector.CheckLasting(r.Selector); err != nil {
		return err
	}
	c, err := s.channel(ctx, r.Channel)
	if err != nil {
		return err
	}
	if c.Kind != Mail {
		return fmt.Errorf("%w: a report is mailed, and the channel %s is of the kind %s", ErrReport, c.Name, c.Kind)
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO reports (name, expression, zone, span, selector, form, channel, last_due, account, at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?9, ?8, ?9)
			ON CONFLICT (name) DO UPDATE SET expression = ?2, zone = ?3, span = ?4, selector = ?5, form = ?6, channel = ?7, account = ?8, at = ?9`,
			r.Name, r.Expression, r.Zone, int64(r.Span/time.Second), r.Selector, r.Form, r.Channel, r.Account, store.Stamp(s.Now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: r.Account, Action: "report set", Object: r.Name, Detail: r.Expression + " to " + r.Channel})
	})
}

// DeleteReport takes one away.
func (s *Service) DeleteReport(ctx context.Context, name, by string) error {
	return s.remove(ctx, `DELETE FROM reports WHERE name = ?`, "report delete", name, by)
}

// reports makes and mails the reports that are due. One that cannot be handed over
// is tried again at the next moment.
func (s *Service) reports(ctx context.Context) error {
	list, err := s.Reports(ctx)
	if err != nil {
		return err
	}
	now := s.Now()
	var errs []error
	for i := range list {
		r := &list[i]
		spec, err := cron.ParseStandard(r.Expression)
		if err != nil {
			return err
		}
		zone, err := time.LoadLocation(r.Zone)
		if err != nil {
			return err
		}
		due := spec.Next(r.last.In(zone))
		if due.IsZero() || due.After(now) {
			continue
		}
		for next := spec.Next(due); !next.IsZero() && !next.After(now); next = spec.Next(next) {
			due = next
		}
		if err := s.mailReport(ctx, r, due, zone); err != nil {
			errs = append(errs, fmt.Errorf("the report %s: %w", r.Name, err))
			continue
		}
		errs = append(errs, s.DB.Write(ctx, func(tx *store.Tx) error {
			_, err := tx.Exec(`UPDATE reports SET last_due = ? WHERE name = ?`, store.Stamp(due), r.Name)
			return err
		}))
	}
	return errors.Join(errs...)
}

func (s *Service) mailReport(ctx context.Context, r *Report, due time.Time, zone *time.Location) error {
	c, err := s.channel(ctx, r.Channel)
	if err != nil {
		return err
	}
	list, _, err := s.Changes.List(ctx, changes.Filter{Selector: r.Selector, From: due.Add(-r.Span), To: due, Oldest: true})
	if err != nil {
		return err
	}
	made := s.Changes.Report(ctx, list, zone, r.Account)
	made.About = append(made.About, fmt.Sprintf("%s: from %s to %s, %s.", r.Name, due.Add(-r.Span).In(zone).Format("2006-01-02 15:04"), due.In(zone).Format("2006-01-02 15:04"), zone))
	data, err := Document(made, r.Form)
	if err != nil {
		return err
	}
	name := strings.Map(func(c rune) rune {
		if c == ' ' {
			return '-'
		}
		return c
	}, r.Name)
	return s.Post.Send(ctx, mail.Message{
		To: fleet.SplitAddresses(c.Target), ID: fmt.Sprintf("report-%x-%d@vergekeep.invalid", r.Name, due.Unix()), Subject: r.Name + ": " + made.Sentence, Text: made.Sentence + "\n\n" + strings.Join(made.About, "\n") + "\n",
		Files: []mail.File{{Name: name + "-" + due.In(zone).Format("2006-01-02") + "." + r.Form, Media: strings.Split(Media[r.Form], ";")[0], Data: data}},
	}, journal.System)
}
