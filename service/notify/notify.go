// Package notify tells people and other systems what happened: it keeps where word
// can go (channels), who wants to know of what (subscriptions), what happened
// (notices), and what is to be sent or was (deliveries). What has to be told is
// written down in the transaction of what happened, so that nothing is lost; a
// delivery is done once.
package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/robfig/cron/v3"

	"vergekeep/core/audit"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/core/window"
	"vergekeep/service/audits"
	"vergekeep/service/changes"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/post"
	"vergekeep/service/vault"
	"vergekeep/store"
	"vergekeep/wire/mail"
	"vergekeep/wire/outlet"
)

// Errors that callers test for.
var (
	ErrChannel      = errors.New("word cannot go there")
	ErrSubscription = errors.New("it cannot be subscribed to like this")
	ErrUnknown      = errors.New("there is none of that name")
	ErrInUse        = errors.New("something still uses it")
)

// Kind is a kind of thing that happened.
type Kind string

// The kinds.
const (
	Changed  Kind = "change"         // any change
	Outside  Kind = "outside"        // a change outside agreed hours, or in a freeze
	Round    Kind = "round"          // a round has ended
	Failures Kind = "round-failures" // a round has ended, and visits failed
	Stale    Kind = "freshness"      // a device has become stale
	Drifted  Kind = "drift"          // a configuration is no longer as it was when it was blessed
	Found    Kind = "finding"        // an audit found something wrong
	RunsOut  Kind = "waiver"         // a waiver runs out within a week
)

// Kinds are all kinds, with what they mean.
var Kinds = []struct {
	Kind Kind
	Says string
}{
	{Outside, "a change outside agreed hours, or in a freeze"},
	{Changed, "any change"},
	{Failures, "a round that ended with visits that failed"},
	{Round, "any round that ended"},
	{Stale, "a device whose last good capture is older than promised, three times over"},
	{Drifted, "a configuration that is no longer as it was when it was blessed"},
	{Found, "something that an audit found wrong"},
	{RunsOut, "a waiver that runs out within a week"},
}

// Notice is one thing that happened.
type Notice struct {
	ID       int64
	At       time.Time
	Kind     Kind
	DeviceID int64
	Change   int64
	Round    int64
	Severity changes.Severity
	Title    string
	Detail   string
}

// Channel is where word can go.
type Channel struct {
	Name       string
	Kind       string // console, mail, hook, syslog
	Target     string // addresses separated by ", "; or a URL
	Credential string // of a hook: whose token signs
	Account    string
	At         time.Time
}

// The kinds of channel.
const (
	Console = "console" // the list of notices, and Server-Sent Events
	Mail    = "mail"
	Hook    = "hook"   // CloudEvents by HTTP
	Syslog  = "syslog" // RFC 5424
)

// Subscription says who wants to know of what.
type Subscription struct {
	Name     string
	Events   []Kind
	Selector string
	Severity changes.Severity // of changes: this one and above
	Channel  string
	Digest   string // when, as a cron expression; "" for at once
	Zone     string
	Idle     bool   // of a digest: says so where nothing happened
	Quiet    string // hours in which nothing is sent: "22:00-06:00"
	PerHour  int    // at most so many; what is more comes together
	Subject  string // templates; "" for the usual ones
	Body     string
	Paused   bool
	Account  string
	At       time.Time

	sentFor time.Time
}

// Config is what a service needs.
type Config struct {
	DB      *store.DB
	Fleet   *fleet.Fleet
	Changes *changes.Service
	Post    *post.Service
	Vault   *vault.Vault
	Bus     *events.Bus
	Log     *slog.Logger
	Now     func() time.Time
	URL     func() string // of the console
}

// Service tells what happened. It is safe for concurrent use.
type Service struct {
	Config
	wake chan struct{}
	busy sync.Mutex // nothing is sent by two at a time, and so twice
}

// New makes a service; Run keeps it going.
func New(c Config) *Service { return &Service{Config: c, wake: make(chan struct{}, 1)} }

// Changed notes a change, in the transaction that says that it was looked at.
func (s *Service) Changed(tx *store.Tx, c changes.Change) error {
	kind := Changed
	if c.Place == window.Outside || c.Place == window.Frozen {
		kind = Outside
	}
	return insert(tx, Notice{At: s.Now(), Kind: kind, DeviceID: c.DeviceID, Change: c.ID, Severity: c.Severity, Title: changes.Sentence(&c), Detail: strings.Join(c.Sections, "; ")})
}

// Found notes what an audit found wrong, in the transaction that says so.
func (s *Service) Found(tx *store.Tx, f audits.Finding) error {
	n := Notice{At: s.Now(), Kind: Found, DeviceID: f.DeviceID, Severity: severityOf(f.Severity), Title: fmt.Sprintf("%s: %s (%s)", f.Device, f.Title, f.Name()), Detail: f.Why}
	if strings.HasPrefix(f.Document, "baseline:") {
		n.Kind, n.Title = Drifted, f.Device+" has drifted from its baseline"
	}
	return insert(tx, n)
}

func severityOf(s audit.Severity) changes.Severity {
	v, err := changes.ParseSeverity(string(s))
	if err != nil {
		return changes.Medium
	}
	return v
}

// RunsOut notes a waiver that is about to run out.
func (s *Service) RunsOut(tx *store.Tx, w audits.Waiver) error {
	return insert(tx, Notice{At: s.Now(), Kind: RunsOut, Title: fmt.Sprintf("The waiver for %s runs out on %s", w.What(), w.Until.UTC().Format("2006-01-02 15:04 MST")), Detail: w.Reason})
}

const maxDetail = 1000

func insert(tx *store.Tx, n Notice) error {
	if len(n.Detail) > maxDetail {
		n.Detail = strings.ToValidUTF8(n.Detail[:maxDetail], "") + "…"
	}
	_, err := tx.Exec(`INSERT INTO notices (at, kind, device_id, change_id, round_id, severity, title, detail) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		store.Stamp(n.At), n.Kind, n.DeviceID, n.Change, n.Round, int(n.Severity), n.Title, n.Detail)
	return err
}

const noticeColumns = `id, at, kind, device_id, change_id, round_id, severity, title, detail`

func (s *Service) query(ctx context.Context, where string, args ...any) ([]Notice, error) {
	rows, err := s.DB.Query(ctx, `SELECT `+noticeColumns+` FROM notices `+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Notice
	for rows.Next() {
		var n Notice
		var at int64
		if err := rows.Scan(&n.ID, &at, &n.Kind, &n.DeviceID, &n.Change, &n.Round, &n.Severity, &n.Title, &n.Detail); err != nil {
			return nil, err
		}
		n.At = store.Time(at)
		list = append(list, n)
	}
	return list, rows.Err()
}

// Notices are those before one (0: the newest), newest first.
func (s *Service) Notices(ctx context.Context, before int64, limit int) ([]Notice, error) {
	if before == 0 {
		before = 1 << 62
	}
	return s.query(ctx, `WHERE id < ? ORDER BY id DESC LIMIT ?`, before, limit)
}

// Bootstrap makes the channel and the subscriptions that are there from the first
// start. They go to the console, so that nothing is sent to nobody; once the channel
// is set to an address, all of them go there.
func (s *Service) Bootstrap(ctx context.Context, zone string) error {
	var n int
	if err := s.DB.QueryRow(ctx, `SELECT count(*) FROM channels`).Scan(&n); err != nil || n > 0 {
		return err
	}
	if err := s.SetChannel(ctx, Channel{Name: "team", Kind: Console, Account: journal.System}); err != nil {
		return err
	}
	for _, x := range []Subscription{
		{Name: "outside agreed hours", Events: []Kind{Outside}},
		{Name: "severe changes", Events: []Kind{Changed}, Severity: changes.High},
		{Name: "rounds with failures", Events: []Kind{Failures}},
		{Name: "stale devices", Events: []Kind{Stale}},
		{Name: "severe findings", Events: []Kind{Found}, Severity: changes.High},
		{Name: "drift", Events: []Kind{Drifted}},
		{Name: "waivers that run out", Events: []Kind{RunsOut}},
		{Name: "each morning", Events: []Kind{Changed, Outside}, Digest: "0 7 * * *", Zone: zone},
	} {
		x.Channel, x.Account, x.PerHour = "team", journal.System, 20
		if err := s.SetSubscription(ctx, x); err != nil {
			return err
		}
	}
	return nil
}

// Channels are all channels, in order of name.
func (s *Service) Channels(ctx context.Context) ([]Channel, error) {
	rows, err := s.DB.Query(ctx, `SELECT name, kind, target, credential, account, at FROM channels ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Channel
	for rows.Next() {
		var c Channel
		var at int64
		if err := rows.Scan(&c.Name, &c.Kind, &c.Target, &c.Credential, &c.Account, &at); err != nil {
			return nil, err
		}
		c.At = store.Time(at)
		list = append(list, c)
	}
	return list, rows.Err()
}

func (s *Service) channel(ctx context.Context, name string) (Channel, error) {
	list, err := s.Channels(ctx)
	for _, c := range list {
		if strings.EqualFold(c.Name, name) {
			return c, err
		}
	}
	if err == nil {
		err = fmt.Errorf("%w: the channel %q", ErrUnknown, name)
	}
	return Channel{}, err
}

// SetChannel makes or changes a channel.
func (s *Service) SetChannel(ctx context.Context, c Channel) error {
	if err := ref.CheckName(c.Name); err != nil {
		return fmt.Errorf("%w: its name %w", ErrChannel, err)
	}
	switch c.Kind {
	case Console:
		if c.Target != "" {
			return fmt.Errorf("%w: the console needs no address", ErrChannel)
		}
	case Mail:
		list := fleet.SplitAddresses(c.Target)
		if len(list) == 0 || len(list) > 50 {
			return fmt.Errorf("%w: name 1 to 50 mail addresses", ErrChannel)
		}
		for _, a := range list {
			if err := mail.CheckAddress(a); err != nil {
				return err
			}
		}
		c.Target = strings.Join(list, ", ")
	case Hook:
		if err := outlet.CheckHook(c.Target); err != nil {
			return err
		}
	case Syslog:
		if err := outlet.CheckSyslog(c.Target); err != nil {
			return err
		}
	default:
		return fmt.Errorf("%w: a channel is console, mail, hook or syslog, not %q", ErrChannel, c.Kind)
	}
	if c.Credential != "" {
		if c.Kind != Hook {
			return fmt.Errorf("%w: only a hook is signed", ErrChannel)
		}
		if _, err := s.Vault.Get(ctx, c.Credential); err != nil {
			return err
		}
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO channels (name, kind, target, credential, account, at) VALUES (?, ?, ?, ?, ?, ?)`, c.Name, c.Kind, c.Target, c.Credential, c.Account, store.Stamp(s.Now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: c.Account, Action: "channel set", Object: c.Name, Detail: strings.TrimSpace(c.Kind + " " + c.Target)})
	})
}

// DeleteChannel takes a channel away that no subscription names.
func (s *Service) DeleteChannel(ctx context.Context, name, by string) error {
	subscriptions, err := s.Subscriptions(ctx)
	if err != nil {
		return err
	}
	for _, x := range subscriptions {
		if strings.EqualFold(x.Channel, name) {
			return fmt.Errorf("%w: the subscription %s goes there", ErrInUse, x.Name)
		}
	}
	return s.remove(ctx, `DELETE FROM channels WHERE name = ?`, "channel delete", name, by)
}

func (s *Service) remove(ctx context.Context, statement, action, name, by string) error {
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(statement, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fmt.Errorf("%w: %q", ErrUnknown, name)
			}
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: action, Object: name})
	})
}

// Subscriptions are all subscriptions, in order of name.
func (s *Service) Subscriptions(ctx context.Context) ([]Subscription, error) {
	rows, err := s.DB.Query(ctx, `SELECT name, events, selector, severity, channel, digest, zone, idle, quiet, per_hour, subject, body, paused, sent_for, account, at FROM subscriptions ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Subscription
	for rows.Next() {
		var x Subscription
		var kinds string
		var sentFor, at int64
		if err := rows.Scan(&x.Name, &kinds, &x.Selector, &x.Severity, &x.Channel, &x.Digest, &x.Zone, &x.Idle, &x.Quiet, &x.PerHour, &x.Subject, &x.Body, &x.Paused, &sentFor, &x.Account, &at); err != nil {
			return nil, err
		}
		for _, k := range strings.Fields(kinds) {
			x.Events = append(x.Events, Kind(k))
		}
		x.sentFor, x.At = store.Time(sentFor), store.Time(at)
		list = append(list, x)
	}
	return list, rows.Err()
}

// Check says what is wrong with a subscription.
func (s *Service) Check(ctx context.Context, x *Subscription) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrSubscription, fmt.Sprintf(format, args...))
	}
	if len(x.Events) == 0 {
		return bad("it names nothing to be told of; there are %s", strings.Join(kindNames(), ", "))
	}
	for _, k := range x.Events {
		if !slices.Contains(kindNames(), string(k)) {
			return bad("%q is nothing to be told of; there are %s", k, strings.Join(kindNames(), ", "))
		}
	}
	if err := selector.CheckLasting(x.Selector); err != nil {
		return err
	}
	if x.Zone == "" {
		x.Zone = "UTC"
	}
	if _, err := time.LoadLocation(x.Zone); err != nil || x.Zone == "Local" {
		return bad("%q is no time zone", x.Zone)
	}
	if x.Digest != "" {
		if _, err := cron.ParseStandard(x.Digest); err != nil {
			return bad("the times of its digest: %v; write for example 0 7 * * *", err)
		}
	}
	if x.Idle && x.Digest == "" {
		return bad("only a digest can say that nothing happened")
	}
	if x.Quiet != "" {
		if _, err := fleet.ParseHours(x.Quiet); err != nil {
			return bad("%q are no hours; write for example 22:00-06:00", x.Quiet)
		}
	}
	if x.PerHour == 0 {
		x.PerHour = 20
	}
	if x.PerHour < 1 || x.PerHour > 1000 {
		return bad("at most 1 to 1000 an hour, not %d", x.PerHour)
	}
	if _, err := parseTemplates(x); err != nil {
		return err
	}
	_, err := s.channel(ctx, x.Channel)
	return err
}

func kindNames() (list []string) {
	for _, k := range Kinds {
		list = append(list, string(k.Kind))
	}
	return list
}

// SetSubscription makes or changes a subscription.
func (s *Service) SetSubscription(ctx context.Context, x Subscription) error {
	if err := ref.CheckName(x.Name); err != nil {
		return fmt.Errorf("%w: its name %w", ErrSubscription, err)
	}
	if err := s.Check(ctx, &x); err != nil {
		return err
	}
	var kinds []string
	for _, k := range x.Events {
		kinds = append(kinds, string(k))
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO subscriptions (name, events, selector, severity, channel, digest, zone, idle, quiet, per_hour, subject, body, paused, sent_for, account, at)
			VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?15, ?14, ?15) ON CONFLICT (name) DO UPDATE SET events = ?2, selector = ?3, severity = ?4, channel = ?5, digest = ?6, zone = ?7, idle = ?8, quiet = ?9,
			per_hour = ?10, subject = ?11, body = ?12, paused = ?13, account = ?14, at = ?15`,
			x.Name, strings.Join(kinds, " "), x.Selector, int(x.Severity), x.Channel, x.Digest, x.Zone, x.Idle, x.Quiet, x.PerHour, x.Subject, x.Body, x.Paused, x.Account, store.Stamp(s.Now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: x.Account, Action: "subscription set", Object: x.Name, Detail: strings.Join(kinds, ", ") + " to " + x.Channel})
	})
}

// DeleteSubscription takes one away.
func (s *Service) DeleteSubscription(ctx context.Context, name, by string) error {
	return s.remove(ctx, `DELETE FROM subscriptions WHERE name = ?`, "subscription delete", name, by)
}

// wants reports whether a subscription is for a notice.
func (x *Subscription) wants(n *Notice, d *fleet.Device, sel selector.Selector) bool {
	fits := slices.Contains(x.Events, n.Kind) || n.Kind == Outside && slices.Contains(x.Events, Changed) || n.Kind == Failures && slices.Contains(x.Events, Round)
	switch {
	case !fits, (n.Change != 0 || n.Kind == Found || n.Kind == Drifted) && n.Severity < x.Severity:
		return false
	case sel.Empty():
		return true
	}
	return d != nil && sel.Match(d)
}

func encode(ids []int64) string {
	raw, _ := json.Marshal(ids) // numbers always can
	return string(raw)
}
