// Package drop receives the files of devices that can only copy themselves
// out: by SFTP, or by TFTP (RFC 1350), which is unprotected and off unless
// asked for. Every place takes one file, under a name that nobody can guess,
// once, from the device that it is for, for as long as the visit waits.
package drop

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"

	"vergekeep/core/reason"
	"vergekeep/wire/conversation"
)

// MaxFile is how large a file may be, in bytes.
const MaxFile = 32 << 20

// Config says where drops are taken; a part whose address is empty is off.
type Config struct {
	SFTP string // address to listen on
	TFTP string
	Host string // by which devices reach us; the address of the listener if left out
	Key  []byte // of the SFTP server, in the PEM form
}

// Receiver takes drops. Close it when done.
type Receiver struct {
	host   string
	sftp   *sftpServer
	tftp   *tftpServer
	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup

	mu     sync.Mutex
	places map[string]*place // by token
}

// place waits for one file.
type place struct {
	token, password string
	by              string
	from            map[netip.Addr]bool // senders that may
	file            chan result
	once            sync.Once
	r               *Receiver
}

type result struct {
	data []byte
	err  error
}

// Listen starts to take drops.
func Listen(c Config) (*Receiver, error) {
	r := &Receiver{host: c.Host, places: map[string]*place{}}
	r.ctx, r.cancel = context.WithCancel(context.Background())
	if c.SFTP != "" {
		if err := r.listenSFTP(c.SFTP, c.Key); err != nil {
			r.cancel()
			return nil, fmt.Errorf("drops by SFTP: %w", err)
		}
	}
	if c.TFTP != "" {
		if err := r.listenTFTP(c.TFTP); err != nil {
			r.Close()
			return nil, fmt.Errorf("drops by TFTP: %w", err)
		}
	}
	return r, nil
}

// Close stops taking drops and waits until all is quiet.
func (r *Receiver) Close() {
	r.cancel()
	if r.sftp != nil {
		r.sftp.close()
	}
	if r.tftp != nil {
		_ = r.tftp.conn.Close()
	}
	r.wg.Wait()
}

// For makes the places of one device: only its own addresses may send.
func (r *Receiver) For(addresses []string) conversation.Drops { return &forDevice{r, addresses} }

type forDevice struct {
	r         *Receiver
	addresses []string
}

// Offer opens a place.
func (d *forDevice) Offer(ctx context.Context, by string) (conversation.Drop, error) {
	r := d.r
	if by == "sftp" && r.sftp == nil || by == "tftp" && r.tftp == nil {
		return nil, reason.New(reason.NothingSent, "This platform copies its configuration to the service by %s, which takes no drops by it.", by)
	}
	p := &place{token: token(12), password: token(16), by: by, from: map[netip.Addr]bool{}, file: make(chan result, 1), r: r}
	for _, address := range d.addresses {
		host, _, err := net.SplitHostPort(address)
		if err != nil {
			host = address
		}
		if literal, err := netip.ParseAddr(host); err == nil {
			p.from[literal.Unmap().WithZone("")] = true
			continue
		}
		found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		if err != nil {
			return nil, reason.New(reason.NameUnknown, "The name %s is not known: %w.", host, err)
		}
		for _, a := range found {
			p.from[a.Unmap()] = true
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.places[p.token] = p
	return p, nil
}

func token(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// URL is what the device's copy command names.
func (p *place) URL() string {
	if p.by == "tftp" {
		return fmt.Sprintf("tftp://%s/%s", p.r.reach(p.r.tftp.conn.LocalAddr()), p.token)
	}
	return fmt.Sprintf("sftp://%s:%s@%s/%s", p.token, p.password, p.r.reach(p.r.sftp.listener.Addr()), p.token)
}

func (r *Receiver) reach(addr net.Addr) string {
	host, port, err := net.SplitHostPort(addr.String())
	if err != nil {
		return addr.String()
	}
	if r.host != "" {
		host = r.host
	}
	return net.JoinHostPort(host, port)
}

// Wait returns the file when it is whole.
func (p *place) Wait(ctx context.Context) ([]byte, error) {
	select {
	case f := <-p.file:
		return f.data, f.err
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-p.r.ctx.Done():
		return nil, errors.New("the service is stopping")
	}
}

// Close takes nothing more.
func (p *place) Close() {
	p.r.mu.Lock()
	defer p.r.mu.Unlock()
	delete(p.r.places, p.token)
}

// deliver hands the file over, once.
func (p *place) deliver(data []byte, err error) {
	p.once.Do(func() {
		p.file <- result{data, err}
		p.Close()
	})
}

// find is the place of a token for a sender, or nil.
func (r *Receiver) find(by, token string, sender net.Addr) *place {
	from, err := netip.ParseAddrPort(sender.String())
	if err != nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	p := r.places[token]
	if p == nil || p.by != by || !p.from[from.Addr().Unmap().WithZone("")] {
		return nil
	}
	return p
}

var errTooLarge = reason.New(reason.Flood, "It sends a file of more than %d MiB.", MaxFile>>20)
