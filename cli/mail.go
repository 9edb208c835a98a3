package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) mailCommand() *cli.Command {
	return &cli.Command{
		Name: "mail", Usage: "where the service hands mail over", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show the mail server", Description: example("vergekeep mail show"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.GetMailWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					x := r.JSON200
					t := &table{head: []string{"server", "security", "sender", "credential", "set by", "since"}}
					t.add(x.Server, x.Security, x.Sender, orDash(x.Credential), x.Account, when(&x.Changed, time.Now()))
					return a.print(cmd, x, t)
				}),
			},
			{
				Name: "set", Usage: "name the mail server and the sender", ArgsUsage: "HOST:PORT SENDER",
				Description: example("vergekeep mail set smtp.skerry.example:587 'Verge Keep <keep@skerry.example>' --credential mail", "vergekeep mail set 127.0.0.1:25 keep@skerry.example --security none"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "security", Value: "starttls", Usage: "starttls, tls (from the start), or none (a server on this machine)"},
					&cli.StringFlag{Name: "credential", Usage: "that logs in there; see 'vergekeep credential'"},
				},
				Action: a.with(2, "the server or the sender", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetMailWithResponse(ctx, gen.MailEdit{Server: cmd.Args().First(), Sender: cmd.Args().Get(1), Security: some(gen.MailEditSecurity(cmd.String("security"))), Credential: set(cmd, "credential")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Set. 'vergekeep mail test ADDRESS' shows whether it works.")
					return nil
				}),
			},
			{
				Name: "test", Usage: "send a message to see that it arrives", ArgsUsage: "ADDRESS", Description: example("vergekeep mail test lead@skerry.example"),
				Action: a.with(1, "an address", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.TestMailWithResponse(ctx, gen.MailTest{To: cmd.Args().First()})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "The server has taken a message for %s.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}
