// Package reason holds the reasons for which a visit fails or is passed over:
// a code that never changes, a sentence that says what happened, and one that
// says what to do.
package reason

import (
	"errors"
	"fmt"
	"strings"
)

// Code names one reason. Codes are stored and published: they never change.
type Code string

// The reasons.
const (
	Refused           Code = "refused"
	NameUnknown       Code = "name-unknown"
	Unreachable       Code = "unreachable"
	ConnectTimeout    Code = "connect-timeout"
	NotSSH            Code = "not-ssh"
	NoCommonAlgorithm Code = "no-common-algorithm"
	HostKeyChanged    Code = "host-key-changed"
	HostKeyNew        Code = "host-key-unconfirmed"
	JumpFailed        Code = "jump-host-failed"
	NoCredential      Code = "no-credential"
	CredentialRefused Code = "credential-refused"
	CredentialRests   Code = "credential-rests"
	PasswordExpired   Code = "password-expired"
	SecondFactor      Code = "second-factor"
	LoginServerDown   Code = "login-server-down"
	TooManySessions   Code = "too-many-sessions"
	LockedByAnother   Code = "locked-by-another"
	ElevationMissing  Code = "elevation-missing"
	ElevationRefused  Code = "elevation-refused"
	Silent            Code = "silent"
	NoPrompt          Code = "no-prompt"
	Hung              Code = "hung"
	HungUp            Code = "hung-up"
	Flood             Code = "flood"
	TooLong           Code = "too-long"
	DeviceError       Code = "device-error"
	NotAllowed        Code = "command-not-allowed"
	Moving            Code = "changed-while-read"
	Incomplete        Code = "incomplete"
	OtherDevice       Code = "other-device"
	OtherPlatform     Code = "other-platform"
	AddressOfTwo      Code = "address-of-two"
	NothingSent       Code = "nothing-sent"
	UnknownDialect    Code = "unknown-dialect"
	Protocol          Code = "protocol"
	Storage           Code = "storage"
	Cancelled         Code = "cancelled"
	Paused            Code = "paused"
	Retired           Code = "retired"
	ClosedHours       Code = "closed-hours"
	AlreadyVisited    Code = "already-visiting"
)

// advice says what to do about each reason.
var advice = map[Code]string{
	Refused:           "Check that the device is up and that it listens on this port.",
	NameUnknown:       "Check the name in the device's record and the service's name servers, or write the address instead.",
	Unreachable:       "Check the path to the device, and that its address in the record is right.",
	ConnectTimeout:    "Check the path to the device; if it is merely far away, give it a longer time to connect.",
	NotSSH:            "Check the port in the device's record: something else answers there.",
	NoCommonAlgorithm: "Upgrade the device; until then allow old algorithms for it alone: 'vergekeep device edit NAME --old-algorithms'.",
	HostKeyNew:        "Compare the fingerprint with the device's own, then accept it with 'vergekeep device trust'.",
	JumpFailed:        "Check the jump host first: all devices behind it fail with it.",
	HostKeyChanged:    "If the device was replaced or reset, accept its new key with 'vergekeep device trust'; if nobody did that, treat it as an attack.",
	NoCredential:      "Add a credential whose selector matches this device.",
	CredentialRefused: "Check the account on the device, or give Verge Keep the new password once.",
	CredentialRests:   "It was refused too often. Correct it with 'vergekeep credential change', or end the rest with 'vergekeep credential wake'.",
	PasswordExpired:   "Set a new password on the device or its login server, then 'vergekeep credential change'.",
	SecondFactor:      "Give Verge Keep an account that logs in without a second factor, from the service's address only.",
	LoginServerDown:   "The password was not judged. Bring the login server back; the credential was not counted as refused.",
	TooManySessions:   "Close sessions on the device, or lower how many visits at a time its site takes.",
	LockedByAnother:   "Somebody else has the configuration locked; visit it again when they are done.",
	ElevationMissing:  "Add the elevation secret to the credential of this device.",
	ElevationRefused:  "Check the elevation secret of this device's credential.",
	Silent:            "Log in by hand: the device may be overloaded, or its session limit reached.",
	NoPrompt:          "Log in by hand and compare what you see with the prompts of the device's dialect.",
	Hung:              "Visit it again; if it always stops there, look at the session kept with this visit.",
	HungUp:            "Visit it again; if it happens each time, look for a session limit or a crash on the device.",
	Flood:             "Look at the session kept with this visit: the device sends without end.",
	TooLong:           "Give this device a longer visit limit, or look at why it is so slow.",
	DeviceError:       "Check that the account may run this command, and that the dialect fits the device's version.",
	NotAllowed:        "Let the account run this command; reading the configuration is all it needs.",
	Moving:            "Nothing was archived. Somebody was changing it; visit it again.",
	Incomplete:        "Nothing was archived. Visit it again; if it stays so, check the dialect's signs of completeness.",
	OtherDevice:       "Nothing was archived. Check the address in the record; if the box was swapped for a spare, say so in its record.",
	OtherPlatform:     "Nothing was archived. Find out what it is with 'vergekeep enrol', then correct its record.",
	AddressOfTwo:      "Two records lead to one box: retire one of them, or correct its address.",
	NothingSent:       "Check that the device can reach the service's address for drops, and that its copy command is right.",
	UnknownDialect:    "Choose one of the platforms that 'vergekeep dialect list' shows.",
	Protocol:          "Check the platform in the device's record; it may not speak this protocol.",
	Storage:           "Free space on the service's disk; everything archived so far is whole.",
	Cancelled:         "Start a new round when it suits.",
	Paused:            "Resume the device when it should be visited again.",
	Retired:           "It is kept for its history only.",
	ClosedHours:       "It is visited at the next round outside its closed hours.",
	AlreadyVisited:    "Nothing to do: another round was visiting it at the same moment.",
}

// Advice is the sentence that says what to do; every code has one.
func (c Code) Advice() string { return advice[c] }

// Codes lists every reason there is.
func Codes() []Code {
	codes := make([]Code, 0, len(advice))
	for c := range advice {
		codes = append(codes, c)
	}
	return codes
}

// Error is a failure with its reason.
type Error struct {
	Code  Code
	What  string // one sentence: what happened
	Cause error  // may be nil
}

func (e *Error) Error() string { return e.What }

func (e *Error) Unwrap() error { return e.Cause }

// New makes an error with a reason. A %w in format becomes its cause.
func New(code Code, format string, args ...any) *Error {
	err := fmt.Errorf(format, args...)
	what := err.Error()
	for strings.HasSuffix(what, "..") || strings.HasSuffix(what, "?.") { // the cause was a sentence itself
		what = what[:len(what)-1]
	}
	return &Error{Code: code, What: what, Cause: errors.Unwrap(err)}
}

// Of is the reason of err, or fallback where it carries none.
func Of(err error, fallback Code) Code {
	var e *Error
	if errors.As(err, &e) {
		return e.Code
	}
	return fallback
}
