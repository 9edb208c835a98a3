package api

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/accounts"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/service/texts"
)

// body decodes a request body that the contract has already accepted.
func body[T any](s *server, c *gin.Context) (T, bool) {
	var v T
	dec := json.NewDecoder(c.Request.Body)
	err := dec.Decode(&v)
	if err == nil {
		if _, more := dec.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("something stands behind its end")
		}
	}
	if err != nil {
		problem(c, http.StatusBadRequest, "The body cannot be read.", err.Error())
	}
	return v, err == nil
}

// device is the record of that name; where there is none, the answer says so.
func (s *server) device(c *gin.Context, name string) (fleet.Device, bool) {
	d, err := s.Fleet.Get(c, name)
	if err != nil {
		s.fail(c, err)
	}
	return d, err == nil
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

// ListRevisions implements listRevisions.
func (s *server) ListRevisions(c *gin.Context, name gen.Name, params gen.ListRevisionsParams) {
	d, ok := s.device(c, name)
	if !ok {
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
	list, next := upTo(list, n, func(x *rounds.Round) string { return strconv.FormatInt(x.ID, 10) })
	c.JSON(http.StatusOK, gen.RoundPage{Items: each(list, apiRound), Next: link(c, next)})
}

// upTo is the first n of a list that was read with one more, and the cursor that goes on
// behind them; "" where there is no more.
func upTo[T any](list []T, n int, name func(*T) string) ([]T, string) {
	if len(list) <= n {
		return list, ""
	}
	return list[:n], cursor(name(&list[n-1]))
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
	if err == nil && params.Only != nil {
		err = s.Texts.Only(t, *params.Only)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	out := gen.Configuration{
		Device: t.Device.Name, Revision: apiRevision(t.Device.Name, t.Revision), Masked: t.Masked, Text: t.Shown, Sections: apiSections(t.Tree),
	}
	if !utf8.ValidString(t.Shown) { // JSON has no room for other bytes
		raw := []byte(t.Shown)
		out.Raw = &raw
	}
	c.JSON(http.StatusOK, out)
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
	list, next := upTo(list, n, func(x *journal.Entry) string { return strconv.FormatInt(x.ID, 10) })
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
		report.Faults = append(report.Faults, archive.Fault{What: fmt.Sprintf("journal: entry %d, or one before it, was altered or removed", bad)})
	}
	c.JSON(http.StatusOK, gen.ArchiveReport{Revisions: report.Revisions, Contents: report.Contents, Bytes: contents, Stored: stored, Faults: each(report.Faults, func(f archive.Fault) string {
		if f.Number == 0 {
			return f.What
		}
		name := fmt.Sprintf("device %d", f.Device)
		if d, err := s.Fleet.ByID(c, f.Device); err == nil {
			name = d.Name
		}
		return ref.Ref{Device: name, Datastore: f.Datastore, Part: f.Part, Point: ref.Point{Kind: ref.Number, Number: f.Number}}.String() + ": " + f.What
	})})
}

// names is the names of all devices, by id.
func (s *server) names(c *gin.Context) (map[int64]string, error) {
	return s.Fleet.Names(c, selector.Selector{})
}
