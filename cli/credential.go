package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

// with makes an action that needs the service and so many arguments; what names
// them for the complaint.
func (a *app) with(n int, what string, f func(context.Context, *cli.Command, *client.Client) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		if n > 0 {
			if err := exactly(cmd, n, what); err != nil {
				return err
			}
		}
		c, err := a.connect(cmd)
		if err != nil {
			return err
		}
		return f(ctx, cmd, c)
	}
}

// set is a flag's value, nil where the flag was not given.
func set(cmd *cli.Command, flag string) *string {
	if !cmd.IsSet(flag) {
		return nil
	}
	v := cmd.String(flag)
	return &v
}

func setInt(cmd *cli.Command, flag string) *int {
	if !cmd.IsSet(flag) {
		return nil
	}
	v := cmd.Int(flag)
	return &v
}

func setBool(cmd *cli.Command, flag string) *bool {
	if !cmd.IsSet(flag) {
		return nil
	}
	v := cmd.Bool(flag)
	return &v
}

// why is the flag for the reason that the journal keeps.
func why() cli.Flag { return &cli.StringFlag{Name: "why", Usage: "what the journal says of it"} }

func (a *app) credentialCommand() *cli.Command {
	secrets := []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "user name"},
		&cli.StringFlag{Name: "for", Usage: "selector of the devices that it is for; all if left out"},
		&cli.IntFlag{Name: "rank", Usage: "the lower is tried first; 100 if left out"},
		&cli.IntFlag{Name: "per-minute", Usage: "most logins a minute, as a login server counts each; 0 for no limit"},
		&cli.IntFlag{Name: "commands-per-minute", Usage: "most commands a minute, where a central server is asked about each; 0 for no limit"},
		&cli.BoolFlag{Name: "elevation", Usage: "ask for the secret of the elevated mode too"},
		&cli.StringFlag{Name: "key-file", Usage: "a private key instead of a password; its passphrase is asked for if it has one"},
		&cli.BoolFlag{Name: "token", Usage: "ask for a token instead of a password, for HTTPS"},
		&cli.BoolFlag{Name: "snmp", Usage: "ask for a community, or with --user for the pass phrases of SNMPv3, by which enrolment asks what a device is"},
		&cli.StringFlag{Name: "from", Usage: "where the service reads the password at each use: env:NAME, file:PATH or command:LINE"},
	}
	return &cli.Command{
		Name: "credential", Usage: "login material, encrypted at rest", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list credentials in the order of trial, without their secrets", Description: example("vergekeep credential list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListCredentialsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := credentialTable()
					for _, x := range *r.JSON200 {
						a.credentialRow(t, x)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "add", Usage: "add a credential; its secrets are asked for, or read line by line from the standard input", ArgsUsage: "NAME",
				Description: example("vergekeep credential add ng-operators --user keeper --for site=Northgate --elevation", "vergekeep credential add backup --user keeper --key-file ./id_keeper", "vergekeep credential add nightly --user keeper --from env:KEEPER_PASSWORD"),
				Flags:       secrets,
				Action: a.with(1, "the credential's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.NewCredential{Name: cmd.Args().First(), Username: set(cmd, "user"), Selector: set(cmd, "for"), Rank: setInt(cmd, "rank"), PerMinute: setInt(cmd, "per-minute"), CommandsPerMinute: setInt(cmd, "commands-per-minute")}
					var e gen.CredentialEdit
					if err := a.secrets(cmd, &e, true); err != nil {
						return err
					}
					in.Password, in.Elevation, in.Key, in.Passphrase, in.Token = e.Password, e.Elevation, e.Key, e.Passphrase, e.Token
					in.Community, in.Authentication, in.Privacy = e.Community, e.Authentication, e.Privacy
					r, err := c.AddCredentialWithResponse(ctx, in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					what := "It is tried on one device alone first."
					if cmd.Bool("snmp") {
						what = "Enrolment asks with it; nothing logs in with it."
					}
					fmt.Fprintf(a.Out, "%s is kept, for %s. %s\n", r.JSON201.Name, orAll(r.JSON201.Selector), what)
					return nil
				}),
			},
			{
				Name: "change", Usage: "change a credential; without flags its password is asked for", ArgsUsage: "NAME",
				Description: example("vergekeep credential change ng-operators", "vergekeep credential change ng-operators --per-minute 60"),
				Flags:       secrets,
				Action: a.with(1, "the credential's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.CredentialEdit{Username: set(cmd, "user"), Selector: set(cmd, "for"), Rank: setInt(cmd, "rank"), PerMinute: setInt(cmd, "per-minute"), CommandsPerMinute: setInt(cmd, "commands-per-minute")}
					asks := cmd.Bool("elevation") || cmd.Bool("snmp") || cmd.Bool("token") || cmd.IsSet("key-file") || cmd.IsSet("from") || cmd.NumFlags() == 0
					if asks {
						if err := a.secrets(cmd, &in, cmd.NumFlags() == 0 || cmd.IsSet("from")); err != nil {
							return err
						}
					}
					r, err := c.ChangeCredentialWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s is changed. See who takes it with 'vergekeep credential show %s'.\n", r.JSON200.Name, quoted(r.JSON200.Name))
					return nil
				}),
			},
			{
				Name: "show", Usage: "show how each of its devices took a credential since it was changed", ArgsUsage: "NAME", Description: example("vergekeep credential show ng-operators"),
				Action: a.with(1, "the credential's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListCredentialUseWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"device", "took it", "when"}, none: "No device uses it yet."}
					count := map[gen.CredentialUseTook]int{}
					for _, u := range *r.JSON200 {
						count[u.Took]++
						took := string(u.Took)
						if u.Took == gen.Refused {
							took = a.tint(alarm, took)
						}
						t.add(u.Device, took, when(u.At, time.Now()))
					}
					if cmd.Root().String("format") == "table" && len(*r.JSON200) > 0 {
						fmt.Fprintf(a.Out, "%d accepted it, %d refused it, %d have not been tried since it was changed.\n\n", count[gen.Accepted], count[gen.Refused], count[gen.NotTried])
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "wake", Usage: "end the rest of a credential that was refused too often", ArgsUsage: "NAME", Description: example("vergekeep credential wake ng-operators"),
				Action: a.with(1, "the credential's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.WakeCredentialWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s is tried again.\n", r.JSON200.Name)
					return nil
				}),
			},
			{
				Name: "delete", Usage: "take a credential away", ArgsUsage: "NAME", Description: example("vergekeep credential delete ng-operators"),
				Action: a.with(1, "the credential's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteCredentialWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s is gone.\n", cmd.Args().First())
					return nil
				}),
			},
			{
				Name: "seal", Usage: "make a new key for the vault and seal every secret anew", Description: example("vergekeep credential seal", "vergekeep credential seal --passphrase"),
				Flags: []cli.Flag{&cli.BoolFlag{Name: "passphrase", Usage: "ask for a new passphrase, where the service was started with one"}},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.NewVaultKey{}
					if cmd.Bool("passphrase") {
						p, err := a.ask("New passphrase, at least 12 characters: ", true)
						if err != nil {
							return err
						}
						in.Passphrase = &p
					}
					r, err := c.ChangeVaultKeyWithResponse(ctx, in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Every secret is sealed with the new key.")
					if in.Passphrase != nil {
						fmt.Fprintln(a.Out, "The service needs the new passphrase at its next start.")
					}
					return nil
				}),
			},
		},
	}
}

// secrets asks for what the flags call for.
func (a *app) secrets(cmd *cli.Command, e *gen.CredentialEdit, password bool) error {
	ask := func(question string, to **string) error {
		answer, err := a.ask(question, true)
		*to = &answer
		return err
	}
	switch {
	case cmd.IsSet("key-file"):
		key, err := os.ReadFile(cmd.String("key-file"))
		if err != nil {
			return err
		}
		text := string(key)
		e.Key = &text
		if strings.Contains(text, "ENCRYPTED") || isEncrypted(key) {
			if err := ask("Passphrase of the key: ", &e.Passphrase); err != nil {
				return err
			}
		}
	case cmd.Bool("token"):
		if err := ask("Token: ", &e.Token); err != nil {
			return err
		}
	case cmd.Bool("snmp") && cmd.IsSet("from"):
		e.Community = set(cmd, "from")
	case cmd.Bool("snmp") && cmd.IsSet("user"):
		if err := ask("Authentication pass phrase: ", &e.Authentication); err != nil {
			return err
		}
		if err := ask("Privacy pass phrase, empty for none: ", &e.Privacy); err != nil {
			return err
		}
	case cmd.Bool("snmp"):
		if err := ask("Community: ", &e.Community); err != nil {
			return err
		}
	case cmd.IsSet("from"):
		e.Password = set(cmd, "from")
	case password:
		if err := ask("Password: ", &e.Password); err != nil {
			return err
		}
	}
	if cmd.Bool("elevation") {
		return ask("Elevation secret: ", &e.Elevation)
	}
	return nil
}

func credentialTable() *table {
	return &table{head: []string{"name", "user", "for", "rank", "kind", "elevation", "logins a minute", "commands a minute", "state"}, none: "There is no credential yet."}
}

func (a *app) credentialRow(t *table, x gen.Credential) {
	state := "not proven yet"
	switch {
	case x.Kind == gen.CredentialKindCommunity, x.Kind == gen.CredentialKindSNMPUser:
		state = "asks, never logs in"
	case x.RestsUntil != nil:
		state = a.tint(alarm, "rests until "+x.RestsUntil.Local().Format("15:04")+": refused too often")
	case x.Proven != nil:
		state = "proven"
	}
	kind := string(x.Kind)
	if x.Source != nil {
		kind += ", from " + *x.Source
	}
	limit := func(n int) string {
		if n == 0 {
			return "any"
		}
		return fmt.Sprint(n)
	}
	t.add(x.Name, orDash(x.Username), orAll(x.Selector), fmt.Sprint(x.Rank), kind, map[bool]string{true: "yes", false: "no"}[x.HasElevation], limit(x.PerMinute), limit(x.CommandsPerMinute), state)
}
