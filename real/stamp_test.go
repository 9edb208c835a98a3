//go:build real

package real

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/cli"
	"vergekeep/service/accounts"
)

// authority is a time-stamping authority (RFC 3161) that OpenSSL is, on loopback.
func authority(t *testing.T) (address, certificate string) {
	t.Helper()
	dir := t.TempDir()
	openssl := func(args ...string) {
		t.Helper()
		cmd := exec.Command("openssl", args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "openssl %v: %s", args, out)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tsa.cnf"), []byte(`
[tsa]
default_tsa = here
[here]
serial = tsa.serial
signer_cert = tsa.crt
certs = ca.crt
signer_key = tsa.key
signer_digest = sha256
default_policy = 1.3.6.1.4.1.32473.1
digests = sha256
accuracy = secs:1
ordering = yes
tsa_name = yes
ess_cert_id_alg = sha256
[stamping]
extendedKeyUsage = critical,timeStamping
keyUsage = critical,digitalSignature
`), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tsa.serial"), []byte("01\n"), 0o600))
	openssl("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "ca.key", "-out", "ca.crt", "-days", "2", "-subj", "/CN=Skerry authority")
	openssl("req", "-newkey", "rsa:2048", "-nodes", "-keyout", "tsa.key", "-out", "tsa.csr", "-subj", "/CN=Skerry time")
	openssl("x509", "-req", "-in", "tsa.csr", "-CA", "ca.crt", "-CAkey", "ca.key", "-CAcreateserial", "-out", "tsa.crt", "-days", "1", "-extfile", "tsa.cnf", "-extensions", "stamping")
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		query, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, "query.tsq"), query, 0o600)
		}
		cmd := exec.Command("openssl", "ts", "-reply", "-config", "tsa.cnf", "-queryfile", "query.tsq")
		cmd.Dir = dir
		out, runErr := cmd.Output()
		if err != nil || runErr != nil || r.Header.Get("Content-Type") != "application/timestamp-query" {
			http.Error(w, "no", http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/timestamp-reply")
		_, _ = w.Write(out)
	}))
	t.Cleanup(server.Close)
	return server.URL, filepath.Join(dir, "ca.crt")
}

// TestATimeStampIsOfARealAuthority signs with a stamp by OpenSSL, verifies it,
// and has OpenSSL verify it too.
func TestATimeStampIsOfARealAuthority(t *testing.T) {
	address, ca := authority(t)
	s := service(t)
	ctx, cancel := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-served)
	})
	_, err := s.Accounts.Add(t.Context(), "auditor", "a-long-password", accounts.Rights, false, "test")
	require.NoError(t, err)
	dir := t.TempDir()
	env := map[string]string{"VERGEKEEP_LOGIN": filepath.Join(dir, "login.json")}
	run := func(args ...string) (int, string) {
		var out bytes.Buffer
		status := cli.Run(t.Context(), cli.Console{In: strings.NewReader("a-long-password\n"), Out: &out, Err: &out, Env: func(k string) string { return env[k] }}, append([]string{"vergekeep"}, args...), "test")
		return status, out.String()
	}
	must := func(args ...string) string {
		t.Helper()
		status, said := run(args...)
		require.Zero(t, status, "%v: %s", args, said)
		return said
	}
	must("login", s.URL, "--account", "auditor")
	must("device", "add", "ng-acc-1", "--platform", "tidegate", "--address", "127.0.0.1:1")
	old := filepath.Join(dir, "old", "ng-acc-1")
	require.NoError(t, os.MkdirAll(old, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(old, "2026-01-02.cfg"), []byte("configuration of ng-acc-1, changed by noc\nname ng-acc-1\nlan 10\nend of configuration\n"), 0o600))
	must("archive", "import", filepath.Dir(old), "--names", "{device}/{date}.cfg")
	key, heads, proof := filepath.Join(dir, "key.pem"), filepath.Join(dir, "heads.json"), filepath.Join(dir, "a.proof")
	must("archive", "key", key)
	must("archive", "sign", heads, "--key", key, "--time-stamp", address)
	must("archive", "prove", "ng-acc-1@1", proof)
	said := must("archive", "verify", proof, "--heads", heads, "--key", key+".pub", "--authority", ca)
	assert.Contains(t, said, "The signature was there at ")
	assert.Contains(t, said, "CN=Skerry time, whose certificate comes from "+ca)

	_, other := authority(t)
	status, said := run("archive", "verify", proof, "--heads", heads, "--key", key+".pub", "--authority", other)
	assert.Equal(t, 2, status)
	assert.Contains(t, said, "of nobody that")
	status, said = run("archive", "sign", filepath.Join(dir, "x"), "--key", key, "--time-stamp", address+"1/none")
	assert.Equal(t, 2, status)
	assert.Contains(t, said, "the time stamp")
}
