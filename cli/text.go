package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/ref"
)

// maxFile is how large a file to compare may be.
const maxFile = 64 << 20

func zone() *string {
	name := time.Local.String()
	if name == "Local" {
		name = "UTC"
		if target, err := os.Readlink("/etc/localtime"); err == nil {
			if _, after, ok := strings.Cut(target, "zoneinfo/"); ok {
				name = after
			}
		}
	}
	return &name
}

func readFile(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if info.IsDir() {
		return "", fmt.Errorf("%s is a folder", path)
	}
	var b strings.Builder // it hands its bytes over without copying them
	b.Grow(int(min(info.Size(), maxFile)) + bytes.MinRead)
	if _, err := io.Copy(&b, io.LimitReader(f, maxFile+1)); err != nil {
		return "", err
	}
	if b.Len() > maxFile {
		return "", fmt.Errorf("%s is larger than %d MiB", path, maxFile>>20)
	}
	return b.String(), nil
}

func (a *app) configuration(ctx context.Context, cmd *cli.Command, source string, only *string) (*gen.Configuration, error) {
	c, err := a.connect(cmd)
	if err != nil {
		return nil, err
	}
	r, err := c.GetConfigurationWithResponse(ctx, &gen.GetConfigurationParams{Ref: source, Only: only, Zone: zone()})
	if err := client.Check(r, err); err != nil {
		return nil, noDevice(err, source)
	}
	return r.JSON200, nil
}

// noDevice reminds of files where somebody may have meant one.
func noDevice(err error, source string) error {
	if client.IsStatus(err, http.StatusNotFound) {
		if _, statErr := os.Stat(source); statErr == nil {
			return fmt.Errorf("%w For the file of that name write ./%s", err, source)
		}
	}
	return err
}

// textOf is a configuration byte for byte.
func textOf(c *gen.Configuration) string {
	if c.Raw != nil {
		return string(*c.Raw)
	}
	return c.Text
}

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "print a configuration", ArgsUsage: "REF", Category: "Every day",
		Description: example("vergekeep show ng-acc-1", "vergekeep show hh-core-1 --only interface", "vergekeep show ng-acc-1@-1", "vergekeep show ng-acc-1:startup@2026-11-20", "vergekeep show hh-fw-1:running/guests@live"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "only", Usage: "a neutral name: interface, vlan, access-list, user …, whatever the platform calls it"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write it to this file, which only you may read", TakesFile: true},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a ref"); err != nil {
				return err
			}
			r, err := ref.Parse(cmd.Args().First(), time.Local)
			if err != nil {
				return err
			}
			if r.File != "" {
				text, err := readFile(r.File)
				if err != nil {
					return err
				}
				_, err = io.WriteString(a.Out, text)
				return err
			}
			conf, err := a.configuration(ctx, cmd, cmd.Args().First(), set(cmd, "only"))
			if err != nil {
				return err
			}
			switch cmd.Root().String("format") {
			case "table":
				if conf.Masked && (isTerminal(a.Err) || cmd.String("output") != "") {
					fmt.Fprintln(a.Err, "Secrets are hidden; to see them takes the right see-secrets.")
				}
				return a.deliver(cmd, []byte(textOf(conf)))
			case "csv":
				return errors.New("a configuration is no table; take --format json or yaml")
			}
			return a.print(cmd, conf, nil)
		},
	}
}

func (a *app) historyCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "list the revisions of a configuration, newest first", ArgsUsage: "DEVICE[:DATASTORE[/PART]]", Category: "Every day",
		Description: example("vergekeep history np-acc-2", "vergekeep history hh-fw-1:running/guests"),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a device"); err != nil {
				return err
			}
			r, err := ref.Parse(cmd.Args().First(), time.Local)
			if err != nil {
				return err
			}
			if r.File != "" || r.Point.Kind != ref.Latest {
				return fmt.Errorf("%s names one configuration; a history is of a device, or of a device's datastore", r)
			}
			c, err := a.connect(cmd)
			if err != nil {
				return err
			}
			store := gen.ListRevisionsParamsDatastore(r.Datastore)
			list, err := c.ListRevisionsWithResponse(ctx, r.Device, &gen.ListRevisionsParams{Datastore: &store, Part: &r.Part})
			if err := client.Check(list, err); err != nil {
				return err
			}
			revisions := *list.JSON200
			if len(revisions) == 0 {
				// The service knows what there is instead.
				if _, err := a.configuration(ctx, cmd, r.String(), nil); err != nil {
					return err
				}
			}
			now := time.Now()
			t := &table{head: []string{"revision", "in force since", "last seen", "lines", "differs", "remark"}, none: "Nothing has been captured yet."}
			for _, rev := range revisions {
				t.add(fmt.Sprintf("@%d", rev.Number), when(&rev.FirstSeen, now), when(&rev.LastSeen, now), strconv.Itoa(rev.Lines), marks(rev.Stats), remark(rev))
			}
			return a.print(cmd, revisions, t)
		},
	}
}

// marks writes counts with the marks that stand before the lines.
func marks(s gen.Stats) string {
	var parts []string
	for _, m := range []struct {
		n    int
		mark string
	}{{s.Changed, "~"}, {s.Removed, "−"}, {s.Added, "+"}, {s.Moved, "↕"}} {
		if m.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", m.n, m.mark))
		}
	}
	return strings.Join(parts, "  ")
}

// deliver writes to the file that was asked for, or to the output. A file is
// written beside its place first, so that it is never half there.
func (a *app) deliver(cmd *cli.Command, data []byte) error {
	path := cmd.String("output")
	if path == "" {
		_, err := a.Out.Write(data)
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".vergekeep-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	fmt.Fprintf(a.Err, "Written to %s.\n", path)
	return nil
}
