package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/service/changes"
	"vergekeep/service/notify"
	"vergekeep/service/signals"
)

// ListCheapQuestions implements listCheapQuestions.
func (s *server) ListCheapQuestions(c *gin.Context) {
	list, err := s.Signals.Questions(c)
	answer(s, c, http.StatusOK, each(list, func(q signals.Question) gen.CheapQuestion {
		return gen.CheapQuestion{Name: q.Name, Selector: q.Selector, Minutes: int(q.Every / time.Minute), Account: q.Account, At: q.At}
	}), err)
}

// SetCheapQuestion implements setCheapQuestion.
func (s *server) SetCheapQuestion(c *gin.Context, name gen.Name) {
	in, ok := body[gen.CheapQuestionEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Signals.SetQuestion(c, signals.Question{Name: name, Selector: value(in.Selector), Every: time.Duration(in.Minutes) * time.Minute, Account: caller(c).Name}))
}

// DeleteCheapQuestion implements deleteCheapQuestion.
func (s *server) DeleteCheapQuestion(c *gin.Context, name gen.Name) {
	s.done(c, s.Signals.DeleteQuestion(c, name, caller(c).Name))
}

// AskNow implements askNow.
func (s *server) AskNow(c *gin.Context) {
	in, ok := body[gen.Asking](s, c)
	if !ok {
		return
	}
	list, err := s.Signals.AskNow(c, in.Selector)
	answer(s, c, http.StatusOK, each(list, func(a signals.Asked) gen.Asked {
		return gen.Asked{Device: a.Device, Answer: a.Answer, Changed: a.Changed, Trouble: some(a.Trouble)}
	}), err)
}

// ListChannels implements listChannels.
func (s *server) ListChannels(c *gin.Context) {
	list, err := s.Notify.Channels(c)
	answer(s, c, http.StatusOK, each(list, func(x notify.Channel) gen.Channel {
		return gen.Channel{Name: x.Name, Kind: gen.ChannelKind(x.Kind), Target: x.Target, Credential: x.Credential, Account: x.Account, At: x.At}
	}), err)
}

// SetChannel implements setChannel.
func (s *server) SetChannel(c *gin.Context, name gen.Name) {
	in, ok := body[gen.ChannelEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Notify.SetChannel(c, notify.Channel{Name: name, Kind: string(in.Kind), Target: value(in.Target), Credential: value(in.Credential), Account: caller(c).Name}))
}

// DeleteChannel implements deleteChannel.
func (s *server) DeleteChannel(c *gin.Context, name gen.Name) {
	s.done(c, s.Notify.DeleteChannel(c, name, caller(c).Name))
}

// TestChannel implements testChannel.
func (s *server) TestChannel(c *gin.Context, name gen.Name) {
	s.done(c, s.Notify.TestChannel(c, name, caller(c).Name))
}

func subscription(name string, in gen.SubscriptionEdit, by string) notify.Subscription {
	x := notify.Subscription{Name: name, Selector: value(in.Selector), Channel: in.Channel, Digest: value(in.Digest), Zone: value(in.Zone), Idle: value(in.Idle), Quiet: value(in.Quiet), PerHour: value(in.PerHour),
		Subject: value(in.Subject), Body: value(in.Body), Paused: value(in.Paused), Account: by}
	for _, k := range in.Events {
		x.Events = append(x.Events, notify.Kind(k))
	}
	if in.Severity != nil {
		x.Severity, _ = changes.ParseSeverity(string(*in.Severity)) // the contract has checked it
	}
	return x
}

// ListSubscriptions implements listSubscriptions.
func (s *server) ListSubscriptions(c *gin.Context) {
	list, err := s.Notify.Subscriptions(c)
	answer(s, c, http.StatusOK, each(list, func(x notify.Subscription) gen.Subscription {
		return gen.Subscription{Name: x.Name, Selector: x.Selector, Severity: gen.Severity(x.Severity.String()), Channel: x.Channel, Digest: x.Digest, Zone: x.Zone, Idle: x.Idle, Quiet: x.Quiet, PerHour: x.PerHour,
			Subject: some(x.Subject), Body: some(x.Body), Paused: x.Paused, Account: x.Account, At: x.At, Events: each(x.Events, func(k notify.Kind) gen.Happening { return gen.Happening(k) })}
	}), err)
}

// SetSubscription implements setSubscription.
func (s *server) SetSubscription(c *gin.Context, name gen.Name) {
	in, ok := body[gen.SubscriptionEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Notify.SetSubscription(c, subscription(name, in, caller(c).Name)))
}

// DeleteSubscription implements deleteSubscription.
func (s *server) DeleteSubscription(c *gin.Context, name gen.Name) {
	s.done(c, s.Notify.DeleteSubscription(c, name, caller(c).Name))
}

// PreviewSubscription implements previewSubscription.
func (s *server) PreviewSubscription(c *gin.Context) {
	in, ok := body[gen.SubscriptionEdit](s, c)
	if !ok {
		return
	}
	m, err := s.Notify.Preview(c, subscription("preview", in, caller(c).Name))
	answer(s, c, http.StatusOK, gen.Letter{Subject: m.Subject, Text: m.Text, Html: m.HTML}, err)
}

func apiNotice(n notify.Notice, device string) gen.Notice {
	out := gen.Notice{Id: n.ID, At: n.At, Kind: string(n.Kind), Device: some(device), Change: some(n.Change), Round: some(n.Round), Title: n.Title, Detail: n.Detail}
	if n.Change != 0 {
		out.Severity = some(gen.Severity(n.Severity.String()))
	}
	return out
}

// ListNotices implements listNotices.
func (s *server) ListNotices(c *gin.Context, params gen.ListNoticesParams) {
	before, n, ok := numbered(c, params.Cursor, params.Limit)
	if !ok {
		return
	}
	list, err := s.Notify.Notices(c, before, n+1)
	if err != nil {
		s.fail(c, err)
		return
	}
	names, err := s.names(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, next := upTo(list, n, func(x *notify.Notice) string { return strconv.FormatInt(x.ID, 10) })
	c.JSON(http.StatusOK, gen.NoticePage{Items: each(list, func(x notify.Notice) gen.Notice { return apiNotice(x, names[x.DeviceID]) }), Next: link(c, next)})
}

// ListDeliveries implements listDeliveries.
func (s *server) ListDeliveries(c *gin.Context, params gen.ListDeliveriesParams) {
	before, n, ok := numbered(c, params.Cursor, params.Limit)
	if !ok {
		return
	}
	list, err := s.Notify.Deliveries(c, string(value(params.State)), before, n+1)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, next := upTo(list, n, func(x *notify.Delivery) string { return strconv.FormatInt(x.ID, 10) })
	c.JSON(http.StatusOK, gen.DeliveryPage{Items: each(list, func(d notify.Delivery) gen.Delivery {
		return gen.Delivery{Id: d.ID, Subscription: d.Subscription, Channel: d.Channel, Notices: len(d.Notices), Digest: d.Digest, Made: d.Made, Due: d.Due, Tries: d.Tries, State: gen.DeliveryState(d.State), Trouble: some(d.Trouble), Done: moment(d.Done)}
	}), Next: link(c, next)})
}

// RetryDelivery implements retryDelivery.
func (s *server) RetryDelivery(c *gin.Context, id gen.ID) {
	s.done(c, s.Notify.Retry(c, id, caller(c).Name))
}

// ListReports implements listReports.
func (s *server) ListReports(c *gin.Context) {
	list, err := s.Notify.Reports(c)
	answer(s, c, http.StatusOK, each(list, func(r notify.Report) gen.Report {
		return gen.Report{Name: r.Name, Expression: r.Expression, Zone: r.Zone, Hours: int(r.Span / time.Hour), Selector: r.Selector, Form: r.Form, Channel: r.Channel, Account: r.Account, At: r.At}
	}), err)
}

// SetReport implements setReport.
func (s *server) SetReport(c *gin.Context, name gen.Name) {
	in, ok := body[gen.ReportEdit](s, c)
	if !ok {
		return
	}
	zone := value(in.Zone)
	if zone == "" {
		zone = "UTC"
	}
	s.done(c, s.Notify.SetReport(c, notify.Report{Name: name, Expression: in.Expression, Zone: zone, Span: time.Duration(in.Hours) * time.Hour, Selector: value(in.Selector), Form: string(in.Form), Channel: in.Channel, Account: caller(c).Name}))
}

// DeleteReport implements deleteReport.
func (s *server) DeleteReport(c *gin.Context, name gen.Name) {
	s.done(c, s.Notify.DeleteReport(c, name, caller(c).Name))
}

// ReportChanges implements reportChanges.
func (s *server) ReportChanges(c *gin.Context, p gen.ReportChangesParams) {
	who, ok := s.reader(c, p.Zone)
	if !ok {
		return
	}
	f := filter(gen.ListChangesParams{Selector: p.Selector, Account: p.Account, Section: p.Section, Place: p.Place, Verdict: p.Verdict, Severity: p.Severity, Lines: p.Lines, Taken: p.Taken})
	f.Oldest = true
	from := value(p.From)
	if from == "" {
		from = "7d"
	}
	if err := s.span(c, &f, &from, p.To, who.Location); err != nil {
		s.fail(c, err)
		return
	}
	list, total, err := s.Changes.List(c, f)
	if err != nil {
		s.fail(c, err)
		return
	}
	form := string(value(p.Form))
	if form == "" {
		form = "html"
	}
	if form == "json" {
		c.JSON(http.StatusOK, gen.ChangePage{Items: each(list, apiChange), Total: total})
		return
	}
	r := s.Changes.Report(c, list, who.Location, who.Account)
	said := "Since " + f.From.In(who.Location).Format("2006-01-02 15:04 MST")
	if !f.To.IsZero() {
		said += " until " + f.To.In(who.Location).Format("2006-01-02 15:04 MST")
	}
	if f.Selector != "" {
		said += ", on " + f.Selector
	}
	r.About = append(r.About, said+".")
	if total > len(list) {
		r.About = append(r.About, "Only the first "+strconv.Itoa(len(list))+" of "+strconv.Itoa(total)+" are told.")
	}
	data, err := notify.Document(r, form)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", `attachment; filename="changes.`+form+`"`)
	c.Data(http.StatusOK, notify.Media[form], data)
}
