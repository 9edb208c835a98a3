package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/service/fleet"
)

// ListVolatiles implements listVolatiles.
func (s *server) ListVolatiles(c *gin.Context) {
	list, err := s.Fleet.Volatiles(c)
	answer(s, c, http.StatusOK, each(list, func(v fleet.Volatile) gen.Volatile {
		return gen.Volatile{Name: v.Name, Platform: v.Platform, Pattern: v.Pattern, Selector: v.Selector, Remark: some(v.Remark), Account: v.Account, At: v.At}
	}), err)
}

// SetVolatile implements setVolatile.
func (s *server) SetVolatile(c *gin.Context, name gen.Name) {
	in, ok := body[gen.VolatileEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Fleet.SetVolatile(c, fleet.Volatile{Name: name, Platform: value(in.Platform), Pattern: in.Pattern, Selector: value(in.Selector), Remark: value(in.Remark), Account: caller(c).Name}))
}

// DeleteVolatile implements deleteVolatile.
func (s *server) DeleteVolatile(c *gin.Context, name gen.Name) {
	s.done(c, s.Fleet.DeleteVolatile(c, name, caller(c).Name))
}

// PreviewVolatile implements previewVolatile.
func (s *server) PreviewVolatile(c *gin.Context) {
	in, ok := body[gen.VolatileTrial](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, in.Zone)
	if !ok {
		return
	}
	from := value(in.Since)
	if from == "" {
		from = "30d"
	}
	since, err := s.Texts.Time(c, from, who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, looked, err := s.Texts.Vanish(c, fleet.Volatile{Platform: value(in.Platform), Pattern: in.Pattern, Selector: value(in.Selector)}, since)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := gen.Vanishing{Since: since, Looked: looked, Changes: []gen.Revision{}}
	for _, v := range list {
		out.Changes = append(out.Changes, apiRevision(v.Device.Name, v.Revision))
	}
	c.JSON(http.StatusOK, out)
}
