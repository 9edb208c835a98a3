package cli_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/standin"
	"vergekeep/standin/scenario"
)

// service starts the binary and waits until it is ready.
// said is what a program has written so far.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

func service(t *testing.T, binary, data, listen string) (cmd *exec.Cmd, url string, first *said) {
	t.Helper()
	cmd = exec.Command(binary, "serve", "--syslog-udp=", "--syslog-tcp=", "--traps=", "--data", data, "--listen", listen, "--concurrency", "4")
	log, err := cmd.StderrPipe()
	require.NoError(t, err)
	first = &said{}
	cmd.Stdout = first
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	lines := bufio.NewScanner(log)
	for lines.Scan() {
		if m := regexp.MustCompile(`msg=ready url=(\S+)`).FindStringSubmatch(lines.Text()); m != nil {
			go func() {
				for lines.Scan() {
					continue
				}
			}()
			return cmd, m[1], first
		}
	}
	t.Fatal("the service did not get ready")
	return nil, "", nil
}

// kills is at how many random moments the service is killed.
const kills = 50

// TestACrashLosesNothing kills the service with signal 9 at random moments of
// rounds. After each restart the archive is whole, what was reported as done is
// there, and the interrupted round goes on.
func TestACrashLosesNothing(t *testing.T) {
	binary := filepath.Join(t.TempDir(), "vergekeep")
	out, err := exec.Command("go", "build", "-o", binary, "../cmd/vergekeep").CombinedOutput()
	require.NoError(t, err, "%s", out)
	data := t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	listen := l.Addr().String() // the same at each start, as the token belongs to it
	require.NoError(t, l.Close())
	cmd, url, first := service(t, binary, data, listen)
	require.Eventually(t, func() bool { return strings.Contains(first.String(), "not shown again") }, time.Minute, 10*time.Millisecond)
	password := strings.TrimSpace(strings.Split(first.String(), "\n")[2])
	s := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
	run := func(stdin string, args ...string) string {
		status, out, said := s.run(stdin, append([]string{"--server", url}, args...)...)
		require.Zero(t, status, "%v: %s", args, said)
		return out
	}
	run(password+"\nanother-password\n", "login", url, "--account", "admin")
	run(scenario.Password+"\n"+scenario.Elevation+"\n", "credential", "add", "keeper", "--user", scenario.User, "--elevation")
	devices := standin.NewFleet()
	defer devices.Close()
	const many = 20
	var all []*standin.Device
	for i := 1; i <= many; i++ {
		d := scenario.New().Device(fmt.Sprintf("t%02d-rt-1", i))
		d.Delay = 60 * time.Millisecond
		addr, err := devices.Add(d)
		require.NoError(t, err)
		run("", "device", "add", d.Name, "--platform", "sounder", "--address", addr)
		all = append(all, d)
	}
	type round struct {
		ID, Planned, New, Unchanged, Failed, PassedOver int
		State                                           string
	}
	newest := func() round {
		var list []round
		require.NoError(t, json.Unmarshal([]byte(run("", "--format", "json", "round", "list", "--limit", "1")), &list))
		if len(list) == 0 {
			return round{State: "done"}
		}
		return list[0]
	}
	random := rand.New(rand.NewPCG(11, 23))
	interrupted := 0
	for i := range kills {
		if newest().State == "done" {
			for _, d := range all {
				d.Change("somebody", "", false, func(text string) string {
					return strings.Replace(text, "</router>", fmt.Sprintf("<note>%d</note>\n</router>", i), 1)
				})
			}
			run("", "round", "start", "--detach")
		}
		time.Sleep(time.Duration(random.IntN(250)) * time.Millisecond) // somewhere, wherever that is
		before := newest()
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		cmd, _, _ = service(t, binary, data, listen)
		after := newest()
		if before.State == "running" {
			interrupted++
		}
		require.Equal(t, before.ID, after.ID, "kill %d", i)
		require.GreaterOrEqual(t, after.New, before.New, "kill %d: what was reported as done is there", i)
		require.GreaterOrEqual(t, after.Unchanged, before.Unchanged, "kill %d", i)
		if after.Failed > 0 {
			_, out, _ := s.run("", "--server", url, "round", "show")
			require.Fail(t, "a crash is no failure of a device", "kill %d: %s", i, out)
		}
		require.Contains(t, run("", "archive", "check"), "The archive is whole.", "kill %d", i)
	}
	t.Logf("killed %d times, %d of them in the middle of a round", kills, interrupted)
	assert.Greater(t, interrupted, kills/4)
	require.Eventually(t, func() bool { return newest().State == "done" }, time.Minute, 50*time.Millisecond)
	last := newest()
	assert.Equal(t, many, last.New+last.Unchanged, "the interrupted round was finished: %+v", last)
}
