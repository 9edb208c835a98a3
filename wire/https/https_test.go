package https

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
)

func device(t *testing.T) (address string) {
	t.Helper()
	mux := http.NewServeMux()
	guarded := func(f http.HandlerFunc) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			user, password, _ := r.BasicAuth()
			if r.Header.Get("Authorization") != "Bearer good" && (user != "noc" || password != "correct") {
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			f(w, r)
		}
	}
	mux.HandleFunc("/.well-known/host-meta", guarded(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write([]byte(`<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="restconf" href="/rc/"/></XRD>`))
	}))
	mux.HandleFunc("/rc/data", guarded(func(w http.ResponseWriter, r *http.Request) {
		_, _ = w.Write([]byte(`{"accept":"` + r.Header.Get("Accept") + `"}`))
	}))
	mux.HandleFunc("/endless", func(w http.ResponseWriter, _ *http.Request) {
		for {
			if _, err := w.Write([]byte(strings.Repeat("x", 1000))); err != nil {
				return
			}
		}
	})
	mux.HandleFunc("/short", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		_, _ = w.Write([]byte("x"))
	})
	mux.HandleFunc("/status/", func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(map[string]int{"403": 403, "409": 409, "503": 503, "500": 500, "302": 302}[strings.TrimPrefix(r.URL.Path, "/status/")])
	})
	mux.HandleFunc("/slow", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	s := httptest.NewTLSServer(mux)
	t.Cleanup(s.Close)
	return strings.TrimPrefix(s.URL, "https://")
}

func open(t *testing.T, change func(*Target)) *Conn {
	t.Helper()
	target := Target{Addresses: []string{device(t)}, User: "noc", Password: "correct", Connect: time.Minute, Silence: time.Minute}
	if change != nil {
		change(&target)
	}
	c, err := Dial(t.Context(), target)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func TestRestconfRootIsFound(t *testing.T) {
	for _, change := range []func(*Target){nil, func(t *Target) { t.User, t.Token = "", "good" }} {
		c := open(t, change)
		got, err := c.Get(t.Context(), "${restconf}/data?content=config", "application/yang-data+json", 1000)
		require.NoError(t, err)
		assert.Equal(t, `{"accept":"application/yang-data+json"}`, string(got))
		assert.True(t, strings.HasPrefix(c.Pin, PinPrefix))
	}
}

func TestWhatGoesWrongHasAReason(t *testing.T) {
	wrong := func(t *Target) { t.Password = "wrong" }
	for name, c := range map[string]struct {
		path   string
		change func(*Target)
		want   reason.Code
	}{
		"wrong password":  {"${restconf}/data", wrong, reason.CredentialRefused},
		"forbidden":       {"/status/403", nil, reason.NotAllowed},
		"locked":          {"/status/409", nil, reason.LockedByAnother},
		"busy":            {"/status/503", nil, reason.TooManySessions},
		"error":           {"/status/500", nil, reason.DeviceError},
		"redirect":        {"/status/302", nil, reason.DeviceError},
		"endless":         {"/endless", nil, reason.Flood},
		"short":           {"/short", nil, reason.HungUp},
		"slow":            {"/slow", func(t *Target) { t.Silence = 500 * time.Millisecond }, reason.Hung},
		"another host":    {"https://192.0.2.1/x", nil, reason.Protocol},
		"changed key":     {"/status/500", func(t *Target) { t.Pins = []string{PinPrefix + "other"} }, reason.HostKeyChanged},
		"unconfirmed key": {"/status/500", func(t *Target) { t.Confirm = true }, reason.HostKeyNew},
		"nobody there":    {"/status/500", func(t *Target) { t.Addresses = []string{"127.0.0.1:1"} }, reason.Refused},
	} {
		t.Run(name, func(t *testing.T) {
			conn := open(t, c.change)
			_, err := conn.Get(t.Context(), c.path, "", 64<<10)
			assert.Equal(t, c.want, reason.Of(err, ""), "%v", err)
		})
	}
	plain := httptest.NewServer(http.NotFoundHandler())
	defer plain.Close()
	conn := open(t, func(t *Target) { t.Addresses = []string{strings.TrimPrefix(plain.URL, "http://")} })
	_, err := conn.Get(t.Context(), "/", "", 1000)
	assert.Equal(t, reason.Protocol, reason.Of(err, ""), "%v", err)
}
