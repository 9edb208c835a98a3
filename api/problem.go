package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/core/derive"
	"vergekeep/core/find"
	"vergekeep/core/form"
	"vergekeep/core/pattern"
	"vergekeep/core/reason"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/core/window"
	"vergekeep/service/accounts"
	"vergekeep/service/audits"
	"vergekeep/service/changes"
	"vergekeep/service/copies"
	"vergekeep/service/fleet"
	"vergekeep/service/imports"
	"vergekeep/service/keeping"
	"vergekeep/service/notes"
	"vergekeep/service/notify"
	"vergekeep/service/post"
	"vergekeep/service/rounds"
	"vergekeep/service/search"
	"vergekeep/service/signals"
	"vergekeep/service/texts"
	"vergekeep/service/vault"
	"vergekeep/store"
	"vergekeep/wire/mail"
	"vergekeep/wire/outlet"
)

// problem answers with problem details (RFC 9457) and ends the request.
func problem(c *gin.Context, status int, title, detail string) {
	p := gen.Problem{Title: title, Status: status}
	if detail != "" {
		p.Detail = &detail
	}
	body, err := json.Marshal(p)
	if err != nil {
		body = []byte(`{"title":"error"}`)
	}
	c.Abort()
	c.Data(status, "application/problem+json", body)
}

// statuses says which status stands for which error.
var statuses = []struct {
	err    error
	status int
	title  string
}{
	{ref.ErrSyntax, http.StatusBadRequest, "This is not a ref."},
	{selector.ErrSyntax, http.StatusBadRequest, "This is not a selector."},
	{fleet.ErrInvalid, http.StatusBadRequest, "This is not a device record."},
	{vault.ErrInvalid, http.StatusBadRequest, "This is not a credential."},
	{accounts.ErrInvalid, http.StatusBadRequest, "This is not an account."},
	{rounds.ErrSchedule, http.StatusBadRequest, "This is not a schedule."},
	{fleet.ErrImport, http.StatusBadRequest, "This is not a list of devices."},
	{fleet.ErrNone, http.StatusNotFound, "There is none of that name."},
	{fleet.ErrGroup, http.StatusBadRequest, "This is not a group."},
	{fleet.ErrSite, http.StatusBadRequest, "This does not describe a site."},
	{fleet.ErrJump, http.StatusBadRequest, "This is not a jump host."},
	{fleet.ErrNoKey, http.StatusUnprocessableEntity, "There is no host key to accept."},
	{imports.ErrInvalid, http.StatusBadRequest, "This is not an import."},
	{imports.ErrUnknown, http.StatusNotFound, "There is no such import."},
	{imports.ErrFetch, http.StatusBadGateway, "The list could not be fetched."},
	{copies.ErrInvalid, http.StatusBadRequest, "It cannot be copied like this."},
	{copies.ErrUnknown, http.StatusNotFound, "There is no such copy."},
	{copies.ErrPlace, http.StatusBadGateway, "The copy could not be brought up to date."},
	{post.ErrNone, http.StatusNotFound, "No mail server is set."},
	{mail.ErrServer, http.StatusBadRequest, "This is not a mail server."},
	{mail.ErrAddress, http.StatusBadRequest, "This is not a mail address."},
	{mail.ErrSend, http.StatusBadGateway, "The mail could not be handed over."},
	{changes.ErrUnknown, http.StatusNotFound, "There is no such change."},
	{changes.ErrVerdict, http.StatusUnprocessableEntity, "It cannot be judged like this."},
	{changes.ErrNone, http.StatusNotFound, "There is none of that name."},
	{changes.ErrFilter, http.StatusBadRequest, "Changes cannot be looked for like this."},
	{audits.ErrUnknown, http.StatusNotFound, "There is none of that name."},
	{audits.ErrFinding, http.StatusNotFound, "There is no such finding."},
	{audits.ErrWaiver, http.StatusUnprocessableEntity, "It cannot be waived like this."},
	{audits.ErrDocument, http.StatusBadRequest, "It cannot be kept like this."},
	{audits.ErrSource, http.StatusBadRequest, "Documents cannot be read from there."},
	{audits.ErrSecrets, http.StatusForbidden, "This takes another right."},
	{derive.ErrDerive, http.StatusUnprocessableEntity, "Nothing can be derived."},
	{window.ErrWindow, http.StatusBadRequest, "This is no window."},
	{signals.ErrQuestion, http.StatusBadRequest, "It cannot be asked like this."},
	{notify.ErrChannel, http.StatusBadRequest, "Word cannot go there."},
	{notify.ErrSubscription, http.StatusBadRequest, "It cannot be subscribed to like this."},
	{notify.ErrReport, http.StatusBadRequest, "It cannot be reported like this."},
	{notify.ErrUnknown, http.StatusNotFound, "There is none of that name."},
	{notify.ErrInUse, http.StatusConflict, "Something still uses it."},
	{outlet.ErrTarget, http.StatusBadRequest, "Nothing can be sent there."},
	{outlet.ErrSend, http.StatusBadGateway, "It was not taken."},
	{signals.ErrSender, http.StatusBadRequest, "Messages cannot be told apart like this."},
	{signals.ErrUnknown, http.StatusNotFound, "There is no such sender."},
	{rounds.ErrAddresses, http.StatusBadRequest, "These are no addresses."},
	{rounds.ErrUnknownSchedule, http.StatusNotFound, "There is no such schedule."},
	{rounds.ErrScheduleThere, http.StatusConflict, "A schedule of that name exists."},
	{vault.ErrUnknown, http.StatusNotFound, "There is no such credential."},
	{vault.ErrPassphrase, http.StatusBadRequest, "This passphrase is too short."},
	{texts.ErrNotHere, http.StatusBadRequest, "The service cannot read this."},
	{fleet.ErrNobody, http.StatusUnprocessableEntity, "The selector matches no device."},
	{fleet.ErrUnknown, http.StatusNotFound, "There is no such device."},
	{archive.ErrNone, http.StatusNotFound, "There is no such configuration."},
	{rounds.ErrUnknown, http.StatusNotFound, "There is no such round."},
	{accounts.ErrUnknown, http.StatusNotFound, "There is no such account or token."},
	{fleet.ErrDuplicate, http.StatusConflict, "A device of that name exists."},
	{vault.ErrDuplicate, http.StatusConflict, "A credential of that name exists."},
	{accounts.ErrDuplicate, http.StatusConflict, "An account of that name exists."},
	{accounts.ErrLast, http.StatusConflict, "This is the last administrator."},
	{fleet.ErrEdited, http.StatusPreconditionFailed, "Somebody else has edited this record."},
	{accounts.ErrDenied, http.StatusUnauthorized, "The sign-in was refused."},
	{pattern.ErrSyntax, http.StatusBadRequest, "This is not a section pattern."},
	{find.ErrQuery, http.StatusBadRequest, "It cannot be searched for."},
	{search.ErrQuestion, http.StatusBadRequest, "It cannot be searched for like this."},
	{fleet.ErrVolatile, http.StatusBadRequest, "It cannot be set aside."},
	{keeping.ErrText, http.StatusUnprocessableEntity, "It cannot be taken in."},
	{archive.ErrPolicy, http.StatusBadRequest, "It cannot be kept like this."},
	{keeping.ErrHold, http.StatusBadRequest, "It cannot be held like this."},
	{keeping.ErrNone, http.StatusNotFound, "There is no such hold."},
	{store.ErrDamaged, http.StatusInternalServerError, "The database is damaged."},
	{notes.ErrNone, http.StatusNotFound, "There is none of that name."},
	{notes.ErrNote, http.StatusBadRequest, "It cannot be noted like this."},
	{texts.ErrTime, http.StatusBadRequest, "This is not a time."},
	{texts.ErrComparison, http.StatusBadRequest, "It cannot be compared like this."},
	{archive.ErrThinned, http.StatusGone, "The text is no longer kept."},
	{texts.ErrNeutral, http.StatusBadRequest, "This platform does not know that name."},
	{texts.ErrMask, http.StatusForbidden, "Secrets cannot be hidden here."},
	{texts.ErrLive, http.StatusBadGateway, "The device could not be captured now."},
	{rounds.ErrStopping, http.StatusServiceUnavailable, "The service is stopping."},
	{store.ErrFull, http.StatusInsufficientStorage, "The service's disk is full."},
	{store.ErrClosed, http.StatusServiceUnavailable, "The service is stopping."},
	{archive.ErrCorrupt, http.StatusInternalServerError, "The archive is damaged."},
}

// fail answers with the problem that err is.
func (s *server) fail(c *gin.Context, err error) {
	var throttled *accounts.ThrottledError
	if errors.As(err, &throttled) {
		c.Header("Retry-After", strconv.Itoa(int(throttled.Wait.Seconds())+1))
		problem(c, http.StatusTooManyRequests, "Too many wrong passwords.", throttled.Error())
		return
	}
	if errors.Is(err, context.Canceled) {
		c.Abort()
		return
	}
	var failed *reason.Error
	if errors.As(err, &failed) {
		problem(c, http.StatusBadGateway, "The device could not be reached or logged in to.", failed.What+" "+failed.Code.Advice())
		return
	}
	var wrong *form.Error
	if errors.As(err, &wrong) {
		problem(c, http.StatusUnprocessableEntity, "The file is faulty.", wrong.Error())
		return
	}
	for _, k := range statuses {
		if errors.Is(err, k.err) {
			problem(c, k.status, k.title, err.Error())
			return
		}
	}
	s.Log.Error("a request failed", "path", c.Request.URL.Path, "error", err)
	problem(c, http.StatusInternalServerError, "The service could not do this.", "The reason is in the service's log.")
}
