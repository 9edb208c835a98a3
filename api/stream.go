package api

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/service/audits"
	"vergekeep/service/changes"
	"vergekeep/service/events"
	"vergekeep/service/notify"
	"vergekeep/service/rounds"
)

// heartbeat keeps proxies from closing a quiet stream.
const heartbeat = 15 * time.Second

// StreamEvents implements streamEvents (Server-Sent Events, WHATWG HTML).
func (s *server) StreamEvents(c *gin.Context) {
	sub := s.Bus.Subscribe()
	defer sub.Close()
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-cache")
	c.Header("X-Accel-Buffering", "no")
	if _, err := fmt.Fprint(c.Writer, ": listening\n\n"); err != nil {
		return
	}
	c.Writer.Flush()
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		select {
		case e, ok := <-sub.C:
			if !ok || writeEvent(c, e) != nil {
				return
			}
			// What has come together goes out together.
			for more := true; more; {
				select {
				case e, ok := <-sub.C:
					if !ok || writeEvent(c, e) != nil {
						return
					}
				default:
					more = false
				}
			}
		case <-beat.C:
			if _, err := fmt.Fprint(c.Writer, ": still here\n\n"); err != nil {
				return
			}
		case <-c.Request.Context().Done():
			return
		case <-s.Stopping:
			return
		}
		c.Writer.Flush()
	}
}

func writeEvent(c *gin.Context, e events.Event) error {
	var payload any
	switch p := e.Data.(type) {
	case rounds.Progress:
		out := gen.RoundEvent{Round: p.Round.ID}
		if p.Visit != nil {
			v := apiVisit(*p.Visit)
			out.Visit = &v
		} else {
			r := apiRound(p.Round)
			out.State = &r
		}
		payload = out
	case changes.Event:
		payload = gen.ChangeEvent{Change: apiChange(p.Change)}
	case audits.Event:
		payload = gen.AuditEvent{Configurations: p.Configurations, Opened: p.Opened}
	case notify.Event:
		payload = gen.NoticeEvent{Notice: apiNotice(p.Notice, "")}
	default:
		return nil
	}
	data, err := json.Marshal(payload)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(c.Writer, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Type, data)
	return err
}
