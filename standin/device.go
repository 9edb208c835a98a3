package standin

import (
	"crypto/ed25519"
	"crypto/sha256"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Platform is one of the made-up platforms.
type Platform string

// The platforms, one for each way in which configurations are written.
const (
	Tidegate Platform = "tidegate" // indented sections
	Capstan  Platform = "capstan"  // braces
	Coaming  Platform = "coaming"  // flat lines
	Sounder  Platform = "sounder"  // XML over NETCONF
)

// Fault is a way in which a stand-in misbehaves.
type Fault string

// The faults.
const (
	NoFault       Fault = ""
	Mute          Fault = "mute"           // accepts the connection and says nothing
	MuteShell     Fault = "mute-shell"     // lets one in and says nothing
	Hang          Fault = "hang"           // stops in the middle of the configuration
	HangUp        Fault = "hang-up"        // closes in the middle of the configuration
	Flood         Fault = "flood"          // never stops sending
	ErrorAnswer   Fault = "error-answer"   // answers the configuration command with an error
	NoPrompt      Fault = "no-prompt"      // never shows a prompt
	FakePrompt    Fault = "fake-prompt"    // shows its prompt inside banner and configuration
	CutShort      Fault = "cut-short"      // ends the configuration early, without its end sign
	Shrunk        Fault = "shrunk"         // shows a complete but far too short configuration
	ForeignNames  Fault = "foreign-names"  // says it is another device
	NotAllowed    Fault = "not-allowed"    // does not show its configuration to this account
	Moving        Fault = "moving"         // is changed while it is read
	BadText       Fault = "bad-text"       // sends bytes that are no text
	OneByte       Fault = "one-byte"       // sends one byte at a time, slowly
	NewPrompt     Fault = "new-prompt"     // changes its prompt on the way
	StubbornPager Fault = "stubborn-pager" // pages although that was turned off
	LongBanner    Fault = "long-banner"    // greets with ten thousand lines
	Expired       Fault = "expired"        // says that the password has expired
	AsksForCode   Fault = "asks-for-code"  // asks for a second factor
	ServerDown    Fault = "server-down"    // cannot reach its login server
	Busy          Fault = "busy"           // has no session left
	OldOnly       Fault = "old-only"       // offers only algorithms that are no longer safe
	NotSSH        Fault = "not-ssh"        // speaks something else
	HalfLogin     Fault = "half-login"     // stops in the middle of the login
	ResetAtOnce   Fault = "reset-at-once"  // resets the connection when it is accepted
	ResetAtLogin  Fault = "reset-at-login"
	ResetAtShell  Fault = "reset-at-shell"
	BadChunk      Fault = "bad-chunk"    // NETCONF: a chunk of a wrong length
	Endless       Fault = "endless"      // NETCONF: a message without end
	EntityBomb    Fault = "entity-bomb"  // NETCONF: an entity that expands
	OptionStorm   Fault = "option-storm" // Telnet: negotiates without end
)

// Device is one simulated device. Set the exported fields before it is added
// to a fleet; afterwards only its methods may be used.
type Device struct {
	Name     string
	Platform Platform
	Model    string
	Serial   string
	Version  string

	User, Password string
	Elevation      string        // secret of the elevated mode, where there is one
	Delay          time.Duration // before the running configuration is shown
	LineDelay      time.Duration // after each line of it
	KeyEpoch       int           // another number, another host key
	Addr           string        // to listen on; a free loopback port if empty
	Telnet         bool          // it speaks Telnet, not SSH
	LeftInEdit     bool          // Telnet: a console port, with somebody's session half-way through an edit

	// Outlet is what the device tells of itself with: nil for a device that says
	// nothing.
	Outlet func(Said)

	// Config is the running configuration to start with, by part; most devices
	// have the one part "".
	Config map[string]string

	mu        sync.Mutex
	running   map[string]string
	startup   map[string]string
	pending   map[string]string // changed but not applied
	changedAt time.Time
	changedBy string
	keptAt    time.Time
	fault     Fault
	clock     func() time.Time
	shows     int
	changes   int
	listening map[chan<- string]struct{} // sessions that want to be notified
}

func (d *Device) init() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.clock == nil {
		d.clock = time.Now
	}
	if d.running == nil {
		d.running, d.startup = map[string]string{}, map[string]string{}
		for part, text := range d.Config {
			d.running[part], d.startup[part] = text, text
		}
		d.changedAt, d.keptAt, d.changedBy = d.clock(), d.clock(), d.User
	}
}

// SetClock replaces the device's clock.
func (d *Device) SetClock(now func() time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.clock = now
}

// SetFault makes the device misbehave, or behave again.
func (d *Device) SetFault(f Fault) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fault = f
}

// SetDelay changes how long the device takes before it shows a configuration.
func (d *Device) SetDelay(delay time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.Delay = delay
}

// SetPassword changes the login password.
func (d *Device) SetPassword(password string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.Password = password
}

// Replace puts a spare in the device's place: new serial number and host key.
func (d *Device) Replace(serial string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.Serial = serial
	d.KeyEpoch++
}

// NewHostKey gives the device another host key.
func (d *Device) NewHostKey() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.KeyEpoch++
}

// Change edits the running configuration of a part as somebody would who is
// logged in; save also keeps it as the startup configuration.
func (d *Device) Change(by, part string, save bool, edit func(string) string) {
	d.init()
	d.mu.Lock()
	d.running[part] = edit(d.running[part])
	d.changes++
	d.changedAt, d.changedBy = d.clock(), by
	if save {
		d.keep()
	}
	d.mu.Unlock()
	d.tell(by)
}

func (d *Device) keep() {
	for part, text := range d.running {
		d.startup[part] = text
	}
	d.keptAt = d.clock()
}

// Running is the running configuration of a part, as the device holds it.
func (d *Device) Running(part string) string {
	d.init()
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.running[part]
}

func (d *Device) currentFault() Fault {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.fault
}

// hostKey derives the device's key from its name, so that it stays the same
// from one start to the next.
func (d *Device) hostKey() (ssh.Signer, error) {
	d.mu.Lock()
	seed := sha256.Sum256(fmt.Appendf(nil, "stand-in host key %s %d", d.Name, d.KeyEpoch))
	d.mu.Unlock()
	return ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed[:]))
}

// HostKey is the device's public host key in the authorized-keys form.
func (d *Device) HostKey() (string, error) {
	s, err := d.hostKey()
	if err != nil {
		return "", err
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey()))), nil
}

// sealMark stands in a stored configuration before a password that the device
// only shows sealed with a new salt each time.
const sealMark = "seal:"

// sealed writes every sealed password anew.
func (d *Device) sealed(text string) string {
	if !strings.Contains(text, sealMark) {
		return text
	}
	d.mu.Lock()
	d.shows++
	salt := fmt.Sprintf("%06x", (d.shows*7919+len(d.Name)*104729)&0xffffff)
	d.mu.Unlock()
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(text, sealMark)
		b.WriteString(before)
		if !ok {
			return b.String()
		}
		end := strings.IndexAny(rest, " ;<\n")
		if end < 0 {
			end = len(rest)
		}
		sum := sha256.Sum256([]byte(salt + rest[:end]))
		fmt.Fprintf(&b, "%s.%x", salt, sum[:12])
		text = rest[end:]
	}
}

// show is what the device prints for a configuration, faults included. The
// second result says that the session has to stop after it in the way of fault.
func (d *Device) show(startup bool, part, first, last string) (text string, fault Fault) {
	d.mu.Lock()
	body, fault := d.running[part], d.fault
	if startup {
		body = d.startup[part]
	}
	d.mu.Unlock()
	switch fault {
	case Shrunk:
		body = cut(body, 6)
	case CutShort:
		half := body[:len(body)/2]
		return first + d.sealed(half[:strings.LastIndexByte(half, '\n')+1]), NoFault
	case Hang, HangUp, Flood:
		return first + d.sealed(body[:len(body)/2]), fault
	}
	return first + d.sealed(body) + last, NoFault
}

// cut keeps about one line in n, from the start, as whole top-level sections.
func cut(text string, n int) string {
	lines := strings.SplitAfter(text, "\n")
	keep := len(lines) / n
	for keep < len(lines) && (strings.HasPrefix(lines[keep], " ") || strings.HasPrefix(lines[keep], "}")) {
		keep++
	}
	return strings.Join(lines[:keep], "")
}

func (d *Device) shownName() string {
	if d.currentFault() == ForeignNames {
		return "spare-7"
	}
	return d.Name
}

func (d *Device) serial() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.fault == ForeignNames {
		return "XX-00000"
	}
	return d.Serial
}

// lastChange is when the configuration was changed last.
func (d *Device) lastChange() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return fmt.Sprintf("%s #%d", d.changedAt.UTC().Format("2006-01-02 15:04:05"), d.changes)
}

// stamp is the time and account of the last change, or of the last keeping.
func (d *Device) stamp(startup bool) (at, by string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if startup {
		return d.keptAt.UTC().Format("2006-01-02 15:04:05"), d.changedBy
	}
	return d.changedAt.UTC().Format("2006-01-02 15:04:05"), d.changedBy
}
