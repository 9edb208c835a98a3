package audits

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"vergekeep/archive"
	"vergekeep/service/fleet"
)

// Blessable is a configuration that could be blessed as it is now, with what would
// then be otherwise.
type Blessable struct {
	Drift
	Ref     string // of the revision
	Suspect string
	Unsaved bool // running is not what startup is

	revision archive.Revision
}

// Blessables are the newest configurations of devices that are not the baseline
// already. With authorised, only of devices whose last change was authorised, or that
// never changed.
func (s *Service) Blessables(ctx context.Context, expression string, authorised bool) ([]Blessable, error) {
	devices, err := s.Fleet.Pick(ctx, expression)
	if err != nil {
		return nil, err
	}
	drifts, err := s.Drifts(ctx, expression)
	if err != nil {
		return nil, err
	}
	by := map[string]*fleet.Device{}
	for i := range devices {
		by[devices[i].Name] = &devices[i]
	}
	var list []Blessable
	for _, d := range drifts {
		device := by[d.Device]
		if d.Baseline == d.Newest {
			continue
		}
		if authorised {
			var verdict string
			err := s.DB.QueryRow(ctx, `SELECT verdict FROM changes WHERE device_id = ? ORDER BY found_at DESC, id DESC LIMIT 1`, device.ID).Scan(&verdict)
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return nil, err
			}
			if err == nil && verdict != "authorised" {
				continue
			}
		}
		r, err := s.Archive.Latest(ctx, archive.Key{Device: device.ID, Datastore: d.Datastore, Part: d.Part})
		if err != nil {
			return nil, err
		}
		list = append(list, Blessable{Drift: d, Ref: refTo(d.Device, d.Datastore, d.Part, r.Number), Suspect: r.Suspect, Unsaved: d.Datastore == "running" && device.Unsaved > 0, revision: r})
	}
	return list, nil
}

// Blesser makes revisions baselines, all or none.
type Blesser interface {
	Bless(ctx context.Context, list []archive.Revision, called []string, remark string, confirmed bool, by string) error
}

// Bless makes what Blessables lists the baselines. Suspect ones are left out.
func (s *Service) Bless(ctx context.Context, how Blesser, expression string, authorised bool, remark, by string) ([]Blessable, error) {
	all, err := s.Blessables(ctx, expression, authorised)
	if err != nil {
		return nil, err
	}
	var list []Blessable
	var revisions []archive.Revision
	var called []string
	for _, b := range all {
		if b.Suspect != "" {
			continue
		}
		list, revisions, called = append(list, b), append(revisions, b.revision), append(called, b.Ref)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%w: nothing is left to bless", fleet.ErrNobody)
	}
	if err := how.Bless(ctx, revisions, called, remark, false, by); err != nil {
		return nil, err
	}
	s.Recheck()
	return list, nil
}

// Recheck has everything looked at again that may depend on what was just changed.
func (s *Service) Recheck() {
	s.again.Store(true)
	s.Wake()
}
