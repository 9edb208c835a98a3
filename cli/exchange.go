package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/naming"
	"vergekeep/wire/git"
)

func (a *app) archiveImport() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "take in dated files, or a git repository, that were kept before", ArgsUsage: "FOLDER",
		Description: example("vergekeep archive import ./old --names '{device}/{date}.cfg' --dry-run", "vergekeep archive import ./old --names '{date}/{device}_{time}*'",
			"vergekeep archive import --git ./configs --names '{site}/{device}.cfg'") +
			"\n\nFields of names are {device} {site} {address} {datastore} {part} {date} {time}; * is anything. Of a git repository the time and the\nauthor of each commit count. An import that was interrupted goes on where it was; nothing is there twice.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "names", Required: true, Usage: "how the files are named"},
			&cli.BoolFlag{Name: "git", Usage: "the folder is a git repository: its history is taken in, the first parent's side of merges"},
			&cli.BoolFlag{Name: "dry-run", Usage: "only say what would happen"},
		},
		Action: a.importOld,
	}
}

// oldFile is a configuration that was kept elsewhere.
type oldFile struct {
	path, author string
	name         naming.Name
	read         func() ([]byte, error)
}

func (a *app) importOld(ctx context.Context, cmd *cli.Command) error {
	if err := exactly(cmd, 1, "a folder"); err != nil {
		return err
	}
	pattern, err := naming.Compile(cmd.String("names"))
	if err != nil {
		return err
	}
	find := filesOf
	if cmd.Bool("git") {
		find = commitsOf
	} else if !pattern.Has("date") {
		return errors.New("nothing in the names says when a file was in force; they take {date}")
	}
	files, others, done, err := find(ctx, cmd.Args().First(), pattern)
	if err != nil {
		return err
	}
	defer done()
	if len(files) == 0 {
		return fmt.Errorf("no file in %s is named like %s; %s something else, such as %q", cmd.Args().First(), cmd.String("names"), plural(len(others), "file is named"), strings.Join(others[:min(len(others), 1)], ""))
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	byAddress := map[string]string{}
	if pattern.Has("address") && !pattern.Has("device") {
		r, err := c.ListDevicesWithResponse(ctx, &gen.ListDevicesParams{Limit: some(10000)})
		if err := client.Check(r, err); err != nil {
			return err
		}
		for _, d := range r.JSON200.Items {
			for _, at := range strings.Split(d.Address, ", ") {
				host, _, _ := strings.Cut(at, ":")
				byAddress[host] = d.Name
			}
		}
	}
	// Older ones first, so that each is compared with the one before it.
	sort.SliceStable(files, func(i, j int) bool { return files[i].name.At.Before(files[j].name.At) })
	counts := map[string]int{}
	t := &table{head: []string{"file", "device", "in force", "fate"}}
	for i, f := range files {
		fate, err := a.importOne(ctx, c, f, byAddress, cmd.Bool("dry-run"))
		if err = errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		kind, _, _ := strings.Cut(fate, ":")
		counts[kind]++
		if kind != "same" && kind != "there" {
			t.add(f.path, f.name.Device, f.name.At.Format("2006-01-02 15:04"), fate)
		}
		if isTerminal(a.Err) && (i%50 == 49 || i == len(files)-1) {
			fmt.Fprintf(a.Err, "\r%d of %d", i+1, len(files))
		}
	}
	if isTerminal(a.Err) {
		fmt.Fprintln(a.Err)
	}
	if err := a.print(cmd, counts, t); err != nil {
		return err
	}
	would := ""
	if cmd.Bool("dry-run") {
		would = "would be "
	}
	fmt.Fprintf(a.Err, "%s: %d %sadded, %d are what was in force anyway, %d had been taken in before, %d refused; %d others are not named like this.\n",
		plural(len(files), "file"), counts["added"], would, counts["same"], counts["there"], counts["refused"], len(others))
	if counts["refused"] > 0 {
		return yes{}
	}
	return nil
}

// importOne says what became of a file; its error is one that all others would
// have too.
func (a *app) importOne(ctx context.Context, c *client.Client, f oldFile, byAddress map[string]string, dry bool) (string, error) {
	device := f.name.Device
	if device == "" {
		device = byAddress[f.name.Address]
	}
	if device == "" {
		return "refused: no device has the address " + f.name.Address, nil
	}
	text, err := f.read()
	if err != nil {
		return "refused: " + err.Error(), nil
	}
	old := gen.OldText{Device: device, At: f.name.At, Text: text, DryRun: &dry, Author: optional(f.author), Part: optional(f.name.Part)}
	if f.name.Datastore != "" {
		old.Datastore = some(gen.OldTextDatastore(f.name.Datastore))
	}
	for {
		r, err := c.ImportRevisionWithResponse(ctx, old)
		err = client.Check(r, err)
		switch {
		case err == nil:
			return string(r.JSON200.Fate), nil
		case errors.Is(err, client.ErrUnreachable), client.IsStatus(err, http.StatusUnauthorized), client.IsStatus(err, http.StatusForbidden):
			return "", err
		}
		// What an export writes before the ending: "hh-fw-1.guests", "ng-acc-1.startup".
		i := strings.LastIndexByte(old.Device, '.')
		if i < 0 || !client.IsStatus(err, http.StatusNotFound) {
			return "refused: " + err.Error(), nil
		}
		word := old.Device[i+1:]
		old.Device = old.Device[:i]
		switch {
		case old.Datastore == nil && (word == "startup" || word == "candidate"):
			old.Datastore = some(gen.OldTextDatastore(word))
		case old.Part == nil:
			old.Part = &word
		default:
			return "refused: " + err.Error(), nil
		}
	}
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// filesOf are the files of a folder, and the names of those that are not like
// the pattern.
func filesOf(_ context.Context, folder string, p *naming.Pattern) (files []oldFile, others []string, done func(), err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !d.Type().IsRegular() {
			return err
		}
		relative, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		name, ok := p.Read(filepath.ToSlash(relative), time.Local)
		if !ok {
			others = append(others, relative)
			return nil
		}
		files = append(files, oldFile{path: relative, name: name, read: func() ([]byte, error) {
			text, err := readFile(path)
			return []byte(text), err
		}})
		return nil
	})
	return files, others, func() {}, err
}

// commitsOf are the files that the commits of a git repository changed, along
// the first parents.
func commitsOf(ctx context.Context, folder string, p *naming.Pattern) (files []oldFile, others []string, done func(), err error) {
	h, err := git.Read(ctx, folder)
	if err != nil {
		return nil, nil, nil, err
	}
	seen := map[string]bool{}
	for _, c := range h.Changes {
		name, ok := p.Read(c.Path, time.Local)
		if !ok {
			if !seen[c.Path] {
				seen[c.Path] = true
				others = append(others, c.Path)
			}
			continue
		}
		if name.At.IsZero() {
			name.At = c.At
		}
		files = append(files, oldFile{path: c.Path, author: c.Author, name: name, read: func() ([]byte, error) { return h.Text(c, maxFile) }})
	}
	return files, others, func() { _ = h.Close() }, nil
}

func (a *app) archiveExport() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write the history into a git repository, one commit a revision", ArgsUsage: "FOLDER",
		Description: example("vergekeep archive export ./configs", "vergekeep archive export ./configs --push origin") +
			"\n\nThe folder is made if it is not there; if it is, what came since the last export is added. Dates and authors are kept, and a trailer\nnames the revision. Secrets are masked for whoever may not see them.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "names", Value: "{site}/{device}.cfg", Usage: "how the files are named; see import. Datastores and parts go before the last point"},
			&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "only these devices"},
			&cli.StringFlag{Name: "push", Usage: "then push to this remote"},
		},
		Action: a.exportGit,
	}
}

func (a *app) exportGit(ctx context.Context, cmd *cli.Command) error {
	if err := exactly(cmd, 1, "a folder"); err != nil {
		return err
	}
	pattern, err := naming.Compile(cmd.String("names"))
	if err != nil {
		return err
	}
	if pattern.Has("date") || pattern.Has("time") {
		return errors.New("a git repository keeps the times itself; the names take no {date} and no {time}")
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	folder := cmd.Args().First()
	if err := git.Init(ctx, folder, false); err != nil {
		return err
	}
	// What is there already says so in its trailers.
	there, err := git.Trailers(ctx, folder, "Revision")
	if err != nil {
		return err
	}
	list, err := exported(ctx, c, set(cmd, "selector"), pattern, there)
	if err != nil {
		return err
	}
	err = git.Add(ctx, folder, func(yield func(git.Commit, error) bool) {
		for _, e := range list {
			conf, err := c.GetConfigurationWithResponse(ctx, &gen.GetConfigurationParams{Ref: e.Ref})
			if err = client.Check(conf, err); err != nil {
				yield(git.Commit{}, err)
				return
			}
			title := fmt.Sprintf("%s: %s", strings.TrimSuffix(e.Ref, fmt.Sprintf("@%d", e.Number)), told(e.Revision))
			if !yield(git.Commit{Path: e.path, Author: deref(e.Author), At: e.FirstSeen, Arrived: e.Arrived, Title: title, Trailers: [][2]string{{"Revision", e.Ref}, {"Hash", e.Hash}}, Text: []byte(textOf(conf.JSON200))}, nil) {
				return
			}
		}
	})
	if err != nil {
		return err
	}
	if len(list) > 0 {
		// The files themselves, for whoever looks into the folder.
		if _, err := git.Run(ctx, folder, nil, "reset", "-q", "--hard", "main"); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.Err, "%s added to %s; %d were there.\n", plural(len(list), "commit"), folder, len(there))
	if remote := cmd.String("push"); remote != "" {
		return git.Push(ctx, folder, remote)
	}
	return nil
}

// outgoing is a revision and the path that it is exported to.
type outgoing struct {
	gen.Revision
	path string
}

// exported are the revisions that are not there yet, the oldest first.
func exported(ctx context.Context, c *client.Client, selector *string, pattern *naming.Pattern, there map[string]bool) ([]outgoing, error) {
	r, err := c.ListFleetAtWithResponse(ctx, &gen.ListFleetAtParams{Selector: selector})
	if err := client.Check(r, err); err != nil {
		return nil, err
	}
	var list []outgoing
	for _, conf := range r.JSON200.Configurations {
		store := gen.ListRevisionsParamsDatastore(conf.Revision.Datastore)
		revisions, err := c.ListRevisionsWithResponse(ctx, conf.Device, &gen.ListRevisionsParams{Datastore: &store, Part: &conf.Revision.Part})
		if err := client.Check(revisions, err); err != nil {
			return nil, err
		}
		path := pattern.Path(naming.Name{Device: conf.Device, Site: conf.Site, Datastore: conf.Revision.Datastore, Part: conf.Revision.Part})
		for _, rev := range *revisions.JSON200 {
			if !there[rev.Ref] && !deref(rev.Thinned) && rev.Origin != gen.Drafted {
				list = append(list, outgoing{rev, path})
			}
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].FirstSeen.Before(list[j].FirstSeen) })
	return list, nil
}

// told is a revision in a few words, for the first line of a commit.
func told(r gen.Revision) string {
	if r.Number == 1 {
		return "first seen"
	}
	if m := marks(r.Stats); m != "" {
		return m
	}
	return "order, blanks or secrets"
}
