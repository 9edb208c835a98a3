// Command vergekeep is the whole of Verge Keep: the service, its demonstration,
// and the command line that calls it.
package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"

	urfave "github.com/urfave/cli/v3"

	"vergekeep/cli"
	"vergekeep/daemon"
	"vergekeep/demo"
)

func main() {
	// A client command ends before garbage is worth collecting; the service sets
	// its own share.
	debug.SetGCPercent(1000)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	status := cli.Run(ctx, cli.Standard(), os.Args, version(), serve(), restore(), demonstration())
	stop()
	os.Exit(status)
}

// version is what the build was stamped with.
func version() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 12 {
				return "0.1 (" + s.Value[:12] + ")"
			}
		}
	}
	return "0.1"
}

func logger(level, form string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, fmt.Errorf("%q is no level of the log; there are debug, info, warn, error", level)
	}
	o := &slog.HandlerOptions{Level: l}
	switch form {
	case "text":
		return slog.New(slog.NewTextHandler(os.Stderr, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(os.Stderr, o)), nil
	}
	return nil, fmt.Errorf("%q is no form of the log; there are text and json", form)
}

func serve() *urfave.Command {
	return &urfave.Command{
		Name: "serve", Usage: "run the service", Category: "Service",
		Description: "For example:\n   vergekeep serve --data /var/lib/vergekeep --listen 0.0.0.0:7420 --tls-cert keep.crt --tls-key keep.key",
		Flags: []urfave.Flag{
			&urfave.StringFlag{Name: "data", Value: "./vergekeep-data", Usage: "folder of the database", Sources: urfave.EnvVars("VERGEKEEP_DATA")},
			&urfave.StringFlag{Name: "key-file", Usage: "the vault's key; DATA/vault.key if left out", Sources: urfave.EnvVars("VERGEKEEP_KEY_FILE")},
			&urfave.StringFlag{Name: "listen", Value: "127.0.0.1:7420", Usage: "host:port"},
			&urfave.StringFlag{Name: "tls-cert", Usage: "file of the certificate (PEM)"},
			&urfave.StringFlag{Name: "tls-key", Usage: "file of its key (PEM)"},
			&urfave.BoolFlag{Name: "listen-without-tls", Usage: "allow other machines to connect though nothing protects their passwords"},
			&urfave.StringFlag{Name: "dialects", Usage: "folder of your own dialects"},
			&urfave.IntFlag{Name: "concurrency", Value: 64, Usage: "visits at a time", Validator: func(n int) error {
				if n < 1 || n > 4096 {
					return errors.New("concurrency is 1 to 4096")
				}
				return nil
			}},
			&urfave.BoolFlag{Name: "confirm-host-keys", Usage: "visit no device before somebody has accepted its first host key"},
			&urfave.BoolFlag{Name: "allow-commands", Usage: "let administrators name commands of this machine as the source of secrets and lists"},
			&urfave.StringFlag{Name: "drop-sftp", Usage: "host:port where devices copy their configuration to by SFTP"},
			&urfave.StringFlag{Name: "drop-tftp", Usage: "likewise by TFTP, which is unprotected"},
			&urfave.StringFlag{Name: "drop-host", Usage: "name or address by which devices reach this machine"},
			&urfave.StringFlag{Name: "syslog-udp", Value: ":5514", Usage: "host:port where devices' syslog is taken by UDP; empty for none"},
			&urfave.StringFlag{Name: "syslog-tcp", Value: ":5514", Usage: "likewise by TCP"},
			&urfave.StringFlag{Name: "syslog-tls", Usage: "likewise by TLS, with the certificate of --tls-cert"},
			&urfave.StringFlag{Name: "traps", Value: ":1162", Usage: "host:port where SNMP traps and informs are taken; empty for none"},
			&urfave.DurationFlag{Name: "quiet", Value: daemon.UsualQuiet, Usage: "how long a device has to say nothing more before it is captured"},
			&urfave.StringFlag{Name: "log-level", Value: "info", Usage: "debug, info, warn, error"},
			&urfave.StringFlag{Name: "log-form", Value: "text", Usage: "text or json"},
		},
		Action: func(ctx context.Context, cmd *urfave.Command) error {
			if cmd.Args().Present() {
				return fmt.Errorf("%q is one argument too many", cmd.Args().First())
			}
			log, err := logger(cmd.String("log-level"), cmd.String("log-form"))
			if err != nil {
				return err
			}
			daemon.Tune()
			passphrase, err := vaultPassphrase()
			if err != nil {
				return err
			}
			if cmd.String("drop-tftp") != "" {
				log.Warn("drops by TFTP are unprotected: anybody on the way can read them", "listen", cmd.String("drop-tftp"))
			}
			d, err := daemon.Open(ctx, daemon.Config{
				Passphrase: passphrase, AllowCommands: cmd.Bool("allow-commands"), ConfirmKeys: cmd.Bool("confirm-host-keys"),
				DropSFTP: cmd.String("drop-sftp"), DropTFTP: cmd.String("drop-tftp"), DropHost: cmd.String("drop-host"),
				SyslogUDP: cmd.String("syslog-udp"), SyslogTCP: cmd.String("syslog-tcp"), SyslogTLS: cmd.String("syslog-tls"), Traps: cmd.String("traps"), Quiet: cmd.Duration("quiet"),
				Data: cmd.String("data"), KeyFile: cmd.String("key-file"), Listen: cmd.String("listen"), Cert: cmd.String("tls-cert"), Key: cmd.String("tls-key"),
				AllowPlain: cmd.Bool("listen-without-tls"), Dialects: cmd.String("dialects"), Concurrency: cmd.Int("concurrency"), Log: log, Version: version(),
			})
			if err != nil {
				return err
			}
			if d.FirstPassword != "" {
				fmt.Printf("This is the first start. Sign in as admin with the one-time password\n\n   %s\n\nIt is not shown again.\n\n", d.FirstPassword)
			}
			log.Info("ready", "url", d.URL)
			err = d.Serve(ctx)
			log.Info("stopped")
			return errors.Join(err, d.Close())
		},
	}
}

func restore() *urfave.Command {
	return &urfave.Command{
		Name: "restore", Usage: "put a backup in the place of the service's database", ArgsUsage: "BACKUP", Category: "Service",
		Description: "For example:\n   vergekeep restore ./vergekeep-monday.db --data /var/lib/vergekeep\n\nThe service must not run, and there must be no database at that place: move a damaged one away first. The vault's key is no part\nof a backup; put it beside it before the start.",
		Flags:       []urfave.Flag{&urfave.StringFlag{Name: "data", Value: "./vergekeep-data", Usage: "folder of the database", Sources: urfave.EnvVars("VERGEKEEP_DATA")}},
		Action: func(ctx context.Context, cmd *urfave.Command) error {
			if cmd.Args().Len() != 1 {
				return errors.New("name one backup; see 'vergekeep restore --help'")
			}
			if err := daemon.Restore(ctx, cmd.Args().First(), cmd.String("data")); err != nil {
				return err
			}
			fmt.Fprintf(os.Stderr, "Restored to %s. Start the service, then run 'vergekeep archive check'.\n", cmd.String("data"))
			return nil
		},
	}
}

// vaultPassphrase is the vault's passphrase: from the environment, or from a
// systemd credential (systemd.exec(5), LoadCredential=) of the name
// vergekeep-vault. Without one, the key is in a file.
func vaultPassphrase() (string, error) {
	if p := os.Getenv("VERGEKEEP_VAULT_PASSPHRASE"); p != "" {
		return p, nil
	}
	folder := os.Getenv("CREDENTIALS_DIRECTORY")
	if folder == "" {
		return "", nil
	}
	text, err := os.ReadFile(filepath.Join(folder, "vergekeep-vault"))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	return strings.TrimRight(string(text), "\r\n"), err
}

func demonstration() *urfave.Command {
	return &urfave.Command{
		Name: "demo", Usage: "run the service on a made-up network, with thirty days of history", Category: "Service",
		Description: "For example:\n   vergekeep demo\n   vergekeep demo --tour",
		Flags: []urfave.Flag{
			&urfave.BoolFlag{Name: "tour", Usage: "run one complete example and end"},
			&urfave.StringFlag{Name: "listen", Value: "127.0.0.1:7420", Usage: "host:port"},
			&urfave.StringFlag{Name: "data", Usage: "folder to keep; without it nothing stays"},
			&urfave.StringFlag{Name: "password", Usage: "of all accounts; a random one if left out"},
			&urfave.BoolFlag{Name: "quiet", Usage: "nothing happens by itself"},
		},
		Action: func(ctx context.Context, cmd *urfave.Command) error {
			log, err := logger("error", "text")
			if err != nil {
				return err
			}
			daemon.Tune()
			if cmd.Bool("tour") {
				return demo.Tour(ctx, cli.Standard(), log, version())
			}
			fmt.Println("Thirty days on Skerry Line pass; this takes a few seconds.")
			d, err := demo.Start(ctx, demo.Options{Listen: cmd.String("listen"), Data: cmd.String("data"), Password: cmd.String("password"), Quiet: cmd.Bool("quiet"), Version: version(), Log: log})
			if err != nil {
				return err
			}
			fmt.Print(d.Greeting())
			return errors.Join(d.Run(ctx, cmd.Bool("quiet")), d.Close())
		},
	}
}
