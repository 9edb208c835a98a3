// Package api is the service's interface over HTTP: the contract in
// openapi.yaml, the code generated from it in gen, and the handlers. It decides
// nothing itself except who may call what, and that in one place: the right
// that the contract names for the operation.
package api

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/service/accounts"
	"vergekeep/service/audits"
	"vergekeep/service/changes"
	"vergekeep/service/copies"
	"vergekeep/service/events"
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
)

// Config is what the interface serves.
type Config struct {
	DB        *store.DB
	Archive   *archive.Archive
	Fleet     *fleet.Fleet
	Vault     *vault.Vault
	Rounds    *rounds.Service
	Imports   *imports.Service
	Copies    *copies.Service
	Post      *post.Service
	Texts     *texts.Texts
	Notes     *notes.Service
	Finder    *search.Service
	Keeping   *keeping.Service
	Changes   *changes.Service
	Signals   *signals.Service
	Notify    *notify.Service
	Audits    *audits.Service
	Listeners func() []string // where signals are taken
	Scratch   string          // a folder for files that do not stay
	Accounts  *accounts.Accounts
	Dialects  dialect.Set
	Bus       *events.Bus
	Log       *slog.Logger
	Metrics   http.Handler
	Console   fs.FS // the built console
	Version   string
	Secure    bool            // served over TLS
	Ready     func() error    // nil when ready
	Stopping  <-chan struct{} // closed when streams have to end
}

type server struct {
	Config
	rights map[string]string              // "GET /api/v1/devices" to the right
	ops    map[string]*openapi3.Operation // likewise
	items  map[string]*openapi3.PathItem
	doc    *openapi3.T
}

const base = "/api/v1"

// maxBody is how large a request body may be.
const maxBody = 1 << 20

// bodyLimit is more where a whole list of devices is sent, or a file: 64 MiB of
// it are some more in base64.
func bodyLimit(c *gin.Context) int64 {
	switch c.FullPath() {
	case base + "/devices/import":
		return 16 << 20
	case base + "/comparison", base + "/nearest", base + "/archive/revisions":
		return 90 << 20
	}
	return maxBody
}

// New makes the handler of everything that the service serves.
func New(c Config) (http.Handler, error) {
	// CloudEvents in their JSON format are JSON.
	openapi3filter.RegisterBodyDecoder("application/cloudevents+json", openapi3filter.RegisteredBodyDecoder("application/json"))
	s := &server{Config: c, rights: map[string]string{}, ops: map[string]*openapi3.Operation{}, items: map[string]*openapi3.PathItem{}}
	if err := s.readContract(); err != nil {
		return nil, err
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.UseRawPath = true
	r.Use(s.recover, s.logRequest, headers)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "alive\n") })
	r.GET("/readyz", s.ready)
	r.GET("/metrics", gin.WrapH(c.Metrics))
	group := r.Group(base, s.sameOrigin, s.authorise, s.validate)
	gen.RegisterHandlersWithOptions(group, s, gen.GinServerOptions{ErrorHandler: func(c *gin.Context, err error, status int) {
		problem(c, status, "The request does not fit the contract.", err.Error())
	}})
	r.NoRoute(s.console)
	r.NoMethod(func(c *gin.Context) {
		problem(c, http.StatusMethodNotAllowed, "This method is not for this address.", "")
	})
	for _, route := range r.Routes() {
		if strings.HasPrefix(route.Path, base) && s.rights[route.Method+" "+route.Path] == "" {
			return nil, fmt.Errorf("the contract names no right for %s %s", route.Method, route.Path)
		}
	}
	gz, err := gzhttp.NewWrapper(gzhttp.MinSize(1400), gzhttp.ContentTypes([]string{"application/json", "text/html", "text/css", "text/javascript", "text/plain", "image/svg+xml"}))
	if err != nil {
		return nil, err
	}
	return gz(r), nil
}

// readContract indexes the embedded contract by method and path.
func (s *server) readContract() error {
	doc, err := gen.GetSpec()
	if err != nil {
		return fmt.Errorf("reading the contract: %w", err)
	}
	s.doc = doc
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			key := method + " " + base + strings.NewReplacer("{", ":", "}", "").Replace(path)
			right, _ := op.Extensions["x-right"].(string)
			s.rights[key], s.ops[key], s.items[key] = right, op, item
		}
	}
	return nil
}

func (s *server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c, 2*time.Second)
	defer cancel()
	if err := errors.Join(s.Ready(), s.DB.Ping(ctx)); err != nil {
		c.String(http.StatusServiceUnavailable, "not ready: %v\n", err)
		return
	}
	c.String(http.StatusOK, "ready\n")
}

// headers are what every answer carries.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'")
	if strings.HasPrefix(c.Request.URL.Path, base) {
		h.Set("Cache-Control", "no-store")
	}
}

func (s *server) logRequest(c *gin.Context) {
	start := time.Now()
	c.Next()
	level := slog.LevelDebug
	if c.Writer.Status() >= 500 {
		level = slog.LevelError
	}
	// The query can hold names but no secrets; bodies are never logged.
	s.Log.LogAttrs(c, level, "request", slog.String("method", c.Request.Method), slog.String("path", c.Request.URL.Path),
		slog.Int("status", c.Writer.Status()), slog.Duration("took", time.Since(start)))
}

func (s *server) recover(c *gin.Context) {
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler { //nolint:errorlint // the sentinel itself
				panic(p)
			}
			s.Log.Error("a request failed badly", "path", c.Request.URL.Path, "panic", fmt.Sprint(p))
			problem(c, http.StatusInternalServerError, "The service made a mistake.", "It is in the service's log; nothing was changed.")
		}
	}()
	c.Next()
}

// console serves the built console; addresses that are no file are pages of it.
func (s *server) console(c *gin.Context) {
	path := strings.TrimPrefix(c.Request.URL.Path, "/")
	if strings.HasPrefix(c.Request.URL.Path, base) || strings.HasPrefix(c.Request.URL.Path, "/api") {
		problem(c, http.StatusNotFound, "There is nothing at this address.", "The contract is in api/openapi.yaml.")
		return
	}
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		problem(c, http.StatusMethodNotAllowed, "This method is not for this address.", "")
		return
	}
	if info, err := fs.Stat(s.Console, path); path != "" && err == nil && !info.IsDir() {
		if strings.HasPrefix(path, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		http.ServeFileFS(c.Writer, c.Request, s.Console, path)
		return
	}
	page, err := fs.ReadFile(s.Console, "index.html")
	if err != nil {
		c.String(http.StatusNotFound, "The console is not built into this program; build it with 'make build'.\n")
		return
	}
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}
