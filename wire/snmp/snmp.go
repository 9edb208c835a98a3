// Package snmp asks an agent what it is: the system group of SNMPv2-MIB (RFC 3418),
// by SNMPv2c (RFC 3416, RFC 1901) or SNMPv3 with users (RFC 3414, RFC 7860,
// RFC 3826). Nothing is ever set.
package snmp

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/gosnmp/gosnmp"

	"vergekeep/core/reason"
)

// Port is where agents listen.
const Port = 161

// Target is an agent and who asks it: with a community by version 2c, else as a
// user by version 3.
type Target struct {
	Address        string // host:port
	Community      string
	User           string
	Authentication string // its pass phrase, at least 8 characters
	Privacy        string // the same; "" for none
	Timeout        time.Duration
}

// System is what an agent says of its device.
type System struct {
	ObjectID string // sysObjectID, dotted, without a leading dot
	Descr    string // sysDescr
	Name     string // sysName
}

const (
	sysDescr    = "1.3.6.1.2.1.1.1.0"
	sysObjectID = "1.3.6.1.2.1.1.2.0"
	sysName     = "1.3.6.1.2.1.1.5.0"
)

// maxDescr is how much of a sysDescr is kept; RFC 3418 says at most 255 bytes.
const maxDescr = 255

// Ask gets the three variables in one request, sent twice at most. Its errors
// carry a reason: nothing answered, or a user was refused.
func Ask(ctx context.Context, t Target) (System, error) {
	if t.Community != "" {
		return ask(ctx, t, gosnmp.NoAuth)
	}
	s, err := ask(ctx, t, gosnmp.SHA256)
	if reason.Of(err, "") == reason.CredentialRefused {
		if old, again := ask(ctx, t, gosnmp.SHA); again == nil { // an agent from before RFC 7860
			return old, nil
		}
	}
	return s, err
}

// Get asks for the value of one object, as text; "" where the agent has none.
func Get(ctx context.Context, t Target, object string) (string, error) {
	method := gosnmp.SHA256
	if t.Community != "" {
		method = gosnmp.NoAuth
	}
	answer, err := get(ctx, t, method, object)
	if t.Community == "" && reason.Of(err, "") == reason.CredentialRefused {
		if old, again := get(ctx, t, gosnmp.SHA, object); again == nil {
			answer, err = old, nil
		}
	}
	if err != nil {
		return "", err
	}
	if answer.Error != gosnmp.NoError {
		return "", reason.New(reason.DeviceError, "Its SNMP agent answered %s.", answer.Error)
	}
	for _, v := range answer.Variables {
		if s, ok := v.Value.([]byte); ok {
			return hex.EncodeToString(s), nil
		}
		if v.Value != nil {
			return fmt.Sprint(v.Value), nil
		}
	}
	return "", nil
}

func ask(ctx context.Context, t Target, method gosnmp.SnmpV3AuthProtocol) (System, error) {
	answer, err := get(ctx, t, method, sysObjectID, sysDescr, sysName)
	if err != nil {
		return System{}, err
	}
	return read(answer)
}

func get(ctx context.Context, t Target, method gosnmp.SnmpV3AuthProtocol, objects ...string) (*gosnmp.SnmpPacket, error) {
	host, port, err := net.SplitHostPort(t.Address)
	if err != nil {
		return nil, reason.New(reason.Unreachable, "%q is no address: %w.", t.Address, err)
	}
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, reason.New(reason.Unreachable, "%q is no port: %w.", port, err)
	}
	g := &gosnmp.GoSNMP{
		Target: host, Port: uint16(number), Transport: "udp", Timeout: t.Timeout, Retries: 1, MaxOids: 3, Context: ctx,
		Version: gosnmp.Version2c, Community: t.Community,
	}
	if method != gosnmp.NoAuth {
		g.Version, g.SecurityModel, g.MsgFlags = gosnmp.Version3, gosnmp.UserSecurityModel, gosnmp.AuthNoPriv
		user := &gosnmp.UsmSecurityParameters{UserName: t.User, AuthenticationProtocol: method, AuthenticationPassphrase: t.Authentication}
		if t.Privacy != "" {
			g.MsgFlags = gosnmp.AuthPriv
			user.PrivacyProtocol, user.PrivacyPassphrase = gosnmp.AES, t.Privacy
		}
		g.SecurityParameters = user
	}
	if err := g.Connect(); err != nil {
		return nil, explain(ctx, t, err)
	}
	defer func() { _ = g.Close() }()
	answer, err := g.Get(objects)
	if err != nil {
		return nil, explain(ctx, t, err)
	}
	return answer, nil
}

func read(answer *gosnmp.SnmpPacket) (System, error) {
	var s System
	if answer.Error != gosnmp.NoError {
		return s, reason.New(reason.DeviceError, "Its SNMP agent answered %s.", answer.Error)
	}
	for _, v := range answer.Variables {
		switch strings.TrimPrefix(v.Name, ".") {
		case sysObjectID:
			if id, ok := v.Value.(string); ok && v.Type == gosnmp.ObjectIdentifier {
				s.ObjectID = strings.TrimPrefix(id, ".")
			}
		case sysDescr:
			s.Descr = text(v)
		case sysName:
			s.Name = text(v)
		}
	}
	if s == (System{}) {
		return s, reason.New(reason.Protocol, "Its SNMP agent shows nothing of its system group.")
	}
	return s, nil
}

// text is a DisplayString as valid UTF-8, in one line.
func text(v gosnmp.SnmpPDU) string {
	raw, ok := v.Value.([]byte)
	if !ok {
		return ""
	}
	return strings.Join(strings.Fields(strings.ToValidUTF8(string(raw[:min(len(raw), maxDescr)]), "\ufffd")), " ")
}

// explain tells an agent that refuses from one that says nothing: a wrong
// community is not answered at all (RFC 3584, section 5.2.1).
func explain(ctx context.Context, t Target, err error) error {
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("asking by SNMP: %w", context.Cause(ctx))
	case errors.Is(err, gosnmp.ErrWrongDigest), errors.Is(err, gosnmp.ErrUnknownUsername), errors.Is(err, gosnmp.ErrDecryption), errors.Is(err, gosnmp.ErrUnknownSecurityLevel):
		return reason.New(reason.CredentialRefused, "Its SNMP agent refused the user %s: %w.", t.User, err)
	case strings.Contains(err.Error(), "not authentic"): // it says so, but cannot sign it for want of a common secret
		return reason.New(reason.CredentialRefused, "Its SNMP agent does not share the secrets of the user %s.", t.User)
	case errors.Is(err, syscall.ECONNREFUSED):
		return reason.New(reason.Refused, "No SNMP agent listens at %s.", t.Address)
	case errors.Is(err, gosnmp.ErrMaxRetriesExceeded):
		return reason.New(reason.ConnectTimeout, "No SNMP agent answered at %s.", t.Address)
	}
	return reason.New(reason.Protocol, "Its SNMP agent did not answer as it should: %w.", err)
}
