package drop

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"path"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

type sftpServer struct {
	listener net.Listener
	key      ssh.Signer

	mu    sync.Mutex
	conns map[net.Conn]bool
}

// NewKey makes a host key, in the PEM form.
func NewKey() ([]byte, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(block), nil
}

// maxSenders is how many may be connected at a time.
const maxSenders = 256

func (r *Receiver) listenSFTP(address string, key []byte) error {
	signer, err := ssh.ParsePrivateKey(key)
	if err != nil {
		return errors.New("its host key cannot be read")
	}
	var lc net.ListenConfig
	l, err := lc.Listen(r.ctx, "tcp", address)
	if err != nil {
		return err
	}
	r.sftp = &sftpServer{listener: l, key: signer, conns: map[net.Conn]bool{}}
	r.wg.Go(func() {
		for {
			c, err := l.Accept()
			if errors.Is(err, net.ErrClosed) || r.ctx.Err() != nil {
				if c != nil {
					_ = c.Close()
				}
				return
			}
			if err != nil {
				time.Sleep(10 * time.Millisecond)
				continue
			}
			if !r.sftp.enter(c) {
				_ = c.Close()
				continue
			}
			r.wg.Go(func() {
				defer r.sftp.leave(c)
				r.serveSFTP(c)
			})
		}
	})
	return nil
}

func (s *sftpServer) enter(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.conns) >= maxSenders {
		return false
	}
	s.conns[c] = true
	return true
}

func (s *sftpServer) leave(c net.Conn) {
	_ = c.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.conns, c)
}

func (s *sftpServer) close() {
	_ = s.listener.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		_ = c.Close()
	}
}

var errUnknown = errors.New("no such place")

func (r *Receiver) serveSFTP(c net.Conn) {
	_ = c.SetDeadline(time.Now().Add(10 * time.Minute))
	var p *place
	conf := &ssh.ServerConfig{MaxAuthTries: 2, PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		found := r.find("sftp", m.User(), c.RemoteAddr())
		if found == nil || subtle.ConstantTimeCompare(password, []byte(found.password)) != 1 {
			return nil, errUnknown
		}
		p = found
		return nil, nil
	}}
	conf.AddHostKey(r.sftp.key)
	conn, channels, requests, err := ssh.NewServerConn(c, conf)
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		for q := range reqs {
			ok := q.Type == "subsystem" && len(q.Payload) > 4 && string(q.Payload[4:]) == "sftp"
			if q.WantReply {
				_ = q.Reply(ok, nil)
			}
			if ok {
				server := sftp.NewRequestServer(ch, sftp.Handlers{FileGet: nothing{}, FilePut: putter{p}, FileCmd: nothing{}, FileList: nothing{}})
				_ = server.Serve()
				_ = server.Close()
				break
			}
		}
		_ = ch.Close()
	}
}

// nothing refuses all but writing.
type nothing struct{}

func (nothing) Fileread(*sftp.Request) (io.ReaderAt, error) {
	return nil, sftp.ErrSSHFxPermissionDenied
}
func (nothing) Filecmd(*sftp.Request) error                   { return nil } // times and modes of the file: as it likes
func (nothing) Filelist(*sftp.Request) (sftp.ListerAt, error) { return nil, sftp.ErrSSHFxNoSuchFile }

type putter struct{ p *place }

func (w putter) Filewrite(q *sftp.Request) (io.WriterAt, error) {
	if path.Base(q.Filepath) != w.p.token {
		return nil, sftp.ErrSSHFxPermissionDenied
	}
	return &upload{p: w.p}, nil
}

// upload is a file on its way. It is whole when it is closed, without a hole.
type upload struct {
	p    *place
	mu   sync.Mutex
	data []byte
	have int // bytes written in all
	bad  error
}

// WriteAt takes a piece.
func (u *upload) WriteAt(b []byte, at int64) (int, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	end := at + int64(len(b))
	if at < 0 || end > MaxFile {
		u.bad = errTooLarge
		return 0, errTooLarge
	}
	for int64(len(u.data)) < end {
		u.data = append(u.data, make([]byte, end-int64(len(u.data)))...)
	}
	copy(u.data[at:end], b)
	u.have += len(b)
	return len(b), nil
}

// TransferError is told when the transfer broke off.
func (u *upload) TransferError(err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.bad = err
}

// Close is the end of the file.
func (u *upload) Close() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	switch {
	case u.bad != nil:
		u.p.deliver(nil, u.bad)
	case u.have < len(u.data):
		u.p.deliver(nil, io.ErrUnexpectedEOF)
	default:
		u.p.deliver(u.data, nil)
	}
	return nil
}
