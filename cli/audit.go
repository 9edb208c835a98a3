package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/audit"
	"vergekeep/core/dialect"
	"vergekeep/core/form"
	"vergekeep/core/report"
	"vergekeep/core/selector"
	"vergekeep/core/standard"
)

func (a *app) auditCommand() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "hold configurations against policies and standards, in the service or as files", ArgsUsage: "[FILE...]", Category: "Every day",
		Description: example("vergekeep audit -s site=Northgate", "vergekeep audit --policy ./policies --standard ./standards --field role=access ./ng-acc-1.cfg",
			"vergekeep audit --policy ./policies --output sarif ./configs/*.cfg > audit.sarif") +
			"\n\nWithout files, devices are audited by the service and what is open is listed. With files no service is asked: policies and standards\n" +
			"are read from folders, and the platform is that of --platform, or the one whose dialect recognises the text. The exit status is 1 where\nsomething was found.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of the devices to audit"},
			&cli.StringSliceFlag{Name: "policy", Usage: "a policy file, or a folder of them; may be given again"},
			&cli.StringSliceFlag{Name: "standard", Usage: "a standard, or a folder of them; may be given again"},
			&cli.StringFlag{Name: "platform", Usage: "of the files"},
			&cli.StringFlag{Name: "dialects", Usage: "a folder of dialects of your own"},
			&cli.StringSliceFlag{Name: "field", Usage: "what selectors know of the files, such as role=access; may be given again"},
			&cli.StringFlag{Name: "output", Value: "text", Usage: "of files: text, json, sarif or junit"},
		},
		Action: a.audit,
		Commands: []*cli.Command{
			{
				Name: "score", Usage: "how much of what was asked holds, the lowest first", Description: example("vergekeep audit score", "vergekeep audit score --by control --at 2026-03-01"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}}, &cli.StringFlag{Name: "by", Value: "site", Usage: "device, site, document, item or control"},
					&cli.StringFlag{Name: "at", Usage: "what held then"},
				},
				Action: a.with(0, "", a.auditScore),
			},
			{
				Name: "report", Usage: "write what does not hold, why it matters and what to type; shares by site, document and control", Description: example("vergekeep audit report -o audit.pdf", "vergekeep audit report -s site=Northgate --severity high -o northgate.csv"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Required: true, Usage: "the file; its ending says which: .html .pdf .csv .json", TakesFile: true},
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}}, &cli.StringFlag{Name: "document", Usage: "of this policy or standard"},
					&cli.StringFlag{Name: "severity", Usage: "this one and above"}, &cli.StringFlag{Name: "control", Usage: "of rules that refer to it"},
				},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					form, err := formOf(cmd.String("output"))
					if err != nil {
						return err
					}
					f := gen.ReportAuditsParamsForm(form)
					r, err := c.ReportAuditsWithResponse(ctx, &gen.ReportAuditsParams{Selector: set(cmd, "selector"), Document: set(cmd, "document"), Severity: (*gen.Severity)(set(cmd, "severity")), Control: set(cmd, "control"), Zone: zone(), Form: &f})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.deliver(cmd, r.Body)
				}),
			},
			{
				Name: "results", Usage: "what every document said of a device, now or at a time", ArgsUsage: "DEVICE", Description: example("vergekeep audit results ng-acc-1", "vergekeep audit results ng-acc-1 --at 2026-03-01"),
				Flags:  []cli.Flag{&cli.StringFlag{Name: "at", Usage: "what held then"}},
				Action: a.with(1, "a device", a.auditResults),
			},
		},
	}
}

func (a *app) audit(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Present() || cmd.IsSet("policy") || cmd.IsSet("standard") {
		return a.auditFiles(cmd)
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	r, err := c.StartAuditWithResponse(ctx, gen.AuditRequest{Selector: set(cmd, "selector")})
	if err := client.Check(r, err); err != nil {
		return err
	}
	fmt.Fprintf(a.Err, "%s audited.\n", plural(r.JSON200.Devices, "device"))
	return a.listFindings(ctx, cmd, c, &gen.ListFindingsParams{Selector: set(cmd, "selector"), State: some(gen.ListFindingsParamsStateOpen)})
}

// filesIn is the YAML files that paths name, those of a folder among them.
func filesIn(paths []string) ([]string, error) {
	var list []string
	for _, p := range paths {
		info, err := os.Stat(p)
		if err != nil {
			return nil, err
		}
		if !info.IsDir() {
			list = append(list, p)
			continue
		}
		err = filepath.WalkDir(p, func(path string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && (strings.HasSuffix(path, ".yaml") || strings.HasSuffix(path, ".yml")) {
				list = append(list, path)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return list, nil
}

// dialectsOf are the built-in dialects and those of a folder.
func dialectsOf(folder string) (dialect.Set, error) {
	var folders []fs.FS
	if folder != "" {
		folders = append(folders, os.DirFS(folder))
	}
	return dialect.Load(folders...)
}

// readDocuments reads policies and standards; what is wrong with any of them is said
// of all.
func readDocuments(set dialect.Set, policies, standards []string) (rules []*audit.Policy, golden []*standard.Standard, err error) {
	var wrong form.Error
	note := func(err error) error {
		var fault *form.Error
		if errors.As(err, &fault) {
			wrong.Complaints = append(wrong.Complaints, fault.Complaints...)
			return nil
		}
		return err
	}
	files, err := filesIn(policies)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		text, err := readFile(f)
		if err != nil {
			return nil, nil, err
		}
		p, err := audit.Parse(f, text)
		if err == nil {
			err = p.Platforms(f, set)
		}
		if err != nil {
			if err = note(err); err != nil {
				return nil, nil, err
			}
			continue
		}
		rules = append(rules, p)
	}
	if files, err = filesIn(standards); err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		text, err := readFile(f)
		if err != nil {
			return nil, nil, err
		}
		s, err := standard.Parse(f, text, set)
		if err != nil {
			if err = note(err); err != nil {
				return nil, nil, err
			}
			continue
		}
		golden = append(golden, s)
	}
	if len(wrong.Complaints) > 0 {
		return nil, nil, &wrong
	}
	return rules, golden, nil
}

// auditFiles audits files without a service.
func (a *app) auditFiles(cmd *cli.Command) error {
	began := time.Now()
	if !cmd.Args().Present() {
		return fmt.Errorf("a file to audit is missing\nSee '%s --help'", cmd.FullName())
	}
	set, err := dialectsOf(cmd.String("dialects"))
	if err != nil {
		return err
	}
	policies, standards, err := readDocuments(set, cmd.StringSlice("policy"), cmd.StringSlice("standard"))
	if err != nil {
		return err
	}
	if len(policies)+len(standards) == 0 {
		return errors.New("there is nothing to hold them against; name --policy or --standard, a file or a folder each")
	}
	fields := map[string][]string{}
	for _, f := range cmd.StringSlice("field") {
		key, value, ok := strings.Cut(f, "=")
		if !ok || !slices.Contains(selector.Keys, key) {
			return fmt.Errorf("%q is no field; write for example --field role=access; there are %s", f, strings.Join(selector.Keys, ", "))
		}
		fields[key] = append(fields[key], value)
	}
	type ready struct {
		policy  *audit.Policy
		dialect *dialect.Dialect
	}
	programs := map[ready]*audit.Program{}
	paths := cmd.Args().Slice()
	of := make([]audit.File, len(paths))
	said := make([]audit.Audited, len(paths))
	golden := make([][]report.Audited, len(paths))
	for i, path := range paths {
		text, err := readFile(path)
		if err != nil {
			return err
		}
		d := set[cmd.String("platform")]
		switch {
		case d == nil && cmd.IsSet("platform"):
			return fmt.Errorf("there is no dialect %q; there are %s", cmd.String("platform"), strings.Join(set.Names(), ", "))
		case d == nil:
			if d, err = recognised(set, path, text); err != nil {
				return err
			}
		}
		name := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
		if len(fields["name"]) > 0 {
			name = fields["name"][0]
		}
		of[i] = audit.File{Name: name, Platform: d.Name, Fields: fields}
		said[i].Device = name
		view := d.View(text)
		for _, p := range policies {
			if !p.Applies.Match(of[i]) {
				continue
			}
			if programs[ready{p, d}] == nil {
				programs[ready{p, d}] = audit.Compile(p.Rules, d)
			}
			results, offers := programs[ready{p, d}].Run(audit.Input{Subject: of[i], View: view, Main: true})
			said[i].Results, said[i].Offers = append(said[i].Results, results...), append(said[i].Offers, offers...)
		}
		for _, s := range standards {
			if !s.Applies.Match(of[i]) || s.Platform != d.Name {
				continue
			}
			for _, sec := range s.Compare(standard.Input{Subject: of[i], View: view}).Sections {
				one := report.Audited{File: path, Name: s.Name(sec.Section), Title: sec.Section.Heading(), Severity: sec.Section.Severity, Outcome: sec.Outcome, Why: sec.Why, Help: sec.Section.Fix}
				for _, dev := range sec.Deviations {
					one.Proofs = append(one.Proofs, dev.Proof())
				}
				golden[i] = append(golden[i], one)
			}
		}
	}
	audit.Together(said)
	var list []report.Audited
	for i, path := range paths {
		for _, r := range said[i].Results {
			fix, _ := r.Rule.FixFor(of[i].Platform)
			list = append(list, report.Audited{File: path, Name: r.Rule.Name(), Title: r.Rule.Title, Severity: r.Rule.Severity, Outcome: r.Outcome, Why: r.Why, Proofs: r.Proofs, Help: strings.TrimSpace(r.Rule.Rationale + "\n\n" + fix)})
		}
		list = append(list, golden[i]...)
	}
	found := 0
	for _, r := range list {
		if r.Outcome == audit.Fail || r.Outcome == audit.Undecidable {
			found++
		}
	}
	if err := a.writeAudited(cmd.String("output"), list, cmd.Root().Version, time.Since(began)); err != nil {
		return err
	}
	if found > 0 {
		return yes{}
	}
	return nil
}

// recognised is the dialect of a text by its own signs of completeness; none where
// several would do.
func recognised(set dialect.Set, path, text string) (*dialect.Dialect, error) {
	var fits []string
	for _, name := range set.Names() {
		d := set[name]
		if d.Recognise.General || d.Complete.First == nil && d.Complete.Last == nil {
			continue
		}
		if d.CheckComplete(d.Tree(text)) == nil {
			fits = append(fits, name)
		}
	}
	if len(fits) == 1 {
		return set[fits[0]], nil
	}
	return nil, fmt.Errorf("%s: it cannot be told of which platform it is; name --platform, one of %s", path, strings.Join(set.Names(), ", "))
}

// writeAudited writes results of files.
func (a *app) writeAudited(form string, list []report.Audited, version string, took time.Duration) error {
	var out []byte
	var err error
	switch form {
	case "sarif":
		out, err = report.SARIF(list, version)
		out = append(out, '\n')
	case "junit":
		out, err = report.JUnit(list, took)
	case "json":
		return a.writeJSON(list)
	case "text":
		return a.auditedText(list)
	default:
		return fmt.Errorf("%q is no output; there are text, json, sarif and junit", form)
	}
	if err != nil {
		return err
	}
	_, err = a.Out.Write(out)
	return err
}

func (a *app) auditedText(list []report.Audited) error {
	counts := map[audit.Outcome]int{}
	file := ""
	for _, r := range list {
		counts[r.Outcome]++
		if r.Outcome != audit.Fail && r.Outcome != audit.Undecidable {
			continue
		}
		if r.File != file {
			file = r.File
			fmt.Fprintf(a.Out, "%s\n", a.tint(bold, file))
		}
		said := a.tint(severityTint(string(r.Severity)), string(r.Severity))
		if r.Outcome == audit.Undecidable {
			said = "undecidable"
		}
		fmt.Fprintf(a.Out, "  %s  %s  (%s)\n", said, r.Title, r.Name)
		if len(r.Proofs) == 0 {
			fmt.Fprintf(a.Out, "    %s\n", r.Why)
		}
		a.proofs("    ", r.Proofs, 0)
	}
	fmt.Fprintf(a.Out, "%d hold, %d do not, %d cannot be decided, %d do not apply.\n", counts[audit.Pass], counts[audit.Fail], counts[audit.Undecidable], counts[audit.NotApplicable])
	return nil
}

func severityTint(s string) string {
	switch s {
	case "high":
		return alarm
	case "medium":
		return attention
	}
	return ""
}

// proofs prints the places of a finding.
func (a *app) proofs(indent string, list []audit.Proof, more int) {
	for _, p := range list {
		where := ""
		if p.Line > 0 {
			where = fmt.Sprintf("line %d", p.Line)
		}
		if len(p.Path) > 0 {
			where = strings.TrimSpace(where + " in " + strings.Join(p.Path, " > "))
		}
		said := strings.ReplaceAll(p.Says, "\n", "\n"+indent+"    ")
		if p.Text != "" {
			said = p.Text + "  " + a.tint(faint, "— "+said)
		}
		if where != "" {
			where += ": "
		}
		fmt.Fprintf(a.Out, "%s%s%s\n", indent, where, said)
	}
	if more > 0 {
		fmt.Fprintf(a.Out, "%sand %d more\n", indent, more)
	}
}

func (a *app) auditScore(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	by := gen.ScoreAuditsParamsBy(cmd.String("by"))
	r, err := c.ScoreAuditsWithResponse(ctx, &gen.ScoreAuditsParams{Selector: set(cmd, "selector"), By: &by, At: set(cmd, "at"), Zone: zone()})
	if err := client.Check(r, err); err != nil {
		return err
	}
	t := &table{head: []string{cmd.String("by"), "holds", "fails", "undecidable", "share", ""}, none: "Nothing was audited yet."}
	for _, x := range r.JSON200.By {
		t.add(x.Name, fmt.Sprint(x.Passed), fmt.Sprint(x.Failed), fmt.Sprint(x.Undecidable), percent(x.Share), strings.Repeat("▇", int(x.Share*24)))
	}
	if cmd.Root().String("format") == "table" && len(r.JSON200.By) > 0 {
		all := r.JSON200.All
		fmt.Fprintf(a.Out, "%s of what was asked holds: %d of %d.\n\n", percent(all.Share), all.Passed, all.Passed+all.Failed+all.Undecidable)
	}
	return a.print(cmd, r.JSON200, t)
}

// percent never says 100 of what is not all.
func percent(share float32) string {
	return report.Percent(float64(share))
}

func (a *app) auditResults(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	r, err := c.ListResultsWithResponse(ctx, &gen.ListResultsParams{Device: cmd.Args().First(), At: set(cmd, "at"), Zone: zone()})
	if err := client.Check(r, err); err != nil {
		return err
	}
	now := time.Now()
	t := &table{head: []string{"document", "part", "item", "outcome", "so since", "revision"}, none: "Nothing was audited then."}
	for _, d := range *r.JSON200 {
		for _, i := range d.Items {
			number := "-"
			if d.Number != nil {
				number = fmt.Sprintf("@%d", *d.Number)
			}
			t.add(d.Document, orDash(d.Part), i.Item, string(i.Outcome), when(&d.Since, now), number)
		}
	}
	return a.print(cmd, r.JSON200, t)
}
