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
	"sync"
	"time"

	"vergekeep/api"
	"vergekeep/archive"
	"vergekeep/console"
	"vergekeep/core/dialect"
	"vergekeep/service/accounts"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/service/texts"
	"vergekeep/service/vault"
	"vergekeep/store"
)

// Config says how the service runs.
type Config struct {
	Data        string // folder of the database
	KeyFile     string // of the vault; Data/vault.key if empty
	Listen      string // host:port
	Cert, Key   string // TLS certificate and key files
	AllowPlain  bool   // listen beyond loopback without TLS
	Dialects    string // folder of the user's dialects, or ""
	Concurrency int    // visits at a time
	Log         *slog.Logger
	Now         func() time.Time
	Version     string
}

// Daemon is the running service.
type Daemon struct {
	Accounts *accounts.Accounts
	Archive  *archive.Archive
	Fleet    *fleet.Fleet
	Rounds   *rounds.Service
	Vault    *vault.Vault
	URL      string
	// FirstPassword is the administrator's one-time password where this start
	// created the account, else "".
	FirstPassword string

	db       *store.DB
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
	d := &Daemon{log: c.Log, stopping: make(chan struct{}), ready: make(chan struct{})}
	if d.db, err = store.Open(ctx, filepath.Join(c.Data, "vergekeep.db")); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, d.db.Close())
		}
	}()
	if d.Vault, err = vault.Open(ctx, d.db, c.KeyFile); err != nil {
		return nil, err
	}
	if d.Archive, err = archive.New(d.db); err != nil {
		return nil, err
	}
	bus := &events.Bus{}
	meter := newMeter(d.db, d.Archive)
	d.Accounts = accounts.New(d.db, c.Now)
	d.Fleet = fleet.New(d.db, dialects, c.Now)
	d.Rounds = rounds.New(rounds.Config{
		DB: d.db, Archive: d.Archive, Fleet: d.Fleet, Vault: d.Vault, Dialects: dialects, Bus: bus, Log: c.Log, Now: c.Now,
		Concurrency: c.Concurrency, Metrics: meter,
	})
	d.Fleet.SetPromise(d.Rounds.Promise)
	if d.FirstPassword, err = d.Accounts.Bootstrap(ctx); err != nil {
		return nil, err
	}
	d.handler, err = api.New(api.Config{
		DB: d.db, Archive: d.Archive, Fleet: d.Fleet, Vault: d.Vault, Rounds: d.Rounds, Accounts: d.Accounts, Dialects: dialects, Bus: bus, Log: c.Log,
		Texts: texts.New(d.Archive, d.Fleet, d.Rounds, dialects, c.Now), Metrics: meter.handler(), Console: console.Files(), Version: c.Version, Secure: c.Cert != "",
		Ready: d.isReady, Stopping: d.stopping,
	})
	if err != nil {
		return nil, err
	}
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
	wg.Go(func() { d.Rounds.RunSchedule(background) })
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
	_ = d.listener.Close()
	return d.db.Close()
}
