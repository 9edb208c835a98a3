package api

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/service/accounts"
	"vergekeep/service/keeping"
)

// GetArchiveStats implements getArchiveStats.
func (s *server) GetArchiveStats(c *gin.Context) {
	x, err := s.Archive.Stats(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gen.ArchiveStats{Devices: x.Devices, Configurations: x.Configurations, Revisions: x.Revisions, Thinned: x.Thinned, Pinned: x.Pinned,
		Contents: x.Contents, Bytes: x.Bytes, Stored: x.Stored, File: x.File, Oldest: x.Oldest, Newest: x.Newest})
}

// BackUpArchive implements backUpArchive. What it sends holds every secret that
// a configuration has, so that it takes both rights.
func (s *server) BackUpArchive(c *gin.Context) {
	a := caller(c)
	if !a.May(accounts.Administer) {
		problem(c, http.StatusForbidden, "This takes the right administer.", "A backup holds everything; it takes the rights administer and see-secrets.")
		return
	}
	folder, err := os.MkdirTemp(s.Scratch, "backup-")
	if err != nil {
		s.fail(c, err)
		return
	}
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "vergekeep.db")
	// The copy is finished before anything is sent: what was begun is whole.
	if err := s.Keeping.Backup(context.WithoutCancel(c), path, a.Name); err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "vergekeep-"+time.Now().UTC().Format("2006-01-02T1504Z")+".db"))
	c.File(path)
}

const dayLong = 24 * time.Hour

// GetRetention implements getRetention.
func (s *server) GetRetention(c *gin.Context) {
	p, err := s.Archive.Policy(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gen.Retention{AllDays: int(p.All / dayLong), DailyDays: int(p.Daily / dayLong), Said: keeping.Said(p), Account: some(p.Account), Changed: moment(p.Changed)})
}

// SetRetention implements setRetention.
func (s *server) SetRetention(c *gin.Context) {
	in, ok := body[gen.RetentionEdit](s, c)
	if !ok {
		return
	}
	p := archive.Policy{All: time.Duration(in.AllDays) * dayLong, Daily: time.Duration(value(in.DailyDays)) * dayLong}
	if err := s.Keeping.SetPolicy(c, p, caller(c).Name); err != nil {
		s.fail(c, err)
		return
	}
	s.GetRetention(c)
}

// ListSurplus implements listSurplus.
func (s *server) ListSurplus(c *gin.Context, params gen.ListSurplusParams) {
	var try *archive.Policy
	if params.AllDays != nil {
		try = &archive.Policy{All: time.Duration(*params.AllDays) * dayLong, Daily: time.Duration(value(params.DailyDays)) * dayLong}
	}
	list, err := s.Keeping.Surplus(c, try)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := []gen.Revision{}
	names := map[int64]string{}
	for _, r := range list {
		if _, ok := names[r.Device]; !ok {
			d, err := s.Fleet.ByID(c, r.Device)
			if err != nil {
				s.fail(c, err)
				return
			}
			names[r.Device] = d.Name
		}
		out = append(out, apiRevision(names[r.Device], r))
	}
	c.JSON(http.StatusOK, out)
}

// ThinArchive implements thinArchive.
func (s *server) ThinArchive(c *gin.Context) {
	n, freed, err := s.Keeping.Thin(c, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gen.Thinned{Revisions: n, Bytes: freed})
}

// ListHolds implements listHolds.
func (s *server) ListHolds(c *gin.Context) {
	list, err := s.Keeping.Holds(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, each(list, func(h keeping.Hold) gen.Hold {
		return gen.Hold{Name: h.Name, Selector: h.Selector, Reason: h.Reason, Account: h.Account, At: h.At, Devices: h.Devices}
	}))
}

// SetHold implements setHold.
func (s *server) SetHold(c *gin.Context, name gen.Name) {
	in, ok := body[gen.HoldEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Keeping.SetHold(c, keeping.Hold{Name: name, Selector: in.Selector, Reason: in.Reason, Account: caller(c).Name}))
}

// LiftHold implements liftHold.
func (s *server) LiftHold(c *gin.Context, name gen.Name) {
	s.done(c, s.Keeping.DeleteHold(c, name, caller(c).Name))
}

// GetHeads implements getHeads.
func (s *server) GetHeads(c *gin.Context) {
	h, err := s.Keeping.Heads(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, h)
}

// GetProof implements getProof.
func (s *server) GetProof(c *gin.Context, params gen.GetProofParams) {
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	t, err := s.Texts.Get(c, params.Ref, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	p, err := s.Archive.Proof(c, t.Revision, t.Name())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, p)
}

// ImportRevision implements importRevision.
func (s *server) ImportRevision(c *gin.Context) {
	in, ok := body[gen.OldText](s, c)
	if !ok {
		return
	}
	fate, r, err := s.Keeping.Take(c, keeping.Old{Device: in.Device, Datastore: string(value(in.Datastore)), Part: value(in.Part), At: in.At, Author: value(in.Author),
		Text: string(in.Text), DryRun: value(in.DryRun)}, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := gen.TextFate{Fate: gen.TextFateFate(fate)}
	if r.Number > 0 {
		out.Revision = some(apiRevision(in.Device, r))
	}
	c.JSON(http.StatusOK, out)
}
