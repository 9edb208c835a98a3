package netconf

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// Notifications is the capability of RFC 5277.
const Notifications = "urn:ietf:params:netconf:capability:notification:1.0"

// Notification is what a device tells a session that has subscribed (RFC 5277).
type Notification struct {
	Name string // of the element that says what happened
	At   time.Time
	// Values are the texts of the elements below it, by name; of several of a name
	// the first. An element without any is there with "".
	Values map[string]string
}

// Subscribe asks for notifications (RFC 5277, section 2.1.1). Afterwards only Next
// may be called.
func (s *Session) Subscribe() error {
	_, err := s.Call(`<create-subscription xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"/>`)
	return err
}

// Next waits for a notification; other messages are passed over.
func (s *Session) Next() (Notification, error) {
	for {
		msg, err := s.f.ReadMessage()
		if err != nil {
			return Notification{}, err
		}
		n, err := ReadNotification(msg)
		if !errors.Is(err, errOther) {
			return n, err
		}
	}
}

var errOther = errors.New("not a notification")

// maxValues bounds what is kept of a notification.
const maxValues = 200

// ReadNotification takes a notification apart.
func ReadNotification(msg []byte) (Notification, error) {
	n := Notification{Values: map[string]string{}}
	dec := xml.NewDecoder(bytes.NewReader(msg))
	depth, element := 0, ""
	var text strings.Builder
	keep := func() {
		said := strings.TrimSpace(text.String())
		text.Reset()
		if element == "eventTime" && depth == 2 {
			if at, err := time.Parse(time.RFC3339Nano, said); err == nil {
				n.At = at
			}
		} else if _, known := n.Values[element]; depth > 2 && !known && len(n.Values) < maxValues {
			n.Values[element] = said
		}
	}
	for {
		token, err := dec.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return n, fmt.Errorf("%w: a notification cannot be read: %w", ErrProtocol, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			if depth == 1 && t.Name.Local != "notification" {
				return n, errOther
			}
			element = t.Name.Local
			text.Reset()
			if depth == 2 && element != "eventTime" && n.Name == "" {
				n.Name = element
			}
		case xml.CharData:
			if text.Len() < 4096 {
				text.Write(t)
			}
		case xml.EndElement:
			if element == t.Name.Local { // it has no elements of its own
				keep()
			}
			element = ""
			depth--
		}
	}
	if n.Name == "" {
		return n, fmt.Errorf("%w: a notification says nothing", ErrProtocol)
	}
	return n, nil
}
