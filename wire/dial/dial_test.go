package dial

import (
	"context"
	"errors"
	"net"
	"runtime"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
)

// network answers by address: an error at once, or a connection after a while.
type network map[string]any

func (n network) connect(ctx context.Context, address string) (net.Conn, error) {
	switch answer := n[address].(type) {
	case error:
		return nil, answer
	case time.Duration:
		select {
		case <-time.After(answer):
			a, _ := net.Pipe()
			return a, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	<-ctx.Done()
	return nil, ctx.Err()
}

func TestTheFirstAddressThatAnswersWins(t *testing.T) {
	for name, c := range map[string]struct {
		net  network
		want string
	}{
		"a refusal starts the next at once":   {network{"[2001:db8::7]:22": syscall.ECONNREFUSED, "192.0.2.7:22": time.Duration(0)}, "192.0.2.7:22"},
		"silence starts the next beside it":   {network{"192.0.2.7:22": 10 * time.Millisecond}, "192.0.2.7:22"},
		"the sixth version goes first":        {network{"[2001:db8::7]:22": time.Duration(0), "192.0.2.7:22": time.Duration(0)}, "[2001:db8::7]:22"},
		"a zone is part of the address":       {network{"[fe80::1%eth0]:22": time.Duration(0)}, "[fe80::1%eth0]:22"},
		"a slow one may still come in second": {network{"[2001:db8::7]:22": 400 * time.Millisecond}, "[2001:db8::7]:22"},
	} {
		t.Run(name, func(t *testing.T) {
			conn, at, err := Race(t.Context(), []string{"192.0.2.7:22", "[2001:db8::7]:22", "[fe80::1%eth0]:22"}, 2*time.Second, c.net.connect)
			require.NoError(t, err)
			assert.Equal(t, c.want, at)
			require.NoError(t, conn.Close())
		})
	}
}

func TestTheFailureThatTellsMostIsReported(t *testing.T) {
	_, _, err := Race(t.Context(), []string{"192.0.2.7:22", "192.0.2.8:22"}, time.Second, network{"192.0.2.7:22": syscall.ECONNREFUSED, "192.0.2.8:22": syscall.EHOSTUNREACH}.connect)
	assert.Equal(t, reason.Refused, reason.Of(err, ""))
	_, _, err = Race(t.Context(), []string{"192.0.2.7:22", "192.0.2.8:22"}, time.Second, network{"192.0.2.7:22": syscall.ECONNRESET, "192.0.2.8:22": syscall.ECONNREFUSED}.connect)
	assert.Equal(t, reason.HungUp, reason.Of(err, ""))
	_, _, err = Race(t.Context(), []string{"192.0.2.7:22"}, 20*time.Millisecond, network{}.connect)
	assert.Equal(t, reason.ConnectTimeout, reason.Of(err, ""))
	_, _, err = Race(t.Context(), []string{"no..such.device:22"}, time.Second, network{}.connect)
	assert.Equal(t, reason.NameUnknown, reason.Of(err, ""), "%v", err)
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(reason.New(reason.TooLong, "The visit took too long."))
	_, _, err = Race(ctx, []string{"192.0.2.7:22"}, time.Second, network{}.connect)
	assert.Equal(t, reason.TooLong, reason.Of(err, ""))
}

func TestNobodyIsLeftBehind(t *testing.T) {
	before := runtime.NumGoroutine()
	for range 20 {
		conn, _, err := Race(t.Context(), []string{"192.0.2.7:22", "[2001:db8::7]:22"}, time.Second, network{"192.0.2.7:22": 300 * time.Millisecond, "[2001:db8::7]:22": errors.New("no route")}.connect)
		if err == nil {
			_ = conn.Close()
		}
	}
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+1 }, time.Minute, 10*time.Millisecond)
}
