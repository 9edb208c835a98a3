// Package reason holds the reasons for which a visit fails or is passed over:
// a code that never changes, a sentence that says what happened, and one that
// says what to do.
package reason

import (
	"errors"
	"fmt"
)

// Code names one reason. Codes are stored and published: they never change.
type Code string

// The reasons.
const (
	Refused           Code = "refused"
	Unreachable       Code = "unreachable"
	ConnectTimeout    Code = "connect-timeout"
	NotSSH            Code = "not-ssh"
	NoCommonAlgorithm Code = "no-common-algorithm"
	HostKeyChanged    Code = "host-key-changed"
	NoCredential      Code = "no-credential"
	CredentialRefused Code = "credential-refused"
	ElevationMissing  Code = "elevation-missing"
	ElevationRefused  Code = "elevation-refused"
	Silent            Code = "silent"
	NoPrompt          Code = "no-prompt"
	Hung              Code = "hung"
	HungUp            Code = "hung-up"
	Flood             Code = "flood"
	TooLong           Code = "too-long"
	DeviceError       Code = "device-error"
	Incomplete        Code = "incomplete"
	OtherDevice       Code = "other-device"
	UnknownDialect    Code = "unknown-dialect"
	Protocol          Code = "protocol"
	Storage           Code = "storage"
	Cancelled         Code = "cancelled"
	Paused            Code = "paused"
	AlreadyVisited    Code = "already-visiting"
)

// advice says what to do about each reason.
var advice = map[Code]string{
	Refused:           "Check that the device is up and that its SSH service listens on this port.",
	Unreachable:       "Check the path to the device, and that its address in the record is right.",
	ConnectTimeout:    "Check the path to the device; if it is merely far away, give it a longer time to connect.",
	NotSSH:            "Check the port in the device's record: something else answers there.",
	NoCommonAlgorithm: "The device only offers algorithms that are no longer safe; upgrade it.",
	HostKeyChanged:    "If the device was replaced or reset, accept its new key with 'vergekeep device trust'; if nobody did that, treat it as an attack.",
	NoCredential:      "Add a credential whose selector matches this device.",
	CredentialRefused: "Check the account on the device, or give Verge Keep the new password once.",
	ElevationMissing:  "Add the elevation secret to the credential of this device.",
	ElevationRefused:  "Check the elevation secret of this device's credential.",
	Silent:            "Log in by hand: the device may be overloaded, or its session limit reached.",
	NoPrompt:          "Log in by hand and compare what you see with the prompts of the device's dialect.",
	Hung:              "Visit it again; if it always stops there, look at the session kept with this visit.",
	HungUp:            "Visit it again; if it happens each time, look for a session limit or a crash on the device.",
	Flood:             "Look at the session kept with this visit: the device sends without end.",
	TooLong:           "Give this device a longer visit limit, or look at why it is so slow.",
	DeviceError:       "Check that the account may run this command, and that the dialect fits the device's version.",
	Incomplete:        "Nothing was archived. Visit it again; if it stays so, check the dialect's signs of completeness.",
	OtherDevice:       "Nothing was archived. Check the address in the record; if the box was swapped for a spare, say so in its record.",
	UnknownDialect:    "Choose one of the platforms that 'vergekeep dialect list' shows.",
	Protocol:          "Check the platform in the device's record; it may not speak this protocol.",
	Storage:           "Free space on the service's disk; everything archived so far is whole.",
	Cancelled:         "Start a new round when it suits.",
	Paused:            "Resume the device when it should be visited again.",
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
	return &Error{Code: code, What: err.Error(), Cause: errors.Unwrap(err)}
}

// Of is the reason of err, or fallback where it carries none.
func Of(err error, fallback Code) Code {
	var e *Error
	if errors.As(err, &e) {
		return e.Code
	}
	return fallback
}
