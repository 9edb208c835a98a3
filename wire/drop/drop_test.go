package drop

import (
	"bytes"
	"context"
	"encoding/binary"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
	"vergekeep/wire/conversation"
)

func receiver(t *testing.T) *Receiver {
	t.Helper()
	key, err := NewKey()
	require.NoError(t, err)
	r, err := Listen(Config{SFTP: "127.0.0.1:0", TFTP: "127.0.0.1:0", Key: key})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

func offer(t *testing.T, r *Receiver, by, sender string) (conversation.Drop, *url.URL) {
	t.Helper()
	d, err := r.For([]string{sender}).Offer(t.Context(), by)
	require.NoError(t, err)
	t.Cleanup(d.Close)
	u, err := url.Parse(d.URL())
	require.NoError(t, err)
	return d, u
}

func put(u *url.URL, data []byte) error {
	password, _ := u.User.Password()
	c, err := ssh.Dial("tcp", u.Host, &ssh.ClientConfig{User: u.User.Username(), Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: time.Minute})
	if err != nil {
		return err
	}
	defer c.Close()
	s, err := sftp.NewClient(c)
	if err != nil {
		return err
	}
	defer s.Close()
	f, err := s.Create(u.Path)
	if err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		return err
	}
	return f.Close()
}

func TestADropBySFTPArrivesOnce(t *testing.T) {
	r := receiver(t)
	d, u := offer(t, r, "sftp", "127.0.0.1:22")
	text := bytes.Repeat([]byte("interface port1\n"), 20_000)
	require.NoError(t, put(u, text))
	got, err := d.Wait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, text, got)
	require.Error(t, put(u, text), "a place takes one file")
}

func TestOnlyTheDeviceItselfMaySend(t *testing.T) {
	r := receiver(t)
	_, u := offer(t, r, "sftp", "192.0.2.7:22")
	require.Error(t, put(u, []byte("x")))
	d, u := offer(t, r, "tftp", "192.0.2.7:22")
	send(t, u, []byte("x"), 0)
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err := d.Wait(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	_, u = offer(t, r, "sftp", "127.0.0.1:22")
	u.User = url.UserPassword(u.User.Username(), "guessed")
	require.Error(t, put(u, []byte("x")))
	u.Path = "/other"
	require.Error(t, put(u, []byte("x")))
}

// send plays a device that copies by TFTP. It repeats each block repeats times,
// as one does whose acknowledgements are lost.
func send(t *testing.T, u *url.URL, data []byte, repeats int) {
	t.Helper()
	server, err := net.ResolveUDPAddr("udp", u.Host)
	require.NoError(t, err)
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer conn.Close()
	ask := append([]byte{0, opWrite}, strings.TrimPrefix(u.Path, "/")+"\x00octet\x00"...)
	_, err = conn.WriteToUDP(ask, server)
	require.NoError(t, err)
	buf := make([]byte, 600)
	for block := uint16(0); ; {
		_ = conn.SetReadDeadline(time.Now().Add(time.Minute))
		n, from, err := conn.ReadFromUDP(buf)
		require.NoError(t, err)
		if binary.BigEndian.Uint16(buf) == opError {
			return
		}
		require.Equal(t, 4, n)
		if binary.BigEndian.Uint16(buf) != opAck || binary.BigEndian.Uint16(buf[2:]) != block {
			continue
		}
		if block > 0 && len(data) < blockSize {
			return
		}
		if block > 0 {
			data = data[blockSize:]
		}
		block++
		packet := binary.BigEndian.AppendUint16([]byte{0, opData}, block)
		packet = append(packet, data[:min(len(data), blockSize)]...)
		for range repeats + 1 {
			_, err = conn.WriteToUDP(packet, from)
			require.NoError(t, err)
		}
	}
}

func TestADropByTFTPArrives(t *testing.T) {
	r := receiver(t)
	for _, size := range []int{0, 1, 511, 512, 513, 100_000} {
		d, u := offer(t, r, "tftp", "127.0.0.1:22")
		text := bytes.Repeat([]byte("k"), size)
		go send(t, u, text, size%2)
		got, err := d.Wait(t.Context())
		require.NoError(t, err, "%d bytes", size)
		assert.Len(t, got, size)
	}
}

func TestWithoutAListenerAPlaceIsRefused(t *testing.T) {
	r, err := Listen(Config{})
	require.NoError(t, err)
	defer r.Close()
	_, err = r.For([]string{"127.0.0.1:22"}).Offer(t.Context(), "tftp")
	assert.Equal(t, reason.NothingSent, reason.Of(err, ""))
}

func FuzzWriteRequest(f *testing.F) {
	f.Add([]byte("\x00\x02name\x00octet\x00"))
	f.Fuzz(func(t *testing.T, packet []byte) {
		if name, ok := writeRequest(packet); ok && strings.ContainsAny(name, "/\x00") {
			t.Fatalf("%q", name)
		}
	})
}
