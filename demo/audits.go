package demo

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"time"

	"vergekeep/service/audits"
)

// What Skerry Line's devices should have.
//
//go:embed standards/*.yaml
var standards embed.FS

// standards keeps them from the first day on.
func (d *Demo) standards(ctx context.Context) error {
	names, err := fs.Glob(standards, "standards/*.yaml")
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := fs.ReadFile(standards, name)
		if err != nil {
			return err
		}
		if _, err := d.Daemon.Audits.SetDocument(ctx, audits.Standard, name, string(text), "lead", true); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// audits is what people have made of what the audits found: baselines moved where
// changes were authorised, an exception that runs out tomorrow, an owner.
func (d *Demo) audits(ctx context.Context, now time.Time) error {
	if _, err := d.Daemon.Audits.Bless(ctx, d.Daemon.Notes, "", true, "last change authorised", "lead"); err != nil {
		return err
	}
	if err := d.Daemon.Audits.Work(ctx); err != nil {
		return err
	}
	find := func(device, item string) (audits.Finding, error) {
		list, _, err := d.Daemon.Audits.Findings(ctx, audits.Filter{Selector: "name=" + device, Item: item})
		if err == nil && len(list) == 0 {
			err = fmt.Errorf("%s has no finding %s", device, item)
		}
		if err != nil {
			return audits.Finding{}, err
		}
		return list[0], nil
	}
	f, err := find("dd-acc-3", "encrypted-access")
	if err != nil {
		return err
	}
	y, m, day := now.UTC().AddDate(0, 0, 1).Date()
	if _, err := d.Daemon.Audits.Grant(ctx, audits.Waiver{FindingID: f.ID, Reason: "it knows nothing but Telnet; the spare comes with the next ferry", Approved: "lead", Until: time.Date(y, m, day, 22, 0, 0, 0, time.UTC), Account: "lead"}); err != nil {
		return err
	}
	if f, err = find("dd-acc-3", "passwords-sealed"); err != nil {
		return err
	}
	owner, reference := "neteng", "ticket 2090"
	if err := d.Daemon.Audits.Note(ctx, []int64{f.ID}, &owner, &reference, nil, "lead"); err != nil {
		return err
	}
	return d.Daemon.Audits.Work(ctx)
}
