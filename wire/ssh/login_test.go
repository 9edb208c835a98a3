package ssh

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
)

// host is an SSH server that lets in as its configuration says and then does
// nothing.
type host struct {
	addr string
	keys []string // as they stand on record

	mu    sync.Mutex
	tries []string // methods that were tried
}

func (h *host) tried(method string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.tries = append(h.tries, method)
}

func (h *host) methods() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]string(nil), h.tries...)
}

func signer(t *testing.T, kind string) ssh.Signer {
	t.Helper()
	var key any
	var err error
	if kind == "ecdsa" {
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	} else {
		_, key, err = ed25519.GenerateKey(rand.Reader)
	}
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return s
}

func serve(t *testing.T, h *host, conf *ssh.ServerConfig, signers ...ssh.Signer) {
	t.Helper()
	if len(signers) == 0 {
		signers = []ssh.Signer{signer(t, "ed25519")}
	}
	for _, s := range signers {
		conf.AddHostKey(s)
		h.keys = append(h.keys, authorized(s.PublicKey()))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	h.addr = l.Addr().String()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				conn, channels, requests, err := ssh.NewServerConn(c, conf)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				for ch := range channels {
					_ = ch.Reject(ssh.Prohibited, "nothing here")
				}
				_ = conn.Close()
			}()
		}
	}()
}

var errNo = errors.New("no")

func (h *host) dial(t *testing.T, change func(*Target)) (*Conn, error) {
	t.Helper()
	target := Target{Addresses: []string{h.addr}, Login: Login{User: "keeper", Password: "over-the-verge"}, Connect: time.Minute, Silence: time.Minute}
	if change != nil {
		change(&target)
	}
	c, err := Dial(t.Context(), target)
	if err == nil {
		t.Cleanup(func() { _ = c.Close() })
	}
	return c, err
}

// ask is a server's keyboard-interactive login that asks what it is told to.
func (h *host) ask(instruction string, questions []string, echo []bool, right func([]string) bool) func(ssh.ConnMetadata, ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	return func(_ ssh.ConnMetadata, challenge ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
		h.tried("keyboard-interactive")
		answers, err := challenge("", instruction, questions, echo)
		if err != nil || !right(answers) {
			return nil, errNo
		}
		return nil, nil
	}
}

func (h *host) password(right string) func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
	return func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		h.tried("password")
		if string(password) != right {
			return nil, errNo
		}
		return nil, nil
	}
}

func TestEachWayToLogIn(t *testing.T) {
	one := []bool{false}
	for name, c := range map[string]struct {
		conf func(*host) *ssh.ServerConfig
		want reason.Code
		says string
		most int // tries that the server sees
	}{
		"password": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{PasswordCallback: h.password("over-the-verge")}
		}, most: 1},
		"a wrong password": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{PasswordCallback: h.password("another")}
		}, want: reason.CredentialRefused, says: "the login of keeper", most: 1},
		"keyboard-interactive": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{KeyboardInteractiveCallback: h.ask("", []string{"Password: "}, one, func(a []string) bool { return a[0] == "over-the-verge" })}
		}, most: 1},
		"it asks for the name too": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{KeyboardInteractiveCallback: h.ask("", []string{"Operator: ", "Phrase: "}, []bool{true, false}, func(a []string) bool {
				return a[0] == "keeper" && a[1] == "over-the-verge"
			})}
		}, most: 1},
		"it only tells something": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{KeyboardInteractiveCallback: h.ask("Welcome.", nil, nil, func([]string) bool { return true })}
		}, most: 1},
		"a second factor": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{KeyboardInteractiveCallback: h.ask("", []string{"Verification code: "}, one, func([]string) bool { return false })}
		}, want: reason.SecondFactor, most: 1},
		"an expired password": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{KeyboardInteractiveCallback: h.ask("Your password has expired.", []string{"New password: "}, one, func([]string) bool { return false })}
		}, want: reason.PasswordExpired, most: 1},
		"a login server that is down": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{PasswordCallback: h.password("another"), BannerCallback: func(ssh.ConnMetadata) string {
				return "All authentication servers are unreachable."
			}}
		}, want: reason.LoginServerDown, most: 1},
		"refused by both ways": { // as OpenSSH does with PAM
			conf: func(h *host) *ssh.ServerConfig {
				return &ssh.ServerConfig{PasswordCallback: h.password("another"),
					KeyboardInteractiveCallback: h.ask("", []string{"Password: "}, one, func([]string) bool { return false })}
			}, want: reason.CredentialRefused, most: 2},
		"no way that we know": {conf: func(h *host) *ssh.ServerConfig {
			return &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, errNo }}
		}, want: reason.CredentialRefused, most: 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := &host{}
			serve(t, h, c.conf(h))
			_, err := h.dial(t, nil)
			assert.Equal(t, c.want, reason.Of(err, ""), "%v", err)
			if c.want == "" {
				require.NoError(t, err)
			} else {
				assert.Contains(t, err.Error(), c.says)
				assert.NotContains(t, err.Error(), "over-the-verge")
			}
			assert.LessOrEqual(t, len(h.methods()), c.most, "each try brings the account closer to being locked: %v", h.methods())
		})
	}
}

// TestAPasswordIsOfferedOnce holds what keeps accounts from being locked: a
// server that asks for the same password again gets no second answer.
func TestAPasswordIsOfferedOnce(t *testing.T) {
	h := &host{}
	answered := 0
	var mu sync.Mutex
	serve(t, h, &ssh.ServerConfig{MaxAuthTries: 10, KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, challenge ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
		for range 5 {
			if _, err := challenge("", "", []string{"Password: "}, []bool{false}); err != nil {
				return nil, err
			}
			mu.Lock()
			answered++
			mu.Unlock()
		}
		return nil, errNo
	}})
	_, err := h.dial(t, nil)
	assert.Equal(t, reason.CredentialRefused, reason.Of(err, ""), "%v", err)
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, 1, answered)
}

func privateKey(t *testing.T, passphrase string) (private string, public ssh.PublicKey) {
	t.Helper()
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	var block *pem.Block
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(key, "")
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte(passphrase))
	}
	require.NoError(t, err)
	public, err = ssh.NewPublicKey(pub)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), public
}

func TestKeysLogIn(t *testing.T) {
	plain, public := privateKey(t, "")
	locked, lockedPublic := privateKey(t, "a passphrase")
	takes := func(keys ...ssh.PublicKey) *ssh.ServerConfig {
		return &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, shown ssh.PublicKey) (*ssh.Permissions, error) {
			for _, k := range keys {
				if string(k.Marshal()) == string(shown.Marshal()) {
					return nil, nil
				}
			}
			return nil, errNo
		}}
	}
	for name, c := range map[string]struct {
		conf *ssh.ServerConfig
		key  Login
		want reason.Code
		says string
	}{
		"a key":                  {takes(public), Login{Key: plain}, "", ""},
		"one with a passphrase":  {takes(lockedPublic), Login{Key: locked, Passphrase: "a passphrase"}, "", ""},
		"without its passphrase": {takes(lockedPublic), Login{Key: locked}, reason.NoCredential, "it needs its passphrase"},
		"a wrong passphrase":     {takes(lockedPublic), Login{Key: locked, Passphrase: "another"}, reason.NoCredential, "not a usable private key"},
		"no key at all":          {takes(public), Login{Key: "-----BEGIN RUBBISH-----"}, reason.NoCredential, "not a usable private key"},
		"one that is not known":  {takes(lockedPublic), Login{Key: plain}, reason.CredentialRefused, "refused the key of keeper"},
	} {
		t.Run(name, func(t *testing.T) {
			h := &host{}
			serve(t, h, c.conf)
			_, err := h.dial(t, func(target *Target) {
				c.key.User = "keeper"
				target.Login = c.key
			})
			assert.Equal(t, c.want, reason.Of(err, ""), "%v", err)
			if c.want != "" {
				assert.ErrorContains(t, err, c.says)
				assert.NotContains(t, err.Error(), "RUBBISH")
			}
		})
	}
	// With a key, a password is never sent, and what is asked behind it is told.
	h := &host{}
	conf := takes(public)
	conf.PasswordCallback = h.password("over-the-verge")
	conf.PublicKeyCallback = func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) {
		return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{KeyboardInteractiveCallback: h.ask("", []string{"Passcode: "}, []bool{false}, func([]string) bool { return false })}}
	}
	serve(t, h, conf)
	_, err := h.dial(t, func(target *Target) { target.Login = Login{User: "keeper", Key: plain, Password: "over-the-verge"} })
	assert.Equal(t, reason.SecondFactor, reason.Of(err, ""), "%v", err)
	assert.NotContains(t, h.methods(), "password")
}

func TestHostKeysAreHeldAgainstTheRecord(t *testing.T) {
	ed, ec := signer(t, "ed25519"), signer(t, "ecdsa")
	h := &host{}
	serve(t, h, &ssh.ServerConfig{PasswordCallback: h.password("over-the-verge")}, ed, ec)
	other := authorized(signer(t, "ed25519").PublicKey())

	c, err := h.dial(t, nil)
	require.NoError(t, err)
	assert.Contains(t, h.keys, c.HostKey, "the first is taken down")

	for _, known := range h.keys {
		c, err = h.dial(t, func(target *Target) { target.HostKeys = []string{known} })
		require.NoError(t, err)
		assert.Equal(t, known, c.HostKey, "it shows the one that is known, of whatever kind")
	}
	_, err = h.dial(t, func(target *Target) { target.HostKeys = []string{other, h.keys[0]} })
	require.NoError(t, err, "a pair behind one address has several")

	_, err = h.dial(t, func(target *Target) { target.HostKeys = []string{other} })
	var wrong *KeyError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, reason.HostKeyChanged, reason.Of(err, ""))
	assert.Equal(t, h.keys[0], wrong.Shown)
	assert.Contains(t, err.Error(), Fingerprint(h.keys[0]))
	assert.Contains(t, err.Error(), Fingerprint(other))
	assert.Len(t, h.methods(), 4, "nothing was typed to somebody else")

	_, err = h.dial(t, func(target *Target) { target.Confirm = true })
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, reason.HostKeyNew, reason.Of(err, ""))
	_, err = h.dial(t, func(target *Target) { target.Confirm, target.HostKeys = true, h.keys })
	require.NoError(t, err)
}

func TestFingerprintsAreThoseOfOpenSSH(t *testing.T) {
	key := authorized(signer(t, "ed25519").PublicKey())
	parsed, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key))
	require.NoError(t, err)
	assert.Equal(t, ssh.FingerprintSHA256(parsed), Fingerprint(key))
	assert.NotPanics(t, func() { Fingerprint("no key") })
}

func TestSomethingElseThanSSHAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		say  string
		want reason.Code
	}{
		"a web server":      {"HTTP/1.1 400 Bad Request\r\n\r\n", reason.NotSSH},
		"nothing":           {"", reason.HungUp},
		"garbage behind it": {"SSH-2.0-x\r\n" + strings.Repeat("\xff", 4096), reason.NotSSH},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer l.Close()
			go func() {
				for {
					c1, err := l.Accept()
					if err != nil {
						return
					}
					_, _ = fmt.Fprint(c1, c.say)
					_ = c1.(*net.TCPConn).CloseWrite()
					time.AfterFunc(time.Second, func() { _ = c1.Close() })
				}
			}()
			h := &host{addr: l.Addr().String()}
			_, err = h.dial(t, nil)
			require.Error(t, err)
			t.Log(err)
			if name == "garbage behind it" {
				assert.NotEmpty(t, reason.Of(err, ""))
				return
			}
			assert.Equal(t, c.want, reason.Of(err, ""), "%v", err)
		})
	}
}
