package telnet

import (
	"context"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/core/reason"
)

// against connects to a device that serve plays.
func against(t *testing.T, serve func(net.Conn)) *Conn {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		serve(c)
	}()
	c, err := Dial(t.Context(), Target{Addresses: []string{l.Addr().String()}, Connect: time.Minute, Silence: time.Minute})
	require.NoError(t, err)
	t.Cleanup(func() {
		_ = c.Close()
		_ = l.Close()
		<-done
	})
	return c
}

func TestOptionsAreAgreedOnce(t *testing.T) {
	heard := make(chan string, 1)
	c := against(t, func(peer net.Conn) {
		_, _ = peer.Write([]byte{cmdIAC, cmdWILL, optEcho, cmdIAC, cmdWILL, optSGA, cmdIAC, cmdDO, optWindow, cmdIAC, cmdDO, optType, cmdIAC, cmdSB, optType, 1, cmdIAC, cmdSE,
			cmdIAC, cmdDO, 99, cmdIAC, cmdWILL, 98, cmdIAC, cmdWILL, optEcho, 'h', 'i', cmdIAC, cmdIAC, '\r', 0, '\n'})
		_ = peer.SetReadDeadline(time.Now().Add(3 * time.Second))
		all, _ := io.ReadAll(peer)
		heard <- string(all)
	})
	_, err := c.Shell(300, 24)
	require.NoError(t, err)
	var got []byte
	for len(got) < 5 {
		p := make([]byte, 100)
		n, err := c.Read(p)
		require.NoError(t, err)
		got = append(got, p[:n]...)
	}
	assert.Equal(t, "hi\xff\r\n", string(got))
	_, err = c.Write([]byte("who\n\xff"))
	require.NoError(t, err)
	said := <-heard
	assert.Equal(t, 1, strings.Count(said, string([]byte{cmdIAC, cmdDO, optEcho})), "a repeated offer is not answered again")
	assert.Contains(t, said, string([]byte{cmdIAC, cmdSB, optWindow, 1, 44, 0, 24, cmdIAC, cmdSE}))
	assert.Contains(t, said, string([]byte{cmdIAC, cmdSB, optType, 0})+"VT100")
	assert.Contains(t, said, string([]byte{cmdIAC, cmdWONT, 99}))
	assert.Contains(t, said, string([]byte{cmdIAC, cmdDONT, 98}))
	assert.Contains(t, said, "who\r\n\xff\xff")
}

func TestAStormOfOptionsEnds(t *testing.T) {
	c := against(t, func(peer net.Conn) {
		go func() { _, _ = io.Copy(io.Discard, peer) }()
		for {
			if _, err := peer.Write([]byte{cmdIAC, cmdDO, 99, cmdIAC, cmdDONT, 99}); err != nil {
				return
			}
		}
	})
	_, err := io.ReadAll(c)
	require.Error(t, err)
	assert.Equal(t, reason.Protocol, reason.Of(c.Why(err), ""))
}

func TestSilenceAndTheEndAreTold(t *testing.T) {
	c := against(t, func(peer net.Conn) { _, _ = io.Copy(io.Discard, peer) })
	c.conn.SetSilence(50 * time.Millisecond)
	_, err := c.Read(make([]byte, 10))
	assert.Equal(t, reason.Hung, reason.Of(c.Why(err), ""))
	c = against(t, func(net.Conn) {})
	_, err = c.Read(make([]byte, 10))
	assert.Equal(t, reason.HungUp, reason.Of(c.Why(err), ""))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Dial(ctx, Target{Addresses: []string{"127.0.0.1:1"}, Connect: time.Second})
	assert.Equal(t, reason.Cancelled, reason.Of(err, ""))
}

// Two sides that follow RFC 1143 come to rest and agree, whoever asks for what
// and however the messages cross.
func TestNegotiationComesToRest(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sides := [2]*Conn{{}, {}}
		var wires [2][][2]byte // what is on its way to each side
		ask := func(who int, option byte, mine bool) {
			state, verb := &sides[who].theirs[option], byte(cmdDO)
			if mine {
				state, verb = &sides[who].ours[option], cmdWILL
			}
			if *state == no {
				*state = wantYes
				wires[1-who] = append(wires[1-who], [2]byte{verb, option})
			}
		}
		options := rapid.SampledFrom([]byte{optEcho, optSGA, optWindow, 99})
		for steps := 0; steps < 60 || len(wires[0])+len(wires[1]) > 0; steps++ {
			if steps > 1000 {
				t.Fatal("it goes on for ever")
			}
			who := rapid.IntRange(0, 1).Draw(t, "who")
			if steps < 20 && rapid.Bool().Draw(t, "ask") {
				ask(who, options.Draw(t, "option"), rapid.Bool().Draw(t, "mine"))
			}
			if len(wires[who]) == 0 {
				who = 1 - who
			}
			if len(wires[who]) == 0 {
				continue
			}
			m := wires[who][0]
			wires[who] = wires[who][1:]
			if answer := sides[who].answer(m[0], m[1]); answer != 0 {
				wires[1-who] = append(wires[1-who], [2]byte{answer, m[1]})
			}
		}
		for option := range 256 {
			if sides[0].ours[option] != sides[1].theirs[option] || sides[1].ours[option] != sides[0].theirs[option] {
				t.Fatalf("they do not agree on option %d", option)
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte{cmdIAC, cmdSB, optType, 1, cmdIAC, cmdSE, 'x', cmdIAC, cmdDO, optWindow})
	f.Fuzz(func(t *testing.T, in []byte) {
		ours, theirs := net.Pipe()
		go func() {
			_, _ = theirs.Write(in)
			_ = theirs.Close()
		}()
		go func() { _, _ = io.Copy(io.Discard, theirs) }()
		c := newConn(t.Context(), ours, time.Second, "test")
		out, _ := io.ReadAll(c)
		if len(out) > len(in) {
			t.Fatalf("%d bytes from %d", len(out), len(in))
		}
		_ = c.Close()
	})
}
