package api

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/core/syslog"
	"vergekeep/service/signals"
)

func apiSignal(g signals.Signal) gen.Signal {
	return gen.Signal{Id: g.ID, Device: g.Device, At: g.At, Last: g.Last, Count: g.Count, Said: moment(g.Said), Medium: gen.SignalMedium(g.Medium), Listener: g.Listener, Sender: g.Sender,
		Account: g.Account, Source: g.Source, Method: g.Method, Text: g.Text, State: gen.SignalState(g.State), Change: some(g.Change)}
}

// ListSignals implements listSignals.
func (s *server) ListSignals(c *gin.Context, params gen.ListSignalsParams) {
	before, n, ok := numbered(c, params.Cursor, params.Limit)
	if !ok {
		return
	}
	list, err := s.Signals.List(c, value(params.Selector), signals.State(value(params.State)), value(params.Change), before, n+1)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, next := upTo(list, n, func(x *signals.Signal) string { return strconv.FormatInt(x.ID, 10) })
	c.JSON(http.StatusOK, gen.SignalPage{Items: each(list, apiSignal), Next: link(c, next)})
}

// PostSignal implements postSignal: a CloudEvent (CloudEvents 1.0, HTTP protocol
// binding 3.1 and 3.2).
func (s *server) PostSignal(c *gin.Context) {
	in, ok := body[gen.PostedSignal](s, c)
	if !ok {
		return
	}
	bad := func(detail string) {
		problem(c, http.StatusBadRequest, "This is no CloudEvent that can be taken.", detail)
	}
	data := value(in.Data)
	device, kind := value(in.Subject), value(in.Type)
	if version := c.GetHeader("Ce-Specversion"); version != "" { // binary: the body is the data
		if version != "1.0" {
			bad("The header ce-specversion must be 1.0.")
			return
		}
		device, kind = c.GetHeader("Ce-Subject"), c.GetHeader("Ce-Type")
		in.Source = some(c.GetHeader("Ce-Source"))
		data = gen.PostedData{Device: in.Device, Key: in.Key, Account: in.Account, Address: in.Address, Method: in.Method, Text: in.Text}
	} else if value(in.Specversion) == "" {
		bad("It needs specversion 1.0, in the body or as the header ce-specversion.")
		return
	}
	if device == "" {
		device = value(data.Device)
	}
	if device == "" && value(data.Key) == "" {
		bad("Its subject names the device; or its data has a key that belongs to one.")
		return
	}
	g, err := s.Signals.Post(c, device, value(data.Key), signals.Signal{Listener: "http", Sender: source(c), Account: value(data.Account), Source: value(data.Address), Method: value(data.Method),
		Text: strings.TrimSpace(fmt.Sprintf("%s %s %s", value(in.Source), kind, value(data.Text)))})
	answer(s, c, http.StatusAccepted, apiSignal(g), err)
}

// TestSignal implements testSignal.
func (s *server) TestSignal(c *gin.Context) {
	in, ok := body[gen.SignalTrial](s, c)
	if !ok {
		return
	}
	m := syslog.Parse([]byte(in.Line), time.Now(), time.UTC)
	u, err := s.Signals.Test(c, m.Host, m.App, m.Text, value(in.Sender), value(in.Dialect), s.Dialects)
	answer(s, c, http.StatusOK, gen.Understood{Form: string(m.Form), Time: moment(m.Time), Sure: some(m.Sure), Host: m.Host, Program: m.App, Text: m.Text, Device: u.Device, Dialect: u.Dialect, Rule: u.Rule,
		Changed: u.Rule > 0 && u.Told.Changed, Account: u.Told.Account, Source: u.Told.Source, Method: u.Told.Method, Ours: u.Ours}, err)
}

// ListSenders implements listSenders.
func (s *server) ListSenders(c *gin.Context) {
	list, err := s.Signals.Senders(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	strangers, err := s.Signals.Strangers(c)
	received, understood, unknown, _ := s.Signals.Counts()
	answer(s, c, http.StatusOK, gen.Senders{
		Listeners: all(s.Listeners()), Received: received, Understood: understood, Unknown: unknown,
		Senders: each(list, func(x signals.Sender) gen.Sender {
			return gen.Sender{Name: x.Name, Device: x.Device, Address: x.Address, Host: x.Host, Listener: x.Listener, HasKey: x.HasKey, Account: x.Account, At: x.At}
		}),
		Strangers: each(strangers, func(x signals.Stranger) gen.Stranger {
			return gen.Stranger{Address: x.Address, Host: x.Host, Listener: x.Listener, Count: x.Count, First: x.First, Last: x.Last, Sample: x.Sample}
		}),
	}, err)
}

// SetSender implements setSender.
func (s *server) SetSender(c *gin.Context, name gen.Name) {
	in, ok := body[gen.SenderEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Signals.SetSender(c, signals.Sender{Name: name, Device: value(in.Device), Address: value(in.Address), Host: value(in.Host), Key: value(in.Key), Listener: value(in.Listener), Account: caller(c).Name}))
}

// DeleteSender implements deleteSender.
func (s *server) DeleteSender(c *gin.Context, name gen.Name) {
	s.done(c, s.Signals.DeleteSender(c, name, caller(c).Name))
}
