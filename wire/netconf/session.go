package netconf

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// Session is a client's side of a NETCONF session. It does one call at a time.
type Session struct {
	f            *Framer
	Capabilities []string // what the device announced
	ID           string   // the device's number for this session
	next         int
}

// ErrProtocol is wrapped where the device does not speak NETCONF as it should.
var ErrProtocol = errors.New("not NETCONF as RFC 6241 has it")

// RPCError is an error answer of the device (RFC 6241, section 4.3).
type RPCError struct{ Type, Tag, Severity, Message string }

func (e *RPCError) Error() string {
	if e.Message == "" {
		return e.Tag
	}
	return e.Tag + ": " + e.Message
}

// Open exchanges hellos and settles the framing (RFC 6242, section 4.1).
func Open(rw io.ReadWriter, limit int) (*Session, error) {
	s := &Session{f: NewFramer(rw, limit)}
	hello := xml.Header + `<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>` + Base10 +
		`</capability><capability>` + Base11 + `</capability></capabilities></hello>`
	if err := s.f.WriteMessage([]byte(hello)); err != nil {
		return nil, err
	}
	msg, err := s.f.ReadMessage()
	if err != nil {
		return nil, err
	}
	var h struct {
		XMLName      xml.Name `xml:"hello"`
		Capabilities []string `xml:"capabilities>capability"`
		ID           string   `xml:"session-id"`
	}
	if err := xml.Unmarshal(msg, &h); err != nil {
		return nil, fmt.Errorf("%w: the hello cannot be read: %w", ErrProtocol, err)
	}
	for _, c := range h.Capabilities {
		s.Capabilities = append(s.Capabilities, strings.TrimSpace(c))
	}
	s.ID = h.ID
	switch {
	case s.Has(Base11):
		s.f.UseChunks()
	case !s.Has(Base10):
		return nil, fmt.Errorf("%w: the hello announces neither base:1.0 nor base:1.1", ErrProtocol)
	}
	time.Sleep(afterHello)
	return s, nil
}

// afterHello keeps the first operation from arriving together with our hello:
// there are agents that then read the hello and never the operation.
const afterHello = 25 * time.Millisecond

// Has reports whether the device announced a capability; parameters after "?"
// do not count.
func (s *Session) Has(capability string) bool {
	for _, c := range s.Capabilities {
		c, _, _ = strings.Cut(c, "?")
		if c == capability {
			return true
		}
	}
	return false
}

// Call sends an operation and returns what stands inside the reply's data
// element, byte for byte; for a plain ok it is empty. An error answer is an
// [*RPCError].
func (s *Session) Call(operation string) (string, error) {
	s.next++
	id := strconv.Itoa(s.next)
	rpc := xml.Header + `<rpc xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="` + id + `">` + operation + `</rpc>`
	if err := s.f.WriteMessage([]byte(rpc)); err != nil {
		return "", err
	}
	msg, err := s.f.ReadMessage()
	if err != nil {
		return "", err
	}
	return parseReply(msg, id)
}

// parseReply takes a reply apart without changing a byte of its data.
func parseReply(msg []byte, id string) (string, error) {
	dec := xml.NewDecoder(bytes.NewReader(msg))
	depth := 0
	dataFrom := int64(-1)
	data, seen := "", false
	var rpcError *RPCError
	for {
		before := dec.InputOffset()
		token, err := dec.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return "", fmt.Errorf("%w: the reply cannot be read: %w", ErrProtocol, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			seen = true
			switch {
			case depth == 1:
				if t.Name.Local != "rpc-reply" {
					return "", fmt.Errorf("%w: a %s came where a reply was due", ErrProtocol, t.Name.Local)
				}
				for _, a := range t.Attr {
					if a.Name.Local == "message-id" && a.Value != id {
						return "", fmt.Errorf("%w: the reply is to message %s, not %s", ErrProtocol, a.Value, id)
					}
				}
			case depth == 2 && t.Name.Local == "rpc-error":
				var e struct {
					Type     string `xml:"error-type"`
					Tag      string `xml:"error-tag"`
					Severity string `xml:"error-severity"`
					Message  string `xml:"error-message"`
				}
				if err := dec.DecodeElement(&e, &t); err != nil {
					return "", fmt.Errorf("%w: the error answer cannot be read: %w", ErrProtocol, err)
				}
				depth--
				if strings.TrimSpace(e.Severity) != "warning" && rpcError == nil {
					rpcError = &RPCError{strings.TrimSpace(e.Type), strings.TrimSpace(e.Tag), strings.TrimSpace(e.Severity), strings.TrimSpace(e.Message)}
				}
			case depth == 2 && t.Name.Local == "data":
				dataFrom = dec.InputOffset()
			}
		case xml.EndElement:
			if depth == 2 && t.Name.Local == "data" && dataFrom >= 0 {
				data = string(msg[dataFrom:max(before, dataFrom)])
			}
			depth--
		}
	}
	if depth != 0 || !seen {
		return "", fmt.Errorf("%w: the reply ends early", ErrProtocol)
	}
	if rpcError != nil {
		return "", rpcError
	}
	return data, nil
}

// Close ends the session politely (RFC 6241, section 7.8).
func (s *Session) Close() error {
	_, err := s.Call("<close-session/>")
	return err
}
