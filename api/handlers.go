package api

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/core/diff"
	"vergekeep/core/selector"
	"vergekeep/service/accounts"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/service/texts"
	"vergekeep/service/vault"

	"vergekeep/archive"
)

// body decodes a request body that the contract has already accepted.
func body[T any](s *server, c *gin.Context) (T, bool) {
	var v T
	if err := c.ShouldBindJSON(&v); err != nil {
		problem(c, http.StatusBadRequest, "The body cannot be read.", err.Error())
		return v, false
	}
	return v, true
}

func value[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

// SignIn implements signIn.
func (s *server) SignIn(c *gin.Context) {
	in, ok := body[gen.SignIn](s, c)
	if !ok {
		return
	}
	acc, secret, err := s.Accounts.SignIn(c, in.Account, in.Password, source(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, secret, 12*60*60)
	c.JSON(http.StatusOK, s.session(acc))
}

func (s *server) setCookie(c *gin.Context, secret string, maxAge int) {
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: secret, Path: "/", MaxAge: maxAge, HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode})
}

func (s *server) session(a accounts.Account) gen.Session {
	return gen.Session{Account: a.Name, Rights: apiRights(a.Rights), MustChangePassword: a.OneTime, Version: s.Version}
}

// GetSession implements getSession.
func (s *server) GetSession(c *gin.Context) { c.JSON(http.StatusOK, s.session(caller(c))) }

// SignOut implements signOut.
func (s *server) SignOut(c *gin.Context) {
	if secret, err := c.Cookie(cookieName); err == nil {
		if err := s.Accounts.SignOut(c, secret); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

// SetPassword implements setPassword.
func (s *server) SetPassword(c *gin.Context) {
	in, ok := body[gen.PasswordChange](s, c)
	if !ok {
		return
	}
	if err := s.Accounts.SetPassword(c, caller(c).ID, source(c), in.Old, in.New); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// ListAccounts implements listAccounts.
func (s *server) ListAccounts(c *gin.Context) {
	list, err := s.Accounts.List(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, each(list, apiAccount))
}

func each[A, B any](list []A, f func(A) B) []B {
	out := make([]B, len(list))
	for i, v := range list {
		out[i] = f(v)
	}
	return out
}

// AddAccount implements addAccount.
func (s *server) AddAccount(c *gin.Context) {
	in, ok := body[gen.NewAccount](s, c)
	if !ok {
		return
	}
	rights, err := accounts.ParseRights(each(in.Rights, func(r gen.Right) string { return string(r) }))
	if err != nil {
		s.fail(c, err)
		return
	}
	acc, err := s.Accounts.Add(c, in.Name, in.Password, rights, false, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, apiAccount(acc))
}

// EditAccount implements editAccount.
func (s *server) EditAccount(c *gin.Context, name gen.Name) {
	in, ok := body[gen.AccountEdit](s, c)
	if !ok {
		return
	}
	acc, err := s.Accounts.SetState(c, name, string(in.State), caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiAccount(acc))
}

// ListTokens implements listTokens.
func (s *server) ListTokens(c *gin.Context) {
	id := caller(c).ID
	if caller(c).May(accounts.Administer) {
		id = 0
	}
	list, err := s.Accounts.Tokens(c, id)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, each(list, apiToken))
}

// AddToken implements addToken.
func (s *server) AddToken(c *gin.Context) {
	in, ok := body[gen.NewToken](s, c)
	if !ok {
		return
	}
	t, secret, err := s.Accounts.NewToken(c, caller(c), in.Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, gen.TokenSecret{Token: apiToken(t), Secret: secret})
}

// RevokeToken implements revokeToken.
func (s *server) RevokeToken(c *gin.Context, id gen.ID) {
	if err := s.Accounts.Revoke(c, caller(c), id); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// A cursor is what the last item of a page sorts by, in base64 so that nobody
// builds one by hand.
func cursor(v string) string { return base64.RawURLEncoding.EncodeToString([]byte(v)) }

func readCursor(p *string) (string, error) {
	if p == nil {
		return "", nil
	}
	b, err := base64.RawURLEncoding.DecodeString(*p)
	return string(b), err
}

func badCursor(c *gin.Context) {
	problem(c, http.StatusBadRequest, "This cursor is not one of ours.", "Take it from the Link header of the page before.")
}

// link tells where the next page is (RFC 8288).
func link(c *gin.Context, next string) *string {
	if next == "" {
		return nil
	}
	q := c.Request.URL.Query()
	q.Set("cursor", next)
	u := url.URL{Path: c.Request.URL.Path, RawQuery: q.Encode()}
	c.Header("Link", fmt.Sprintf("<%s>; rel=\"next\"", u.String()))
	return &next
}

func limit(p *int) int {
	if p == nil {
		return 200
	}
	return *p
}

// ListDevices implements listDevices.
func (s *server) ListDevices(c *gin.Context, params gen.ListDevicesParams) {
	sel, err := selector.Parse(value(params.Selector))
	if err != nil {
		s.fail(c, err)
		return
	}
	after, err := readCursor(params.Cursor)
	if err != nil {
		badCursor(c)
		return
	}
	list, err := s.Fleet.List(c, sel)
	if err != nil {
		s.fail(c, err)
		return
	}
	total := len(list)
	if after != "" {
		key := strings.ToLower(after)
		at := sort.Search(len(list), func(i int) bool { return strings.ToLower(list[i].Name) > key })
		list = list[at:]
	}
	next := ""
	if n := limit(params.Limit); len(list) > n {
		list = list[:n]
		next = cursor(list[n-1].Name)
	}
	c.JSON(http.StatusOK, gen.DevicePage{Items: each(list, apiDevice), Total: total, Next: link(c, next)})
}

// AddDevice implements addDevice.
func (s *server) AddDevice(c *gin.Context) {
	in, ok := body[gen.NewDevice](s, c)
	if !ok {
		return
	}
	d := fleet.Device{Name: in.Name, Platform: in.Platform, Address: in.Address, Site: value(in.Site), Role: value(in.Role), Labels: value(in.Labels)}
	d.Nameplate.Serial = value(in.Serial)
	d, err := s.Fleet.Add(c, d, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, apiDevice(d))
}

func etag(d fleet.Device) string { return fmt.Sprintf(`"%d-%d"`, d.ID, d.Edition) }

// GetDevice implements getDevice.
func (s *server) GetDevice(c *gin.Context, name gen.Name) {
	d, err := s.Fleet.Get(c, name)
	if err != nil {
		s.fail(c, err)
		return
	}
	newest, err := s.Archive.Newest(c, d.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := gen.DeviceDetail{Device: apiDevice(d), Configurations: apiRevisions(d.Name, newest)}
	if out.Unsaved, err = s.unsaved(c, d, newest); err != nil {
		s.fail(c, err)
		return
	}
	c.Header("ETag", etag(d))
	c.JSON(http.StatusOK, out)
}

// unsaved counts what would be lost at a restart: running against startup.
func (s *server) unsaved(c *gin.Context, d fleet.Device, newest []archive.Revision) (*gen.Stats, error) {
	for _, r := range newest {
		if r.Datastore != "startup" {
			continue
		}
		cmp, err := s.Texts.Compare(c, `"`+d.Name+`":startup`, `"`+d.Name+`"`, texts.Caller{Location: time.UTC, SeeSecrets: true})
		if err != nil {
			return nil, err
		}
		stats := apiStats(cmp.Result.Stats)
		return &stats, nil
	}
	return nil, nil
}

// EditDevice implements editDevice.
func (s *server) EditDevice(c *gin.Context, name gen.Name, params gen.EditDeviceParams) {
	in, ok := body[gen.DeviceEdit](s, c)
	if !ok {
		return
	}
	edition := int64(0)
	if match := value(params.IfMatch); match != "" && match != "*" {
		if _, err := fmt.Sscanf(match, `"%d-%d"`, new(int64), &edition); err != nil {
			problem(c, http.StatusPreconditionFailed, "Somebody else has edited this record.", "If-Match holds no ETag of this record.")
			return
		}
	}
	d, err := s.Fleet.Edit(c, name, edition, fleet.Change{
		Site: in.Site, Role: in.Role, Address: in.Address, Labels: in.Labels, State: (*string)(in.State), Trust: value(in.Trust),
	}, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("ETag", etag(d))
	c.JSON(http.StatusOK, apiDevice(d))
}

// ListRevisions implements listRevisions.
func (s *server) ListRevisions(c *gin.Context, name gen.Name, params gen.ListRevisionsParams) {
	d, err := s.Fleet.Get(c, name)
	if err != nil {
		s.fail(c, err)
		return
	}
	store := "running"
	if params.Datastore != nil {
		store = string(*params.Datastore)
	}
	list, err := s.Archive.List(c, archive.Key{Device: d.ID, Datastore: store, Part: value(params.Part)})
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiRevisions(d.Name, list))
}

func apiCredential(v vault.Credential) gen.Credential {
	return gen.Credential{Name: v.Name, Selector: v.Selector, Username: v.Username, HasElevation: v.Elevation != "", Created: v.Created}
}

// ListCredentials implements listCredentials.
func (s *server) ListCredentials(c *gin.Context) {
	list, err := s.Vault.List(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, each(list, apiCredential))
}

// AddCredential implements addCredential.
func (s *server) AddCredential(c *gin.Context) {
	in, ok := body[gen.NewCredential](s, c)
	if !ok {
		return
	}
	v, err := s.Vault.Add(c, vault.Credential{Name: in.Name, Selector: value(in.Selector), Username: in.Username, Password: in.Password, Elevation: value(in.Elevation)}, caller(c).Name, time.Now())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, apiCredential(v))
}

// ListRounds implements listRounds.
func (s *server) ListRounds(c *gin.Context, params gen.ListRoundsParams) {
	before, n, ok := numbered(c, params.Cursor, params.Limit)
	if !ok {
		return
	}
	list, err := s.Rounds.List(c, before, n+1)
	if err != nil {
		s.fail(c, err)
		return
	}
	next := ""
	if len(list) > n {
		list = list[:n]
		next = cursor(strconv.FormatInt(list[n-1].ID, 10))
	}
	c.JSON(http.StatusOK, gen.RoundPage{Items: each(list, apiRound), Next: link(c, next)})
}

// numbered reads cursor and limit of a list that sorts by a falling number.
func numbered(c *gin.Context, cur *string, lim *int) (before int64, n int, ok bool) {
	text, err := readCursor(cur)
	if err == nil && text != "" {
		before, err = strconv.ParseInt(text, 10, 64)
	}
	if err != nil {
		badCursor(c)
		return 0, 0, false
	}
	return before, limit(lim), true
}

// StartRound implements startRound.
func (s *server) StartRound(c *gin.Context) {
	in, ok := body[gen.NewRound](s, c)
	if !ok {
		return
	}
	r, err := s.Rounds.Start(c, in.Selector, "demand", caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, apiRound(r))
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

// GetVisitSession implements getVisitSession.
func (s *server) GetVisitSession(c *gin.Context, id gen.ID, params gen.GetVisitSessionParams) {
	d, err := s.Fleet.Get(c, params.Device)
	if err != nil {
		s.fail(c, err)
		return
	}
	text, err := s.Rounds.Session(c, id, d.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.String(http.StatusOK, "%s", text)
}

// GetSchedule implements getSchedule.
func (s *server) GetSchedule(c *gin.Context) {
	sc, err := s.Rounds.Schedule(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiSchedule(sc))
}

// SetSchedule implements setSchedule.
func (s *server) SetSchedule(c *gin.Context) {
	in, ok := body[gen.NewSchedule](s, c)
	if !ok {
		return
	}
	sc, err := s.Rounds.SetSchedule(c, rounds.Schedule{Expression: in.Expression, Zone: value(in.Zone), Selector: value(in.Selector)}, caller(c).Name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiSchedule(sc))
}

// reader says on whose behalf a configuration is read.
func (s *server) reader(c *gin.Context, zone *string) (texts.Caller, bool) {
	a := caller(c)
	loc, err := time.LoadLocation(value(zone))
	if err != nil {
		problem(c, http.StatusBadRequest, "There is no such time zone.", "Write for example Europe/Oslo.")
		return texts.Caller{}, false
	}
	return texts.Caller{Account: a.Name, SeeSecrets: a.May(accounts.SeeSecrets), Operate: a.May(accounts.Operate), Location: loc}, true
}

// GetConfiguration implements getConfiguration.
func (s *server) GetConfiguration(c *gin.Context, params gen.GetConfigurationParams) {
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	t, err := s.Texts.Get(c, params.Ref, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gen.Configuration{
		Device: t.Device.Name, Revision: apiRevision(t.Device.Name, t.Revision), Masked: t.Masked, Text: t.Shown, Sections: apiSections(t.Tree),
	})
}

// Compare implements compare.
func (s *server) Compare(c *gin.Context, params gen.CompareParams) {
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	around := 3
	if params.Context != nil {
		around = *params.Context
	}
	cmp, err := s.Texts.Compare(c, params.Left, params.Right, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	rows := cmp.Rows(around)
	plain := make([]diff.Row, len(rows))
	for i, r := range rows {
		plain[i] = r.Row
	}
	unified, hidden := cmp.Unified(max(around, 0))
	c.JSON(http.StatusOK, gen.Comparison{
		Left: apiSide(cmp.Left), Right: apiSide(cmp.Right), Identical: cmp.Result.Identical(), Stats: apiStats(cmp.Result.Stats),
		Sections: each(diff.Sections(plain), func(x diff.SectionStats) gen.SectionStats {
			if x.Path == nil {
				x.Path = []string{}
			}
			return gen.SectionStats{Path: x.Path, Stats: apiStats(x.Stats)}
		}),
		Rows: each(rows, apiRow), Unified: unified, HiddenSecrets: hidden,
	})
}

// ListJournal implements listJournal.
func (s *server) ListJournal(c *gin.Context, params gen.ListJournalParams) {
	before, n, ok := numbered(c, params.Cursor, params.Limit)
	if !ok {
		return
	}
	list, err := journal.List(c, s.DB, before, n+1)
	if err != nil {
		s.fail(c, err)
		return
	}
	next := ""
	if len(list) > n {
		list = list[:n]
		next = cursor(strconv.FormatInt(list[n-1].ID, 10))
	}
	c.JSON(http.StatusOK, gen.JournalPage{Items: each(list, func(e journal.Entry) gen.JournalEntry {
		return gen.JournalEntry{Id: e.ID, At: e.At, Account: e.Account, Action: e.Action, Object: e.Object, Detail: e.Detail}
	}), Next: link(c, next)})
}

// ListDialects implements listDialects.
func (s *server) ListDialects(c *gin.Context) {
	c.JSON(http.StatusOK, each(s.Dialects.Names(), func(name string) gen.Dialect {
		d := s.Dialects[name]
		return gen.Dialect{Name: d.Name, Title: d.Title, Maker: d.Maker, Channel: string(d.Reach.Channel), Reader: string(d.Syntax.Reader), Source: d.Source, Version: d.Version}
	}))
}

// CheckArchive implements checkArchive.
func (s *server) CheckArchive(c *gin.Context) {
	report, err := s.Archive.Check(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	_, contents, stored, err := s.Archive.Size(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	if bad, err := journal.Check(c, s.DB); err != nil {
		s.fail(c, err)
		return
	} else if bad > 0 {
		report.Faults = append(report.Faults, fmt.Sprintf("journal: entry %d, or one before it, was altered or removed", bad))
	}
	if report.Faults == nil {
		report.Faults = []string{}
	}
	c.JSON(http.StatusOK, gen.ArchiveReport{Revisions: report.Revisions, Contents: report.Contents, Bytes: contents, Stored: stored, Faults: report.Faults})
}
