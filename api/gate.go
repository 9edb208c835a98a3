package api

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"

	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gin-gonic/gin"

	"vergekeep/service/accounts"
)

const (
	cookieName = "verge-keep"
	callerKey  = "caller"
	noRight    = "none"
	signedIn   = "signed-in"
)

// sameOrigin refuses writes that a page of another site makes a browser send
// (the check of Sec-Fetch-Site and Origin in net/http).
func (s *server) sameOrigin(c *gin.Context) {
	if err := http.NewCrossOriginProtection().Check(c.Request); err != nil {
		problem(c, http.StatusForbidden, "This request comes from a page of another site.", err.Error())
	}
}

// authorise finds out who calls and asks for the right of the operation. It is
// the only place where rights are asked for.
func (s *server) authorise(c *gin.Context) {
	right := s.rights[c.Request.Method+" "+c.FullPath()]
	if right == noRight {
		return
	}
	var caller accounts.Account
	var err error
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		caller, err = s.Accounts.ByToken(c, token)
	} else if secret, cookieErr := c.Cookie(cookieName); cookieErr == nil {
		caller, err = s.Accounts.BySession(c, secret)
	} else {
		err = accounts.ErrDenied
	}
	switch {
	case errors.Is(err, accounts.ErrDenied):
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "Nobody is signed in.", "Nobody is signed in: the session or token is missing, ended or revoked.")
		return
	case err != nil:
		s.fail(c, err)
		return
	}
	if right != signedIn && !caller.May(accounts.Right(right)) {
		if caller.OneTime {
			problem(c, http.StatusForbidden, "The password must be changed.", "The one-time password must be changed first: sign in to the console, or run 'vergekeep login'.")
			return
		}
		problem(c, http.StatusForbidden, "This takes another right.", "The account "+caller.Name+" lacks the right "+right+"; an administrator can add an account that has it.")
		return
	}
	c.Set(callerKey, caller)
}

func caller(c *gin.Context) accounts.Account {
	a, _ := c.MustGet(callerKey).(accounts.Account)
	return a
}

// validate checks parameters and body against the contract.
func (s *server) validate(c *gin.Context) {
	key := c.Request.Method + " " + c.FullPath()
	op := s.ops[key]
	whole, limit := c.Request.Body, bodyLimit(c)
	if op.RequestBody != nil {
		c.Request.Body = http.MaxBytesReader(c.Writer, whole, limit)
		if kind := c.ContentType(); op.RequestBody.Value.Content[kind] == nil {
			problem(c, http.StatusUnsupportedMediaType, "The body must be JSON.", "Send it with Content-Type: application/json.")
			return
		}
	} else {
		c.Request.Body = io.NopCloser(strings.NewReader(""))
	}
	params := map[string]string{}
	for _, p := range c.Params {
		params[p.Key] = p.Value
	}
	err := openapi3filter.ValidateRequest(c, &openapi3filter.RequestValidationInput{
		Request: c.Request, PathParams: params,
		Route: &routers.Route{Spec: s.doc, Path: c.FullPath(), PathItem: s.items[key], Method: c.Request.Method, Operation: op},
		Options: &openapi3filter.Options{
			AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, // authorise has done it
		},
	})
	var tooLarge *http.MaxBytesError
	var request *openapi3filter.RequestError
	switch {
	case errors.As(err, &tooLarge):
		// Whoever is still sending would not hear the answer: twice as much again is
		// taken, and of what is larger still the connection is closed.
		_, _ = io.CopyN(io.Discard, whole, 2*limit)
		c.Header("Connection", "close")
		problem(c, http.StatusRequestEntityTooLarge, "The body is too large.", fmt.Sprintf("It may have at most %d MiB.", limit>>20))
	case errors.As(err, &request):
		detail := request.Reason
		if request.Err != nil {
			detail, _, _ = strings.Cut(request.Err.Error(), "\nSchema:")
		}
		if request.Parameter != nil {
			detail = "parameter " + request.Parameter.Name + ": " + detail
		}
		problem(c, http.StatusBadRequest, "The request does not fit the contract.", detail)
	case err != nil:
		problem(c, http.StatusBadRequest, "The request does not fit the contract.", err.Error())
	}
}

// source is where a request comes from, for the slow-down after wrong passwords.
func source(c *gin.Context) string {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return c.Request.RemoteAddr
	}
	return host
}
