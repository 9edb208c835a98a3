package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
)

func apiCredential(v vault.Credential) gen.Credential {
	out := gen.Credential{
		Name: v.Name, Selector: v.Selector, Rank: v.Rank, Username: v.Username, Kind: gen.CredentialKindPassword, Source: some(v.Sources()), HasElevation: v.Elevation != "",
		PerMinute: v.PerMinute, CommandsPerMinute: v.CommandsPerMinute, Proven: moment(v.Proven), Created: v.Created, Changed: v.Changed,
	}
	switch {
	case v.Token != "":
		out.Kind = gen.CredentialKindToken
	case v.Key != "":
		out.Kind = gen.CredentialKindKey
	case v.Community != "":
		out.Kind = gen.CredentialKindCommunity
	case v.Authentication != "":
		out.Kind = gen.CredentialKindSNMPUser
	}
	if v.RestsUntil.After(time.Now()) {
		out.RestsUntil = moment(v.RestsUntil)
	}
	return out
}

// ListCredentials implements listCredentials.
func (s *server) ListCredentials(c *gin.Context) {
	list, err := s.Vault.List(c)
	answer(s, c, http.StatusOK, each(list, apiCredential), err)
}

// AddCredential implements addCredential.
func (s *server) AddCredential(c *gin.Context) {
	in, ok := body[gen.NewCredential](s, c)
	if !ok {
		return
	}
	v, err := s.Vault.Add(c, vault.Credential{
		Name: in.Name, Selector: value(in.Selector), Rank: value(in.Rank), Username: value(in.Username), PerMinute: value(in.PerMinute), CommandsPerMinute: value(in.CommandsPerMinute),
		Secrets: vault.Secrets{Password: value(in.Password), Elevation: value(in.Elevation), Key: value(in.Key), Passphrase: value(in.Passphrase), Token: value(in.Token),
			Community: value(in.Community), Authentication: value(in.Authentication), Privacy: value(in.Privacy)},
	}, caller(c).Name, time.Now())
	answer(s, c, http.StatusCreated, apiCredential(v), err)
}

// ChangeCredential implements changeCredential.
func (s *server) ChangeCredential(c *gin.Context, name gen.Name) {
	in, ok := body[gen.CredentialEdit](s, c)
	if !ok {
		return
	}
	v, err := s.Vault.Change(c, name, vault.Change{
		Selector: in.Selector, Rank: in.Rank, Username: in.Username, Password: in.Password, Elevation: in.Elevation,
		Key: in.Key, Passphrase: in.Passphrase, Token: in.Token, PerMinute: in.PerMinute, CommandsPerMinute: in.CommandsPerMinute,
		Community: in.Community, Authentication: in.Authentication, Privacy: in.Privacy,
	}, caller(c).Name, time.Now())
	answer(s, c, http.StatusOK, apiCredential(v), err)
}

// DeleteCredential implements deleteCredential.
func (s *server) DeleteCredential(c *gin.Context, name gen.Name) {
	s.done(c, s.Vault.Delete(c, name, caller(c).Name, time.Now()))
}

// WakeCredential implements wakeCredential.
func (s *server) WakeCredential(c *gin.Context, name gen.Name) {
	v, err := s.Vault.Wake(c, name, caller(c).Name, time.Now())
	answer(s, c, http.StatusOK, apiCredential(v), err)
}

// ListCredentialUse implements listCredentialUse.
func (s *server) ListCredentialUse(c *gin.Context, name gen.Name) {
	list, err := s.Rounds.CredentialUse(c, name)
	answer(s, c, http.StatusOK, each(list, func(u rounds.Use) gen.CredentialUse {
		return gen.CredentialUse{Device: u.Device, Took: gen.CredentialUseTook(u.Took), At: moment(u.At)}
	}), err)
}

// ChangeVaultKey implements changeVaultKey.
func (s *server) ChangeVaultKey(c *gin.Context) {
	in, ok := body[gen.NewVaultKey](s, c)
	if !ok {
		return
	}
	s.done(c, s.Vault.ChangeKey(c, value(in.Passphrase), caller(c).Name, time.Now()))
}

// StartRound implements startRound.
func (s *server) StartRound(c *gin.Context) {
	in, ok := body[gen.NewRound](s, c)
	if !ok {
		return
	}
	plan := rounds.Plan{Selector: in.Selector, Origin: "demand", Account: caller(c).Name, Tries: value(in.Tries), Record: value(in.Record)}
	if once := in.Credential; once != nil {
		plan.Once = &vault.Credential{Name: "given for this round", Username: once.Username, Secrets: vault.Secrets{Password: once.Password, Elevation: value(once.Elevation)}}
	}
	r, err := s.Rounds.StartPlan(c, plan)
	answer(s, c, http.StatusCreated, apiRound(r), err)
}

// GetRound implements getRound.
func (s *server) GetRound(c *gin.Context, id gen.ID) {
	r, err := s.Rounds.Get(c, id)
	if err != nil {
		s.fail(c, err)
		return
	}
	visits, err := s.Rounds.Visits(c, id)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gen.RoundDetail{Round: apiRound(r), Visits: each(visits, apiVisit)})
}

// CancelRound implements cancelRound.
func (s *server) CancelRound(c *gin.Context, id gen.ID) {
	r, err := s.Rounds.Cancel(c, id, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiRound(r))
}

// GetVisit implements getVisit.
func (s *server) GetVisit(c *gin.Context, id gen.ID, params gen.GetVisitParams) {
	d, ok := s.device(c, params.Device)
	if !ok {
		return
	}
	st, err := s.Rounds.Story(c, id, d.ID)
	answer(s, c, http.StatusOK, gen.VisitStory{
		Round: id, Visit: apiVisit(st.Visit), Steps: each(st.Steps, apiStep), LastLines: append([]string{}, st.LastLines...), Session: st.Session,
	}, err)
}

// ListVisits implements listVisits.
func (s *server) ListVisits(c *gin.Context, name gen.Name) {
	d, ok := s.device(c, name)
	if !ok {
		return
	}
	list, err := s.Rounds.DeviceVisits(c, d.ID, 10)
	answer(s, c, http.StatusOK, each(list, func(v rounds.RoundVisit) gen.RoundVisit {
		return gen.RoundVisit{Round: v.Round, Visit: apiVisit(v.Visit)}
	}), err)
}

func apiStep(st rounds.Step) gen.VisitStep {
	return gen.VisitStep{AfterMs: int(st.After.Milliseconds()), What: st.What}
}

// GetVisitSession implements getVisitSession.
func (s *server) GetVisitSession(c *gin.Context, id gen.ID, params gen.GetVisitSessionParams) {
	d, ok := s.device(c, params.Device)
	if !ok {
		return
	}
	text, err := s.Rounds.Session(c, id, d.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.String(http.StatusOK, "%s", text)
}

func (s *server) apiSchedule(sc rounds.Schedule) gen.Schedule {
	return gen.Schedule{
		Name: sc.Name, Description: sc.Description, Expression: sc.Expression, Zone: sc.Zone, Selector: sc.Selector, Paused: sc.Paused, SpreadMinutes: int(sc.Spread.Minutes()),
		Tries: sc.Tries, Missed: gen.ScheduleMissed(sc.Missed), ChangedBy: sc.ChangedBy, Changed: sc.Changed, Next: moment(sc.Next(time.Now())),
	}
}

// ListSchedules implements listSchedules.
func (s *server) ListSchedules(c *gin.Context) {
	list, err := s.Rounds.Schedules(c)
	answer(s, c, http.StatusOK, each(list, s.apiSchedule), err)
}

// AddSchedule implements addSchedule.
func (s *server) AddSchedule(c *gin.Context) {
	in, ok := body[gen.NewSchedule](s, c)
	if !ok {
		return
	}
	sc, err := s.Rounds.AddSchedule(c, rounds.Schedule{
		Name: in.Name, Description: value(in.Description), Expression: in.Expression, Zone: value(in.Zone), Selector: value(in.Selector), Paused: value(in.Paused),
		Spread: time.Duration(value(in.SpreadMinutes)) * time.Minute, Tries: value(in.Tries), Missed: rounds.Missed(value(in.Missed)),
	}, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, s.apiSchedule(sc))
}

// EditSchedule implements editSchedule.
func (s *server) EditSchedule(c *gin.Context, name gen.Name) {
	in, ok := body[gen.ScheduleEdit](s, c)
	if !ok {
		return
	}
	sc, err := s.Rounds.EditSchedule(c, name, func(sc *rounds.Schedule) {
		set(&sc.Name, in.Name)
		set(&sc.Description, in.Description)
		set(&sc.Expression, in.Expression)
		set(&sc.Zone, in.Zone)
		set(&sc.Selector, in.Selector)
		set(&sc.Paused, in.Paused)
		set(&sc.Tries, in.Tries)
		set((*string)(&sc.Missed), (*string)(in.Missed))
		if in.SpreadMinutes != nil {
			sc.Spread = time.Duration(*in.SpreadMinutes) * time.Minute
		}
	}, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, s.apiSchedule(sc))
}

// set changes what is given.
func set[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// DeleteSchedule implements deleteSchedule.
func (s *server) DeleteSchedule(c *gin.Context, name gen.Name) {
	s.done(c, s.Rounds.DeleteSchedule(c, name, caller(c).Name))
}

// ListComing implements listComing.
func (s *server) ListComing(c *gin.Context, params gen.ListComingParams) {
	count := 10
	set(&count, params.Count)
	list, err := s.Rounds.Coming(c, count)
	answer(s, c, http.StatusOK, each(list, func(r rounds.Coming) gen.Coming {
		return gen.Coming{Schedule: r.Schedule, At: r.At, Devices: r.Devices}
	}), err)
}
