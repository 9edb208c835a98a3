package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) archiveCopy() *cli.Command {
	const name = "the copy's name"
	return &cli.Command{
		Name: "copy", Usage: "plain copies that are kept current elsewhere, after each round",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list copies and how they went", Description: example("vergekeep archive copy list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListCopiesWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.showCopies(cmd, *r.JSON200, r.JSON200)
				}),
			},
			{
				Name: "set", Usage: "keep a copy in a folder, on an SFTP server or as a git repository", ArgsUsage: "NAME DESTINATION",
				Description: example("vergekeep archive copy set shelf folder:/srv/configurations", "vergekeep archive copy set shelf folder:/srv/configurations --names '{date}/{device}_{time}.cfg'",
					"vergekeep archive copy set vault sftp://keeper@files.skerry.example/configurations --credential files", "vergekeep archive copy set mirror git:ssh://git@code.skerry.example/network.git") +
					"\n\nFields of names are {device} {site} {address} {datastore} {part} {date} {time}. Without a date each file is the newest configuration; with one\neach revision has a file of its own. Folders and files are private, secrets are masked unless --secrets is given, and a change log of\neach round and the ends of all chains are put beside them. Nothing is ever taken away there.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "names", Usage: "how the files are named; {site}/{device}.cfg if left out"},
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "only these devices"},
					&cli.StringFlag{Name: "credential", Usage: "that logs in to an SFTP server"},
					&cli.BoolFlag{Name: "secrets", Usage: "with the secrets; whoever reads the copy sees them"},
				},
				Action: a.with(2, name+" or where it goes", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetCopyWithResponse(ctx, cmd.Args().First(), gen.CopyEdit{Destination: cmd.Args().Get(1), Names: set(cmd, "names"), Selector: set(cmd, "selector"),
						Credential: set(cmd, "credential"), Secrets: setBool(cmd, "secrets")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					if err := a.showCopies(cmd, []gen.Copy{*r.JSON200}, r.JSON200); err != nil {
						return err
					}
					fmt.Fprintf(a.Err, "It is filled after the next round, or now with 'vergekeep archive copy run %s'.\n", r.JSON200.Name)
					return nil
				}),
			},
			{
				Name: "run", Usage: "bring a copy up to date now", ArgsUsage: "NAME", Description: example("vergekeep archive copy run shelf"),
				Action: a.with(1, name, func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.RunCopyWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.showCopies(cmd, []gen.Copy{*r.JSON200}, r.JSON200)
				}),
			},
			{
				Name: "trust", Usage: "accept another host key of an SFTP server at the next run", ArgsUsage: "NAME", Description: example("vergekeep archive copy trust vault --why 'new machine, ticket 4711'"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "why", Required: true, Usage: "goes to the journal"}},
				Action: a.with(1, name, func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.TrustCopyWithResponse(ctx, cmd.Args().First(), gen.Why{Why: cmd.String("why")})
					return client.Check(r, err)
				}),
			},
			{
				Name: "delete", Usage: "stop keeping a copy; what it has written stays", ArgsUsage: "NAME", Description: example("vergekeep archive copy delete shelf"),
				Action: a.with(1, name, func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteCopyWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s is no longer kept current; what it has written stays.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}

func (a *app) showCopies(cmd *cli.Command, list []gen.Copy, raw any) error {
	t := &table{head: []string{"name", "destination", "names", "devices", "secrets", "up to date", "last run"}, none: "No copy is kept elsewhere. See 'vergekeep archive copy set --help'."}
	for _, k := range list {
		secrets, said := "masked", orDash(deref(k.LastSaid))
		if k.Secrets {
			secrets = a.tint(attention, "shown")
		}
		if deref(k.LastFailed) {
			said = a.tint(alarm, said)
		}
		t.add(k.Name, k.Destination, k.Names, orAll(k.Selector), secrets, when(k.LastGood, time.Now()), said)
	}
	return a.print(cmd, raw, t)
}
