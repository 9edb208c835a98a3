package standin

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"sync"

	"vergekeep/wire/netconf"
)

const (
	netconfNS = "urn:ietf:params:xml:ns:netconf:base:1.0"
	sounderNS = "urn:example:sounder:router"
)

// element is an XML element of a request or a configuration.
type element struct {
	XMLName  xml.Name
	Attrs    []xml.Attr `xml:",any,attr"`
	Text     string     `xml:",chardata"`
	Children []*element `xml:",any"`
}

func (e *element) child(name string) *element {
	for _, c := range e.Children {
		if c.XMLName.Local == name {
			return c
		}
	}
	return nil
}

func (e *element) operation() string {
	for _, a := range e.Attrs {
		if a.Name.Local == "operation" {
			return a.Value
		}
	}
	return ""
}

// write prints an element the way Sounder does: two blanks a level.
func (e *element) write(b *strings.Builder, indent string) {
	name := e.XMLName.Local
	b.WriteString(indent + "<" + name)
	if indent == "" {
		b.WriteString(` xmlns="` + sounderNS + `"`)
	}
	text := strings.TrimSpace(e.Text)
	switch {
	case len(e.Children) > 0:
		b.WriteString(">\n")
		for _, c := range e.Children {
			c.write(b, indent+"  ")
		}
		b.WriteString(indent + "</" + name + ">\n")
	case text != "":
		b.WriteString(">")
		_ = xml.EscapeText(b, []byte(text))
		b.WriteString("</" + name + ">\n")
	default:
		b.WriteString("/>\n")
	}
}

// netconf serves the NETCONF subsystem of a Sounder router.
func (s *session) netconf() int {
	d := s.d
	if d.currentFault() == MuteShell {
		s.stuck()
		return 1
	}
	f := netconf.NewFramer(s.ch, 4<<20)
	hello := `<?xml version="1.0" encoding="UTF-8"?>
<hello xmlns="` + netconfNS + `"><capabilities>` +
		`<capability>` + netconf.Base10 + `</capability><capability>` + netconf.Base11 + `</capability>` +
		`<capability>urn:ietf:params:netconf:capability:startup:1.0</capability>` +
		`<capability>urn:ietf:params:netconf:capability:candidate:1.0</capability>` +
		`<capability>urn:ietf:params:netconf:capability:notification:1.0</capability>` +
		`<capability>` + sounderNS + `?module=sounder-router</capability>` +
		`</capabilities><session-id>17</session-id></hello>`
	if f.WriteMessage([]byte(hello)) != nil {
		return 1
	}
	msg, err := f.ReadMessage()
	if err != nil {
		return 1
	}
	if strings.Contains(string(msg), netconf.Base11) {
		f.UseChunks()
	}
	var mu sync.Mutex // notifications come between answers
	write := func(text string) error {
		mu.Lock()
		defer mu.Unlock()
		return f.WriteMessage([]byte(text))
	}
	var told chan string
	defer func() {
		if told != nil {
			d.mu.Lock()
			delete(d.listening, told)
			d.mu.Unlock()
			close(told)
		}
	}()
	for {
		msg, err := f.ReadMessage()
		if err != nil {
			if err == io.EOF {
				return 0
			}
			return 1
		}
		var rpc element
		if err := xml.Unmarshal(msg, &rpc); err != nil || rpc.XMLName.Local != "rpc" || len(rpc.Children) != 1 {
			return 1
		}
		id := ""
		for _, a := range rpc.Attrs {
			if a.Name.Local == "message-id" {
				id = a.Value
			}
		}
		op := rpc.Children[0]
		switch fault := d.currentFault(); {
		case op.XMLName.Local != "get-config":
		case fault == BadChunk:
			_, _ = io.WriteString(s.ch, "\n#12x\n<rpc-reply/>\n##\n")
			s.stuck()
			return 1
		case fault == Endless:
			chunk := "\n#1000\n" + strings.Repeat("x", 1000)
			for s.ctx.Err() == nil {
				if _, err := io.WriteString(s.ch, chunk); err != nil {
					return 1
				}
			}
		case fault == EntityBomb:
			_ = f.WriteMessage([]byte(`<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]><rpc-reply xmlns="` + netconfNS + `" message-id="` + id + `"><data>&b;&b;&b;</data></rpc-reply>`))
			s.stuck()
			return 1
		}
		body, last := s.netconfCall(op)
		if body == "" {
			return 1 // a fault has ended the session
		}
		reply := `<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<rpc-reply xmlns="` + netconfNS + `" message-id="` + id + `">` + body + `</rpc-reply>`
		if write(reply) != nil {
			return 1
		}
		if op.XMLName.Local == "create-subscription" && told == nil {
			told = make(chan string, 64)
			d.mu.Lock()
			if d.listening == nil {
				d.listening = map[chan<- string]struct{}{}
			}
			d.listening[told] = struct{}{}
			d.mu.Unlock()
			go func(c <-chan string) {
				for note := range c {
					_ = write(note)
				}
			}(told)
		}
		if last {
			return 0
		}
	}
}

func rpcError(tag, message string) string {
	return `<rpc-error><error-type>application</error-type><error-tag>` + tag + `</error-tag><error-severity>error</error-severity><error-message>` + message + `</error-message></rpc-error>`
}

// netconfCall carries out one operation. The answer "" ends the session.
func (s *session) netconfCall(op *element) (answer string, last bool) {
	d := s.d
	switch op.XMLName.Local {
	case "close-session":
		return "<ok/>", true
	case "get":
		return fmt.Sprintf("<data><chassis xmlns=%q><name>%s</name><model>%s</model><serial>%s</serial><release>%s</release></chassis></data>",
			sounderNS, d.shownName(), d.Model, d.serial(), d.Version), false
	case "create-subscription":
		return "<ok/>", false
	case "get-config":
		source := "running"
		if src := op.child("source"); src != nil && len(src.Children) == 1 {
			source = src.Children[0].XMLName.Local
		}
		if source == "running" {
			s.wait()
		}
		if d.currentFault() == ErrorAnswer {
			return rpcError("resource-denied", "the datastore is locked"), false
		}
		text, fault := d.show(source == "startup", "", "", "")
		if fault == Hang || fault == HangUp || fault == Flood {
			// Announce a chunk and send half of it.
			_, _ = fmt.Fprintf(s.ch, "\n#%d\n<rpc-reply><data>%s", len(text)+4000, text)
			s.misbehave(fault)
			return "", true
		}
		return "<data>\n" + text + "</data>", false
	case "edit-config":
		target, config := op.child("target"), op.child("config")
		if target == nil || len(target.Children) != 1 || config == nil || len(config.Children) != 1 {
			return rpcError("missing-element", "edit-config needs a target and one root in config"), false
		}
		candidate := target.Children[0].XMLName.Local == "candidate"
		d.mu.Lock()
		text := d.running[""]
		if candidate && d.pending != nil {
			text = d.pending[""]
		}
		d.mu.Unlock()
		var root element
		if err := xml.Unmarshal([]byte(text), &root); err != nil {
			return rpcError("operation-failed", "the configuration is broken"), false
		}
		merge(&root, config.Children[0])
		var b strings.Builder
		root.write(&b, "")
		if candidate {
			d.mu.Lock()
			d.pending = map[string]string{"": b.String()}
			d.mu.Unlock()
		} else {
			d.Change(s.user, "", false, func(string) string { return b.String() })
		}
		return "<ok/>", false
	case "commit":
		d.mu.Lock()
		pending := d.pending
		d.pending = nil
		d.mu.Unlock()
		if pending != nil {
			d.Change(s.user, "", false, func(string) string { return pending[""] })
		}
		return "<ok/>", false
	case "copy-config":
		d.mu.Lock()
		d.keep()
		d.mu.Unlock()
		return "<ok/>", false
	}
	return rpcError("operation-not-supported", op.XMLName.Local+" is not known here"), false
}

// merge is the default operation of edit-config (RFC 6241, section 7.2), with
// delete and remove; list entries are told apart by their name or id.
func merge(into, from *element) {
	for _, c := range from.Children {
		at := -1
		for i, x := range into.Children {
			if x.XMLName.Local == c.XMLName.Local && sameKey(x, c) {
				at = i
				break
			}
		}
		switch op := c.operation(); {
		case op == "delete" || op == "remove":
			if at >= 0 {
				into.Children = append(into.Children[:at], into.Children[at+1:]...)
			}
		case at < 0 || op == "replace" || len(c.Children) == 0:
			if at < 0 {
				into.Children = append(into.Children, c)
			} else {
				into.Children[at] = c
			}
		default:
			merge(into.Children[at], c)
		}
	}
}

func sameKey(a, b *element) bool {
	for _, key := range []string{"name", "id"} {
		x, y := a.child(key), b.child(key)
		if x != nil && y != nil {
			return strings.TrimSpace(x.Text) == strings.TrimSpace(y.Text)
		}
	}
	return true
}
