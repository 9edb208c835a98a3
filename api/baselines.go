package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/core/selector"
	"vergekeep/service/audits"
)

// ListBaselines implements listBaselines.
func (s *server) ListBaselines(c *gin.Context) {
	names, err := s.Fleet.Names(c, selector.Selector{})
	if err != nil {
		s.fail(c, err)
		return
	}
	list, err := s.Archive.Baselines(c)
	answer(s, c, http.StatusOK, each(list, func(b archive.Blessing) gen.Baseline {
		return gen.Baseline{Revision: apiRevision(names[b.Revision.Device], b.Revision), Remark: some(b.Remark), Account: b.Account, At: b.At}
	}), err)
}

// SetBaselines implements setBaselines.
func (s *server) SetBaselines(c *gin.Context) {
	in, ok := body[gen.BaselineEdit](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, in.Zone)
	if !ok {
		return
	}
	var list []archive.Revision
	var called []string
	for _, ref := range in.Refs {
		t, err := s.Texts.Get(c, ref, who)
		if err != nil {
			s.fail(c, err)
			return
		}
		list, called = append(list, t.Revision), append(called, t.Name())
	}
	err := s.Notes.Bless(c, list, called, value(in.Remark), value(in.Confirmed), who.Account)
	s.Audits.Recheck()
	s.done(c, err)
}

// BlessMany implements blessMany.
func (s *server) BlessMany(c *gin.Context) {
	in, ok := body[gen.BlessMany](s, c)
	if !ok {
		return
	}
	var list []audits.Blessable
	var err error
	if value(in.Try) {
		list, err = s.Audits.Blessables(c, in.Selector, value(in.Authorised))
	} else {
		list, err = s.Audits.Bless(c, s.Notes, in.Selector, value(in.Authorised), value(in.Remark), caller(c).Name)
	}
	answer(s, c, http.StatusOK, each(list, func(b audits.Blessable) gen.Blessable {
		return gen.Blessable{Ref: b.Ref, State: b.State, Baseline: some(b.Baseline), Far: b.Far, Lines: b.Lines, Suspect: some(b.Suspect), Unsaved: b.Unsaved}
	}), err)
}

// DeleteBaseline implements deleteBaseline.
func (s *server) DeleteBaseline(c *gin.Context, params gen.DeleteBaselineParams) {
	who, ok := s.reader(c, nil)
	if !ok {
		return
	}
	t, err := s.Texts.Get(c, params.Ref, who)
	if err == nil {
		_, err = s.Archive.Baseline(c, t.Revision.Key)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	err = s.Notes.Unbless(c, t.Revision, t.Name(), value(params.Remark), who.Account)
	s.Audits.Recheck()
	s.done(c, err)
}
