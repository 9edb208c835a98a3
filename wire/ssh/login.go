package ssh

import (
	"errors"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
)

// Login is what a person would type, or the key that stands for it.
type Login struct {
	User     string
	Password string
	// Key is a private key in the PEM or OpenSSH form; with one, no password is
	// ever offered.
	Key        string
	Passphrase string // of Key
	// Signs are what this platform says when it refuses for another reason than
	// a wrong password.
	Signs []Sign
}

// Sign is a text with the reason that it means.
type Sign struct {
	See   *regexp.Regexp
	Means reason.Code
}

// usual are the signs that most systems share, in English.
var usual = []Sign{
	{regexp.MustCompile(`(?i)password (has|is) expired|expired password|password must be changed|change your password|new password:`), reason.PasswordExpired},
	{regexp.MustCompile(`(?i)(authentication|login|directory|aaa|radius) servers? .{0,40}(unreachable|not (be )?reach|not (respond|answer|avail)|unavailable|down|timed out)`), reason.LoginServerDown},
	{regexp.MustCompile(`(?i)too many (open |active |concurrent )?(sessions|connections|users|logins)|(session|connection|login) limit|all (lines|terminals) (are )?(busy|in use)`), reason.TooManySessions},
}

// secondFactor is what a question looks like that no password answers.
var secondFactor = regexp.MustCompile(`(?i)verification code|one[- ]time|passcode|authenticator|second factor|token|\botp\b|push`)

// attempt is one login. It uses one method and answers once: a second refusal
// of the same password would bring the account closer to being locked.
type attempt struct {
	login   Login
	said    strings.Builder // banners and instructions
	offered bool            // the password
	stopped error           // why we ended it ourselves
}

func (a *attempt) hear(text string) {
	if a.said.Len() < 64<<10 {
		a.said.WriteString(text + "\n")
	}
}

func (a *attempt) methods() ([]ssh.AuthMethod, error) {
	if a.login.Key != "" {
		signer, err := ParseKey(a.login.Key, a.login.Passphrase)
		if err != nil {
			return nil, reason.New(reason.NoCredential, "Its key cannot be used: %w.", err)
		}
		return []ssh.AuthMethod{ssh.PublicKeys(signer), ssh.KeyboardInteractive(a.afterKey)}, nil
	}
	return []ssh.AuthMethod{
		ssh.PasswordCallback(func() (string, error) {
			a.offered = true
			return a.login.Password, nil
		}),
		ssh.KeyboardInteractive(a.answer),
	}, nil
}

// ErrKey is wrapped where a private key cannot be read.
var ErrKey = errors.New("not a usable private key")

// ParseKey reads a private key.
func ParseKey(key, passphrase string) (ssh.Signer, error) {
	var signer ssh.Signer
	var err error
	if passphrase != "" {
		signer, err = ssh.ParsePrivateKeyWithPassphrase([]byte(key), []byte(passphrase))
	} else {
		signer, err = ssh.ParsePrivateKey([]byte(key))
	}
	var missing *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &missing):
		return nil, errors.Join(ErrKey, errors.New("it needs its passphrase"))
	case err != nil:
		return nil, ErrKey // what the parser says may quote the key
	}
	return signer, nil
}

// afterKey is asked when the key alone was not enough.
func (a *attempt) afterKey(_, instruction string, questions []string, _ []bool) ([]string, error) {
	a.hear(instruction)
	if len(questions) == 0 {
		return nil, nil
	}
	a.stopped = reason.New(reason.SecondFactor, "It took the key of %s and then asked for more.", a.login.User)
	return nil, a.stopped
}

func (a *attempt) answer(_, instruction string, questions []string, echos []bool) ([]string, error) {
	a.hear(instruction)
	for _, q := range questions {
		a.hear(q)
	}
	if len(questions) == 0 {
		return nil, nil
	}
	if why := a.told(); why != nil {
		a.stopped = why
		return nil, why
	}
	answers := make([]string, len(questions))
	for i, q := range questions {
		switch {
		case secondFactor.MatchString(q):
			a.stopped = reason.New(reason.SecondFactor, "It asked %s for a second factor.", a.login.User)
			return nil, a.stopped
		case echos[i]:
			answers[i] = a.login.User
		case a.offered:
			// It was refused by the other method, or is asked for again.
			a.stopped = a.refused("")
			return nil, a.stopped
		default:
			a.offered = true
			answers[i] = a.login.Password
		}
	}
	return answers, nil
}

// told is what the device itself gave as the reason, if it did.
func (a *attempt) told() error {
	if code := meaning(a.login.Signs, a.said.String()); code != "" {
		return reason.New(code, "%s", toldSentence[code])
	}
	return nil
}

func meaning(signs []Sign, text string) reason.Code {
	for _, list := range [][]Sign{signs, usual} {
		for _, s := range list {
			if s.See.MatchString(text) {
				return s.Means
			}
		}
	}
	return ""
}

var toldSentence = map[reason.Code]string{
	reason.PasswordExpired: "It says that the password has expired.",
	reason.LoginServerDown: "It says that it cannot reach its login server.",
	reason.TooManySessions: "It says that it has no session left for us.",
	reason.SecondFactor:    "It asked for a second factor.",
	reason.LockedByAnother: "It says that somebody else has it locked.",
	reason.NotAllowed:      "It says that this account may not do that.",
}

// refused explains the end of a login that the device ended.
func (a *attempt) refused(text string) error {
	if why := a.told(); why != nil {
		return why
	}
	// RFC 4253, section 11.1: 12 is SSH_DISCONNECT_TOO_MANY_CONNECTIONS.
	if strings.Contains(text, "reason 12") {
		return reason.New(reason.TooManySessions, "%s", toldSentence[reason.TooManySessions])
	}
	if _, message, ok := strings.Cut(text, "ssh: disconnect"); ok {
		if code := meaning(a.login.Signs, message); code != "" {
			return reason.New(code, "%s", toldSentence[code])
		}
	}
	if a.login.Key != "" {
		return reason.New(reason.CredentialRefused, "It refused the key of %s.", a.login.User)
	}
	return reason.New(reason.CredentialRefused, "It refused the login of %s.", a.login.User)
}
