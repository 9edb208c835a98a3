// Package daemon puts the rooms together into the service that runs: it opens
// the store, wires the services, listens, and takes everything down in order.
package daemon

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"vergekeep/api"
	"vergekeep/archive"
	"vergekeep/console"
	"vergekeep/core/dialect"
	"vergekeep/service/accounts"
	"vergekeep/service/audits"
	"vergekeep/service/changes"
	"vergekeep/service/copies"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/imports"
	"vergekeep/service/journal"
	"vergekeep/service/keeping"
	"vergekeep/service/notes"
	"vergekeep/service/notify"
	"vergekeep/service/post"
	"vergekeep/service/rounds"
	"vergekeep/service/search"
	"vergekeep/service/signals"
	"vergekeep/service/texts"
	"vergekeep/service/vault"
	"vergekeep/store"
	"vergekeep/wire/drop"
	"vergekeep/wire/inlet"
)

// Config says how the service runs.
type Config struct {
	Data        string // folder of the database
	KeyFile     string // of the vault; Data/vault.key if empty
	Passphrase  string // of the vault, instead of a key file
	Listen      string // host:port
	Cert, Key   string // TLS certificate and key files
	AllowPlain  bool   // listen beyond loopback without TLS
	Dialects    string // folder of the user's dialects, or ""
	Concurrency int    // visits at a time
	// AllowCommands lets administrators name commands of this machine as the
	// source of secrets and lists.
	AllowCommands bool
	ConfirmKeys   bool   // a device's first host key must be confirmed
	DropSFTP      string // address where drops are taken by SFTP; none if empty
	DropTFTP      string // likewise by TFTP
	DropHost      string // by which devices reach this machine
	// Where signals are taken; none if empty.
	SyslogUDP, SyslogTCP, SyslogTLS, Traps string
	Quiet                                  time.Duration // before a device with signals is captured; as usual if 0
	Pause                                  func(tries int) time.Duration
	Log                                    *slog.Logger
	Now                                    func() time.Time
	Version                                string
}

// UsualQuiet is how long a device has to say nothing more before it is captured.
const UsualQuiet = signals.UsualQuiet

// Daemon is the running service.
type Daemon struct {
	Accounts *accounts.Accounts
	Archive  *archive.Archive
	Fleet    *fleet.Fleet
	Rounds   *rounds.Service
	Vault    *vault.Vault
	Imports  *imports.Service
	Keeping  *keeping.Service
	Copies   *copies.Service
	Notes    *notes.Service
	Changes  *changes.Service
	Signals  *signals.Service
	Notify   *notify.Service
	Audits   *audits.Service
	Inlet    *inlet.Inlet
	URL      string
	// FirstPassword is the administrator's one-time password where this start
	// created the account, else "".
	FirstPassword string

	db       *store.DB
	drops    *drop.Receiver
	log      *slog.Logger
	listener net.Listener
	handler  http.Handler
	stopping chan struct{}
	ready    chan struct{}
}

// ErrListen is wrapped where the service may not listen as asked.
var ErrListen = errors.New("the service will not listen there")

// Open makes everything ready to run; call Serve and then Close.
func Open(ctx context.Context, c Config) (_ *Daemon, err error) {
	if c.Now == nil {
		c.Now = time.Now
	}
	if c.KeyFile == "" {
		c.KeyFile = filepath.Join(c.Data, "vault.key")
	}
	if err := checkListen(c); err != nil {
		return nil, err
	}
	var folders []fs.FS
	if c.Dialects != "" {
		if info, err := os.Stat(c.Dialects); err != nil || !info.IsDir() {
			return nil, fmt.Errorf("the folder of dialects: %s is no folder", c.Dialects)
		}
		folders = append(folders, os.DirFS(c.Dialects))
	}
	dialects, err := dialect.Load(folders...)
	if err != nil {
		return nil, fmt.Errorf("a dialect is faulty; mend it, or check it with 'vergekeep dialect check':\n%w", err)
	}
	// A backup that was being sent when the service was killed stays nowhere.
	if left, err := filepath.Glob(filepath.Join(c.Data, "backup-*")); err == nil {
		for _, folder := range left {
			if err := os.RemoveAll(folder); err != nil {
				return nil, err
			}
		}
	}
	d := &Daemon{log: c.Log, stopping: make(chan struct{}), ready: make(chan struct{})}
	if d.db, err = store.Open(ctx, filepath.Join(c.Data, database)); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, d.db.Close())
		}
	}()
	if d.Vault, err = vault.Open(ctx, d.db, vault.Key{File: c.KeyFile, Passphrase: c.Passphrase, Commands: c.AllowCommands}); err != nil {
		return nil, err
	}
	if d.drops, err = d.listenForDrops(c); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil && d.drops != nil {
			d.drops.Close()
		}
	}()
	if d.Archive, err = archive.New(d.db); err != nil {
		return nil, err
	}
	bus := &events.Bus{}
	meter := newMeter(d.db, d.Archive)
	d.Accounts = accounts.New(d.db, c.Now)
	d.Fleet = fleet.New(d.db, dialects, c.Now)
	var read *texts.Texts
	d.Changes = changes.New(changes.Config{DB: d.db, Archive: d.Archive, Fleet: d.Fleet, Texts: func() *texts.Texts { return read }, Bus: bus, Log: c.Log, Now: c.Now, URL: d.url,
		Tell: func(tx *store.Tx, x changes.Change) error { return d.Notify.Changed(tx, x) }})
	d.Rounds = rounds.New(rounds.Config{
		Filing: func(tx *store.Tx, f rounds.Filing) error {
			change, err := d.Changes.Filed(tx, f)
			if err != nil {
				return err
			}
			return d.Signals.Filed(tx, f, change)
		},
		DB: d.db, Archive: d.Archive, Fleet: d.Fleet, Vault: d.Vault, Dialects: dialects, Bus: bus, Log: c.Log, Now: c.Now,
		Concurrency: c.Concurrency, Metrics: meter, Drops: d.drops, ConfirmKeys: c.ConfirmKeys, Pause: c.Pause,
	})
	d.Signals = signals.New(signals.Config{DB: d.db, Fleet: d.Fleet, Rounds: d.Rounds, Changes: d.Changes, Vault: d.Vault, Bus: bus, Log: c.Log, Now: c.Now, Quiet: c.Quiet})
	letters := post.New(d.db, d.Vault, c.Now)
	d.Notify = notify.New(notify.Config{DB: d.db, Fleet: d.Fleet, Changes: d.Changes, Post: letters, Vault: d.Vault, Bus: bus, Log: c.Log, Now: c.Now, URL: d.url})
	d.Audits = audits.New(audits.Config{DB: d.db, Archive: d.Archive, Fleet: d.Fleet, Changes: d.Changes, Texts: func() *texts.Texts { return read }, Dialects: dialects, Bus: bus, Log: c.Log, Now: c.Now, Data: c.Data,
		Tell: func(tx *store.Tx, f audits.Finding) error { return d.Notify.Found(tx, f) }, Warn: func(tx *store.Tx, w audits.Waiver) error { return d.Notify.RunsOut(tx, w) }})
	if err = d.Audits.Bootstrap(ctx); err != nil {
		return nil, err
	}
	d.Imports = imports.New(d.db, d.Fleet, c.Log, c.Now, c.AllowCommands)
	d.Fleet.SetPromise(d.Rounds.Promise)
	if d.FirstPassword, err = d.Accounts.Bootstrap(ctx); err != nil {
		return nil, err
	}
	if d.FirstPassword != "" {
		// From the first day on, everything is visited at night.
		nightly := rounds.Schedule{Name: "nightly", Description: "Everything, each night. It was there from the start.", Expression: "0 2 * * *", Zone: localZone()}
		if _, err = d.Rounds.AddSchedule(ctx, nightly, journal.System); err != nil {
			return nil, err
		}
	}
	if err = d.Notify.Bootstrap(ctx, localZone()); err != nil {
		return nil, err
	}
	said, finder := notes.New(d.db, d.Archive, c.Now), search.New(d.Archive, d.Fleet, dialects, c.Now)
	d.Notes = said
	d.Fleet.SetSearches(said.Finds(finder))
	d.Keeping = keeping.New(d.db, d.Archive, d.Fleet, c.Log, c.Now)
	d.Copies = copies.New(copies.Config{DB: d.db, Archive: d.Archive, Fleet: d.Fleet, Rounds: d.Rounds, Vault: d.Vault, Dialects: dialects, Bus: bus, Heads: d.Keeping.Heads, Data: c.Data, Log: c.Log, Now: c.Now})
	d.Keeping.Pointed = d.Changes.Pointed
	read = texts.New(d.Archive, d.Fleet, d.Rounds, dialects, said, c.Now)
	read.Standard = func(ctx context.Context, device string) (string, string, error) {
		x, err := d.Audits.CompareStandard(ctx, device, "")
		return x.Standard, x.Rendered, err
	}
	d.handler, err = api.New(api.Config{
		Changes: d.Changes, Signals: d.Signals, Listeners: func() []string { return d.Inlet.Names() },
		Notes: said, Finder: finder, Keeping: d.Keeping, Scratch: c.Data,
		DB: d.db, Archive: d.Archive, Fleet: d.Fleet, Vault: d.Vault, Rounds: d.Rounds, Imports: d.Imports, Copies: d.Copies, Post: letters, Notify: d.Notify, Audits: d.Audits, Accounts: d.Accounts, Dialects: dialects, Bus: bus, Log: c.Log,
		Texts: read, Metrics: meter.handler(), Console: console.Files(), Version: c.Version, Secure: c.Cert != "",
		Ready: d.isReady, Stopping: d.stopping,
	})
	if err != nil {
		return nil, err
	}
	if err = d.Signals.Settle(ctx); err != nil {
		return nil, err
	}
	if d.Inlet, err = d.listenForSignals(ctx, c); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			d.Inlet.Close()
		}
	}()
	var lc net.ListenConfig
	if d.listener, err = lc.Listen(ctx, "tcp", c.Listen); err != nil {
		return nil, fmt.Errorf("listening on %s: %w", c.Listen, err)
	}
	scheme := "http"
	if c.Cert != "" {
		pair, err := tls.LoadX509KeyPair(c.Cert, c.Key)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("the TLS certificate: %w", err), d.listener.Close())
		}
		d.listener = tls.NewListener(d.listener, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}})
		scheme = "https"
	}
	d.URL = scheme + "://" + d.listener.Addr().String()
	return d, nil
}

// database is the name of the database's file within the data folder.
const database = "vergekeep.db"

// Restore puts a backup in the place of a database that must not exist.
func Restore(ctx context.Context, backup, data string) error {
	return store.Restore(ctx, backup, filepath.Join(data, database))
}

// localZone is the name of this machine's time zone, UTC where it has none.
func localZone() string {
	if name := time.Local.String(); name != "Local" {
		return name
	}
	if link, err := os.Readlink("/etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(link, "zoneinfo/"); ok {
			if _, err := time.LoadLocation(name); err == nil {
				return name
			}
		}
	}
	return "UTC"
}

// listenForDrops takes drops where that is asked for. The host key of the SFTP
// side is made once and kept beside the database.
func (d *Daemon) listenForDrops(c Config) (*drop.Receiver, error) {
	if c.DropSFTP == "" && c.DropTFTP == "" {
		return nil, nil
	}
	file := filepath.Join(c.Data, "drop.key")
	key, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		if key, err = drop.NewKey(); err == nil {
			err = os.WriteFile(file, key, 0o600)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the host key for drops: %w", err)
	}
	return drop.Listen(drop.Config{SFTP: c.DropSFTP, TFTP: c.DropTFTP, Host: c.DropHost, Key: key})
}

// listenForSignals opens the listeners that are asked for.
func (d *Daemon) listenForSignals(ctx context.Context, c Config) (*inlet.Inlet, error) {
	conf := inlet.Config{UDP: c.SyslogUDP, TCP: c.SyslogTCP, TLS: c.SyslogTLS, Traps: c.Traps, Handle: d.Signals.Take, Users: d.Signals.Users, Now: c.Now}
	if c.SyslogTLS != "" {
		if c.Cert == "" {
			return nil, fmt.Errorf("%w: syslog by TLS takes a certificate; give --tls-cert and --tls-key", ErrListen)
		}
		pair, err := tls.LoadX509KeyPair(c.Cert, c.Key)
		if err != nil {
			return nil, fmt.Errorf("the TLS certificate: %w", err)
		}
		conf.Certificate = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	}
	in, err := inlet.Listen(ctx, conf)
	if err != nil {
		err = fmt.Errorf("%w: %w; another address, or an empty one for none, can be given with --syslog-udp, --syslog-tcp and --traps", ErrListen, err)
	}
	return in, err
}

// checkListen keeps passwords off the network where nothing protects them.
func checkListen(c Config) error {
	host, _, err := net.SplitHostPort(c.Listen)
	if err != nil {
		return fmt.Errorf("%w: %q is no address; write for example 127.0.0.1:7420", ErrListen, c.Listen)
	}
	if (c.Cert == "") != (c.Key == "") {
		return fmt.Errorf("%w: --tls-cert and --tls-key go together", ErrListen)
	}
	ip := net.ParseIP(host)
	if c.Cert != "" || host == "localhost" || ip != nil && ip.IsLoopback() || c.AllowPlain {
		return nil
	}
	return fmt.Errorf("%w: %s can be reached from other machines and there is no TLS certificate; give --tls-cert and --tls-key, or say --listen-without-tls", ErrListen, c.Listen)
}

// Database is where everything is kept; for tests and measurements.
func (d *Daemon) Database() *store.DB { return d.db }

// url is the address of the console, once it listens.
func (d *Daemon) url() string { return d.URL }

func (d *Daemon) isReady() error {
	select {
	case <-d.ready:
	default:
		return errors.New("starting")
	}
	select {
	case <-d.stopping:
		return errors.New("stopping")
	default:
		return nil
	}
}

// Serve runs until ctx ends: rounds that were interrupted go on, the schedule
// is kept, requests are answered. Visits in flight are ended before it returns.
func (d *Daemon) Serve(ctx context.Context) error {
	srv := &http.Server{
		Handler: d.handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(d.log.Handler(), slog.LevelDebug),
	}
	if err := d.Rounds.Resume(ctx); err != nil && ctx.Err() == nil {
		return err
	}
	background, stop := context.WithCancel(ctx)
	var wg sync.WaitGroup
	wg.Go(func() { d.Rounds.RunSchedules(background) })
	wg.Go(func() { d.Imports.Keep(background) })
	wg.Go(func() { d.Keeping.Run(background) })
	wg.Go(func() { d.Copies.Keep(background) })
	wg.Go(func() { d.Changes.Run(background) })
	wg.Go(func() { d.Notify.Run(background) })
	wg.Go(func() { d.Audits.Run(background) })
	wg.Go(func() { d.Signals.Run(background) })
	failed := make(chan error, 1)
	wg.Go(func() { failed <- srv.Serve(d.listener) })
	close(d.ready)
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	close(d.stopping)
	stop()
	d.Rounds.Close()
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if shutdownErr := srv.Shutdown(last); shutdownErr != nil {
		_ = srv.Close()
	}
	wg.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}

// Tune sets up the process for the service: visits allocate a lot that lives
// for milliseconds, so collecting garbage less often costs some memory and
// saves a fifth of the processor. Call it once in a process that serves.
func Tune() {
	debug.SetGCPercent(300)
	debug.SetMemoryLimit(1 << 30)
}

// Close closes the database and the listener. Call it after Serve.
func (d *Daemon) Close() error {
	d.Rounds.Close()
	d.Inlet.Close()
	if d.drops != nil {
		d.drops.Close()
	}
	_ = d.listener.Close()
	return d.db.Close()
}
