// Package cli is the command line: it parses, calls the service through its
// client, and prints. It knows nothing that the service does not tell it; only
// what works on files alone (comparing two files, checking a dialect) is done
// here, with core.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"vergekeep/client"
	"vergekeep/client/gen"
)

// Exit statuses.
const (
	statusFine = 0
	statusYes  = 1 // there are differences, findings or failed visits
	statusFail = 2 // it could not be done
)

// yes ends a command with statusYes and says nothing more.
type yes struct{}

func (yes) Error() string { return "" }

// Console is where a command reads and writes.
type Console struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(string) string
}

// Standard is the process's own console.
func Standard() Console {
	return Console{os.Stdin, os.Stdout, os.Stderr, os.Getenv}
}

// app is what the commands share.
type app struct {
	Console
	plain    *bufio.Reader // In, for questions that are no secrets
	coloured *bool         // whether Out takes colours, once it was asked
}

// Run runs a command line and returns the exit status. The extra commands are
// those that are no client of the service, such as serve.
func Run(ctx context.Context, c Console, args []string, version string, extra ...*cli.Command) int {
	if f, ok := c.Out.(*os.File); ok && isTerminal(f) {
		c.Out = &screen{f}
	}
	a := &app{Console: c}
	err := a.root(version, extra).Run(ctx, args)
	var answer yes
	switch {
	case err == nil:
		return statusFine
	case errors.As(err, &answer):
		return statusYes
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(c.Err, "vergekeep: stopped")
	default:
		fmt.Fprintf(c.Err, "vergekeep: %s\n", explain(err))
	}
	return statusFail
}

// explain adds what to do next.
func explain(err error) string {
	switch {
	case errors.Is(err, client.ErrUnreachable):
		return err.Error() + "\nIs it running? Start it with 'vergekeep serve', or name another one with --server."
	case client.IsStatus(err, 401):
		return err.Error() + "\nSign in with 'vergekeep login'."
	}
	return err.Error()
}

func (a *app) root(version string, extra []*cli.Command) *cli.Command {
	root := &cli.Command{
		Name:                  "vergekeep",
		Usage:                 "keeps the configurations of network devices: captures, archives, compares",
		Version:               version,
		Writer:                a.Out,
		ErrWriter:             a.Err,
		EnableShellCompletion: true,
		Suggest:               true,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {}, // Run decides
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "server", Usage: "address of the service", Sources: cli.EnvVars("VERGEKEEP_SERVER")},
			&cli.StringFlag{Name: "format", Value: "table", Usage: "table, json, yaml or csv", Validator: func(s string) error {
				if !slices.Contains(formats, s) {
					return fmt.Errorf("%q is no format; there are %s", s, strings.Join(formats, ", "))
				}
				return nil
			}},
		},
		Commands: append(extra,
			a.captureCommand(), a.showCommand(), a.diffCommand(), a.searchCommand(), a.auditCommand(), a.historyCommand(), a.linesCommand(), a.fleetCommand(), a.momentCommand(), a.noteCommand(), a.freshnessCommand(),
			a.deviceCommand(), a.groupCommand(), a.siteCommand(), a.jumpCommand(), a.importCommand(), a.enrolCommand(),
			a.roundCommand(), a.scheduleCommand(), a.credentialCommand(), a.dialectCommand(), a.driftCommand(), a.findingCommand(), a.waiverCommand(), a.policyCommand(), a.standardCommand(), a.baselineCommand(), a.volatileCommand(), a.changeCommand(), a.windowCommand(), a.signalCommand(), a.channelCommand(), a.subscriptionCommand(), a.noticeCommand(), a.mailCommand(),
			a.archiveCommand(), a.journalCommand(), a.loginCommand(), a.accountCommand(), a.tokenCommand()),
	}
	each(root, func(c *cli.Command) {
		c.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
			return fmt.Errorf("%w\nSee '%s --help'", err, cmd.FullName())
		}
		if c.Action == nil && len(c.Commands) > 0 && c != root {
			c.Action = func(_ context.Context, cmd *cli.Command) error {
				if cmd.Args().Present() {
					return fmt.Errorf("there is no command %q\nSee '%s --help'", cmd.Name+" "+cmd.Args().First(), cmd.FullName())
				}
				return cli.ShowSubcommandHelp(cmd)
			}
		}
	})
	root.Action = func(_ context.Context, cmd *cli.Command) error {
		if cmd.Args().Present() {
			return fmt.Errorf("there is no command %q\nSee 'vergekeep --help'", cmd.Args().First())
		}
		return cli.ShowAppHelp(cmd)
	}
	return root
}

func each(c *cli.Command, f func(*cli.Command)) {
	f(c)
	for _, sub := range c.Commands {
		each(sub, f)
	}
}

// example is the help text of a command: what it does, and one that works.
func example(lines ...string) string {
	return "For example:\n   " + strings.Join(lines, "\n   ")
}

// saved is what 'vergekeep login' leaves behind.
type saved struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

func (a *app) savedFile() (string, error) {
	if p := a.Env("VERGEKEEP_LOGIN"); p != "" {
		return p, nil
	}
	dir := a.Env("XDG_CONFIG_HOME")
	if dir == "" {
		home := a.Env("HOME")
		if home == "" {
			return "", errors.New("there is no home folder for the login; name a file with VERGEKEEP_LOGIN")
		}
		dir = filepath.Join(home, ".config")
	}
	return filepath.Join(dir, "vergekeep", "login.json"), nil
}

func (a *app) readSaved() (saved, error) {
	var s saved
	path, err := a.savedFile()
	if err != nil {
		return s, nil //nolint:nilerr // nobody has logged in
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(data, &s); err != nil {
		return s, fmt.Errorf("%s cannot be read: %w; sign in again with 'vergekeep login'", path, err)
	}
	return s, nil
}

const defaultServer = "http://127.0.0.1:7420"

// connect makes a client from the flags, the environment and the saved login.
func (a *app) connect(cmd *cli.Command) (*client.Client, error) {
	s, err := a.readSaved()
	if err != nil {
		return nil, err
	}
	server, token := cmd.Root().String("server"), a.Env("VERGEKEEP_TOKEN")
	if server == "" {
		server = s.Server
	}
	if server == "" {
		server = defaultServer
	}
	if token == "" && (s.Server == server || s.Server == "") {
		token = s.Token // a token goes to no other service than its own
	}
	return client.New(server, token)
}

// ask asks for a line, or for a secret without showing it; where stdin is no
// terminal it reads a line and asks nothing.
func (a *app) ask(question string, secret bool) (string, error) {
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.Err, question)
		if secret {
			p, err := term.ReadPassword(int(f.Fd()))
			fmt.Fprintln(a.Err)
			return string(p), err
		}
	}
	if a.plain == nil {
		a.plain = bufio.NewReader(a.In)
	}
	line, err := a.plain.ReadString('\n')
	if err == io.EOF && line != "" {
		err = nil
	}
	if err == io.EOF {
		err = fmt.Errorf("%s nothing came on the standard input", strings.TrimSpace(question))
	}
	return strings.TrimRight(line, "\r\n"), err
}

func (a *app) loginCommand() *cli.Command {
	return &cli.Command{
		Name: "login", Usage: "sign in and keep a token for this machine", ArgsUsage: "[ADDRESS]", Category: "Access",
		Description: example("vergekeep login http://127.0.0.1:7420 --account noc"),
		Flags:       []cli.Flag{&cli.StringFlag{Name: "account", Usage: "name of the account"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := atMost(cmd, 1); err != nil {
				return err
			}
			server := cmd.Args().First()
			if server == "" {
				if server = cmd.Root().String("server"); server == "" {
					server = defaultServer
				}
			}
			c, err := client.New(server, "")
			if err != nil {
				return err
			}
			name := cmd.String("account")
			if name == "" {
				if name, err = a.ask("Account: ", false); err != nil {
					return err
				}
			}
			password, err := a.ask("Password of "+name+": ", true)
			if err != nil {
				return err
			}
			in, err := c.SignInWithResponse(ctx, gen.SignIn{Account: name, Password: password})
			if err := client.Check(in, err); err != nil {
				return err
			}
			if in.JSON200.MustChangePassword {
				fmt.Fprintln(a.Err, "This password was for once only.")
				fresh, err := a.ask("New password, at least 10 characters: ", true)
				if err != nil {
					return err
				}
				r, err := c.SetPasswordWithResponse(ctx, gen.PasswordChange{Old: password, New: fresh})
				if err := client.Check(r, err); err != nil {
					return err
				}
			}
			host, err := os.Hostname()
			if err != nil {
				host = "command line"
			}
			who := "somebody"
			if u, err := user.Current(); err == nil {
				who = u.Username
			}
			t, err := c.AddTokenWithResponse(ctx, gen.NewToken{Name: who + " on " + host})
			if err := client.Check(t, err); err != nil {
				return err
			}
			out, err := c.SignOutWithResponse(ctx)
			if err := client.Check(out, err); err != nil {
				return err
			}
			path, err := a.savedFile()
			if err != nil {
				return err
			}
			data, err := json.MarshalIndent(saved{server, t.JSON201.Secret}, "", "  ")
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return err
			}
			if err := os.WriteFile(path, append(data, '\n'), 0o600); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Signed in at %s as %s. The token is kept in %s.\n", server, in.JSON200.Account, path)
			return nil
		},
	}
}

func atMost(cmd *cli.Command, n int) error {
	if cmd.Args().Len() > n {
		return fmt.Errorf("%q is one argument too many\nSee '%s --help'", cmd.Args().Get(n), cmd.FullName())
	}
	return nil
}

func exactly(cmd *cli.Command, n int, what string) error {
	if cmd.Args().Len() < n {
		return fmt.Errorf("%s is missing\nSee '%s --help'", what, cmd.FullName())
	}
	return atMost(cmd, n)
}

// selectorOf joins arguments to a selector. What the shell has unquoted is
// quoted again.
func selectorOf(args []string) string {
	terms := make([]string, len(args))
	for i, arg := range args {
		terms[i] = arg
		if strings.ContainsAny(arg, `"`) || !strings.Contains(arg, " ") {
			continue
		}
		if key, value, ok := strings.Cut(arg, "="); ok && !strings.Contains(key, " ") && !strings.Contains(value, "=") {
			terms[i] = key + `="` + value + `"`
		} else if !ok {
			terms[i] = `"` + arg + `"`
		}
	}
	return strings.Join(terms, " ")
}
