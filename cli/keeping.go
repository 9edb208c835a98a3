package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/dialect"
	"vergekeep/core/form"
	"vergekeep/core/nearest"
)

func (a *app) dialectCommand() *cli.Command {
	return &cli.Command{
		Name: "dialect", Usage: "what is known of each platform", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the dialects that the service has loaded", Description: example("vergekeep dialect list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListDialectsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "title", "channel", "reader", "from", "version"}}
					for _, d := range *r.JSON200 {
						t.add(d.Name, d.Title, d.Channel, d.Reader, d.Source, d.Version)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "show", Usage: "print a built-in dialect, to start one's own from", ArgsUsage: "NAME",
				Description: example("vergekeep dialect show tidegate > my-platform.yaml"),
				Action: func(_ context.Context, cmd *cli.Command) error {
					if err := exactly(cmd, 1, "the dialect's name"); err != nil {
						return err
					}
					set, err := dialect.Load()
					if err != nil {
						return err
					}
					d, ok := set[cmd.Args().First()]
					if !ok {
						return fmt.Errorf("there is no built-in dialect %q; there are %s.%s", cmd.Args().First(), strings.Join(set.Names(), ", "), nearest.Hint(cmd.Args().First(), set.Names()))
					}
					_, err = io.WriteString(a.Out, d.Text)
					return err
				},
			},
			a.dialectNew(), a.dialectTry(), a.dialectReplay(),
			{
				Name: "check", Usage: "check dialect files; says file and line of all that is wrong", ArgsUsage: "FILE...",
				Description: example("vergekeep dialect check ./my-platform.yaml"),
				Action: func(_ context.Context, cmd *cli.Command) error {
					if cmd.Args().Len() == 0 {
						return fmt.Errorf("a file is missing\nSee '%s --help'", cmd.FullName())
					}
					bad := false
					for _, path := range cmd.Args().Slice() {
						text, err := readFile(path)
						if err != nil {
							return err
						}
						d, err := dialect.Parse(path, text)
						var fault *form.Error
						switch {
						case errors.As(err, &fault):
							bad = true
							fmt.Fprintln(a.Out, fault.Error())
						case err != nil:
							return err
						default:
							fmt.Fprintf(a.Out, "%s: dialect %s is fine\n", path, d.Name)
						}
					}
					if bad {
						return yes{}
					}
					return nil
				},
			},
			{
				Name: "schema", Usage: "print the JSON Schema of dialect files", Description: example("vergekeep dialect schema > dialect.schema.json"),
				Action: func(context.Context, *cli.Command) error {
					_, err := io.WriteString(a.Out, dialect.SchemaText)
					return err
				},
			},
		},
	}
}

func orAll(selector string) string {
	if selector == "" {
		return "all devices"
	}
	return selector
}

func bytesOf(n int64) string {
	switch {
	case n < 10<<10:
		return plural(int(n), "byte")
	case n < 10<<20:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d MiB", n>>20)
}

func (a *app) journalCommand() *cli.Command {
	return &cli.Command{
		Name: "journal", Usage: "who did what in the service itself", Category: "Access", Description: example("vergekeep journal --limit 50"),
		Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many entries"}},
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			limit := cmd.Int("limit")
			r, err := c.ListJournalWithResponse(ctx, &gen.ListJournalParams{Limit: &limit})
			if err := client.Check(r, err); err != nil {
				return err
			}
			t := &table{head: []string{"when", "who", "did", "to", "detail"}, none: "The journal is empty."}
			for _, e := range r.JSON200.Items {
				t.add(e.At.Local().Format("2006-01-02 15:04:05"), e.Account, e.Action, e.Object, e.Detail)
			}
			return a.print(cmd, r.JSON200.Items, t)
		}),
	}
}

func (a *app) accountCommand() *cli.Command {
	row := func(cmd *cli.Command, list ...gen.Account) error {
		t := &table{head: []string{"name", "may", "state", "added"}}
		for _, x := range list {
			var rights []string
			for _, r := range x.Rights {
				rights = append(rights, string(r))
			}
			t.add(x.Name, strings.Join(rights, ", "), string(x.State), when(&x.Created, time.Now()))
		}
		return a.print(cmd, list, t)
	}
	setState := func(name, usage string, state gen.AccountEditState) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: "NAME", Description: example("vergekeep account " + name + " noc"),
			Action: a.with(1, "the account's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.EditAccountWithResponse(ctx, cmd.Args().First(), gen.AccountEdit{State: state})
				if err := client.Check(r, err); err != nil {
					return err
				}
				return row(cmd, *r.JSON200)
			}),
		}
	}
	return &cli.Command{
		Name: "account", Usage: "who may do what", Category: "Access",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list accounts", Description: example("vergekeep account list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListAccountsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return row(cmd, *r.JSON200...)
				}),
			},
			{
				Name: "add", Usage: "add an account; its password is asked for, or read from the standard input", ArgsUsage: "NAME",
				Description: example("vergekeep account add auditor --may see"),
				Flags:       []cli.Flag{&cli.StringSliceFlag{Name: "may", Value: []string{"see"}, Usage: "see, operate, see-secrets, administer"}},
				Action: a.with(1, "the account's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.NewAccount{Name: cmd.Args().First(), Rights: []gen.Right{}}
					for _, r := range cmd.StringSlice("may") {
						in.Rights = append(in.Rights, gen.Right(r))
					}
					var err error
					if in.Password, err = a.ask("Password of "+in.Name+": ", true); err != nil {
						return err
					}
					r, err := c.AddAccountWithResponse(ctx, in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return row(cmd, *r.JSON201)
				}),
			},
			setState("disable", "disable an account; its sign-ins and tokens end", gen.AccountEditStateDisabled),
			setState("enable", "enable a disabled account", gen.AccountEditStateActive),
			{
				Name: "password", Usage: "change one's own password: the old one and the new one are asked for", Description: example("vergekeep account password"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					old, err := a.ask("Present password: ", true)
					if err != nil {
						return err
					}
					fresh, err := a.ask("New password, at least 10 characters: ", true)
					if err != nil {
						return err
					}
					r, err := c.SetPasswordWithResponse(ctx, gen.PasswordChange{Old: old, New: fresh})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "The password is changed.")
					return nil
				}),
			},
		},
	}
}

func (a *app) tokenCommand() *cli.Command {
	return &cli.Command{
		Name: "token", Usage: "keys of the command line", Category: "Access",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list tokens", Description: example("vergekeep token list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListTokensWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					now := time.Now()
					t := &table{head: []string{"token", "name", "account", "made", "last used", "revoked"}, none: "There is no token."}
					for _, x := range *r.JSON200 {
						t.add(strconv.FormatInt(x.Id, 10), x.Name, x.Account, when(&x.Created, now), when(x.LastUsed, now), when(x.Revoked, now))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "revoke", Usage: "revoke a token", ArgsUsage: "NUMBER", Description: example("vergekeep token revoke 3"),
				Action: func(ctx context.Context, cmd *cli.Command) error {
					if err := exactly(cmd, 1, "the token's number"); err != nil {
						return err
					}
					id, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
					if err != nil || id < 1 {
						return fmt.Errorf("%q is no number of a token; see 'vergekeep token list'", cmd.Args().First())
					}
					c, err := a.connect(cmd)
					if err != nil {
						return err
					}
					r, err := c.RevokeTokenWithResponse(ctx, id)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "Token %d is revoked.\n", id)
					return nil
				},
			},
		},
	}
}
