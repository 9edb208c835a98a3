package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) archiveCommand() *cli.Command {
	return &cli.Command{
		Name: "archive", Usage: "the archive itself", Category: "Keeping",
		Commands: []*cli.Command{
			a.archiveCheck(), a.archiveStats(), a.archiveBackup(), a.archiveImport(), a.archiveExport(), a.archiveCopy(), a.nearestCommand(), a.archiveRetention(), a.archiveThin(), a.archiveHold(),
			a.archiveKey(), a.archiveSign(), a.archiveProve(), a.archiveVerify(),
		},
	}
}

func (a *app) archiveCheck() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "prove that nothing in the archive was altered or lost", Description: example("vergekeep archive check"),
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			r, err := c.CheckArchiveWithResponse(ctx)
			if err := client.Check(r, err); err != nil {
				return err
			}
			x := r.JSON200
			t := &table{head: []string{"fault"}}
			for _, f := range x.Faults {
				t.add(f)
			}
			if cmd.Root().String("format") == "table" {
				fmt.Fprintf(a.Out, "%s with %s read and compared with their hashes: %s of text in %s.\n", plural(x.Revisions, "revision"), plural(x.Contents, "content"), bytesOf(x.Bytes), bytesOf(x.Stored))
				if len(x.Faults) == 0 {
					fmt.Fprintln(a.Out, "The archive is whole.")
					return nil
				}
			}
			if err := a.print(cmd, x, t); err != nil {
				return err
			}
			if len(x.Faults) > 0 {
				return yes{}
			}
			return nil
		}),
	}
}

func (a *app) archiveStats() *cli.Command {
	return &cli.Command{
		Name: "stats", Usage: "how much the archive keeps", Description: example("vergekeep archive stats"),
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			r, err := c.GetArchiveStatsWithResponse(ctx)
			if err := client.Check(r, err); err != nil {
				return err
			}
			x := r.JSON200
			now := time.Now()
			t := &table{head: []string{"what", "how much"}}
			t.add("devices", fmt.Sprint(x.Devices))
			t.add("configurations", fmt.Sprint(x.Configurations))
			t.add("revisions", fmt.Sprint(x.Revisions))
			t.add("  pinned", fmt.Sprint(x.Pinned))
			t.add("  only the hash kept", fmt.Sprint(x.Thinned))
			t.add("distinct texts", fmt.Sprintf("%d, %s", x.Contents, bytesOf(x.Bytes)))
			t.add("  compressed", bytesOf(x.Stored))
			t.add("database", bytesOf(x.File))
			t.add("oldest", when(&x.Oldest, now))
			t.add("newest", when(&x.Newest, now))
			return a.print(cmd, x, t)
		}),
	}
}

func (a *app) archiveBackup() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "copy the whole service into a file, while it runs", ArgsUsage: "FILE",
		Description: example("vergekeep archive backup ./vergekeep-monday.db") +
			"\n\nIt holds everything but the vault's key, which has to be kept elsewhere; without that key credentials cannot be read again.\n'vergekeep restore' puts it back.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a file"); err != nil {
				return err
			}
			path := cmd.Args().First()
			if _, err := os.Stat(path); err == nil {
				return fmt.Errorf("%s exists already; name a new file", path)
			}
			c, err := a.connect(cmd)
			if err != nil {
				return err
			}
			r, err := c.BackUpArchive(ctx) // as it comes: it may be large
			if err != nil {
				return client.Check(nil, err)
			}
			defer r.Body.Close()
			if r.StatusCode != 200 {
				parsed, err := gen.ParseBackUpArchiveResponse(r)
				return client.Check(parsed, err)
			}
			f, err := os.CreateTemp(filepath.Dir(path), ".vergekeep-*")
			if err != nil {
				return err
			}
			n, err := io.Copy(f, r.Body)
			if err == nil && r.ContentLength >= 0 && n != r.ContentLength {
				err = fmt.Errorf("of %d bytes %d came", r.ContentLength, n)
			}
			if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
				err = os.Rename(f.Name(), path)
			}
			if err != nil {
				return errors.Join(err, os.Remove(f.Name()))
			}
			fmt.Fprintf(a.Err, "%s written to %s. It holds secrets: keep it as you keep the service, and the vault's key apart from it.\n", bytesOf(n), path)
			return nil
		},
	}
}

func (a *app) archiveRetention() *cli.Command {
	return &cli.Command{
		Name: "retention", Usage: "how long texts are kept", ArgsUsage: " ",
		Description: example("vergekeep archive retention", "vergekeep archive retention --all 90 --daily 365", "vergekeep archive retention --for-ever") +
			"\n\nThe newest and the first revision, the last one of a day or month, and all with a note stay. Of what goes the hash and the times stay.",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "all", Usage: "everything is kept for so many days"},
			&cli.IntFlag{Name: "daily", Usage: "then one a day up to this age in days; then one a month"},
			&cli.BoolFlag{Name: "for-ever", Usage: "everything is kept"},
		},
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			if cmd.IsSet("all") || cmd.Bool("for-ever") {
				r, err := c.SetRetentionWithResponse(ctx, gen.RetentionEdit{AllDays: cmd.Int("all"), DailyDays: setInt(cmd, "daily")})
				if err := client.Check(r, err); err != nil {
					return err
				}
			} else if cmd.IsSet("daily") {
				return errors.New("--daily takes --all: up to which age everything is kept")
			}
			r, err := c.GetRetentionWithResponse(ctx)
			if err := client.Check(r, err); err != nil {
				return err
			}
			t := &table{head: []string{"kept", "by"}}
			t.add(r.JSON200.Said, orDash(deref(r.JSON200.Account)))
			return a.print(cmd, r.JSON200, t)
		}),
	}
}

func (a *app) archiveThin() *cli.Command {
	return &cli.Command{
		Name: "thin", Usage: "let go now what the retention says, which also happens every day", ArgsUsage: " ",
		Description: example("vergekeep archive thin --dry-run", "vergekeep archive thin --dry-run --all 90 --daily 365     what another policy would do"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "only say what would go"},
			&cli.IntFlag{Name: "all", Usage: "of a policy to try, with --dry-run"},
			&cli.IntFlag{Name: "daily", Usage: "likewise"},
		},
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			if !cmd.Bool("dry-run") {
				if cmd.IsSet("all") || cmd.IsSet("daily") {
					return errors.New("a policy can only be tried with --dry-run; 'vergekeep archive retention' puts it in force")
				}
				r, err := c.ThinArchiveWithResponse(ctx)
				if err := client.Check(r, err); err != nil {
					return err
				}
				fmt.Fprintf(a.Err, "The texts of %s went, %s; their hashes and times are kept.\n", plural(r.JSON200.Revisions, "revision"), bytesOf(r.JSON200.Bytes))
				return nil
			}
			r, err := c.ListSurplusWithResponse(ctx, &gen.ListSurplusParams{AllDays: setInt(cmd, "all"), DailyDays: setInt(cmd, "daily")})
			if err := client.Check(r, err); err != nil {
				return err
			}
			now := time.Now()
			t := &table{head: []string{"revision", "in force since", "last seen"}, none: "Nothing would go."}
			for _, x := range *r.JSON200 {
				t.add(x.Ref, when(&x.FirstSeen, now), when(&x.LastSeen, now))
			}
			return a.print(cmd, r.JSON200, t)
		}),
	}
}

func (a *app) archiveHold() *cli.Command {
	return &cli.Command{
		Name: "hold", Usage: "keep everything of some devices, for a reason in law",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the holds", Description: example("vergekeep archive hold list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListHoldsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					now := time.Now()
					t := &table{head: []string{"name", "devices", "picked by", "reason", "by", "since"}, none: "Nothing is held."}
					for _, h := range *r.JSON200 {
						t.add(h.Name, fmt.Sprint(h.Devices), orAll(h.Selector), h.Reason, h.Account, when(&h.At, now))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "hold devices", ArgsUsage: "NAME SELECTOR", Description: example("vergekeep archive hold set 'case 7' site=Northgate --reason 'the insurer asked'"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "reason", Required: true}},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					if cmd.Args().Len() < 2 {
						return fmt.Errorf("a name and a selector are needed\nSee '%s --help'", cmd.FullName())
					}
					c, err := a.connect(cmd)
					if err != nil {
						return err
					}
					r, err := c.SetHoldWithResponse(ctx, cmd.Args().First(), gen.HoldEdit{Selector: selectorOf(cmd.Args().Tail()), Reason: cmd.String("reason")})
					return client.Check(r, err)
				},
			},
			{
				Name: "lift", Usage: "hold no longer", ArgsUsage: "NAME", Description: example("vergekeep archive hold lift 'case 7'"),
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.LiftHoldWithResponse(ctx, cmd.Args().First())
					return client.Check(r, err)
				}),
			},
		},
	}
}
