package cli_test

import (
	"bufio"
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/standin"
	"vergekeep/standin/scenario"
)

// service starts the binary and waits until it is ready.
func service(t *testing.T, binary, data string) (cmd *exec.Cmd, url string, first *bytes.Buffer) {
	t.Helper()
	cmd = exec.Command(binary, "serve", "--data", data, "--listen", "127.0.0.1:0", "--concurrency", "4")
	log, err := cmd.StderrPipe()
	require.NoError(t, err)
	first = &bytes.Buffer{}
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

// TestACrashLosesNothing kills the service with signal 9 in the middle of a
// round, several times, and asks what is left.
func TestACrashLosesNothing(t *testing.T) {
	binary := filepath.Join(t.TempDir(), "vergekeep")
	out, err := exec.Command("go", "build", "-o", binary, "../cmd/vergekeep").CombinedOutput()
	require.NoError(t, err, "%s", out)
	data := t.TempDir()
	cmd, url, first := service(t, binary, data)
	require.Eventually(t, func() bool { return strings.Contains(first.String(), "not shown again") }, 10*time.Second, 10*time.Millisecond)
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
	for i := 1; i <= many; i++ {
		d := scenario.New().Device(fmt.Sprintf("t%02d-rt-1", i))
		d.Delay = 150 * time.Millisecond
		addr, err := devices.Add(d)
		require.NoError(t, err)
		run("", "device", "add", d.Name, "--platform", "sounder", "--address", addr)
	}
	run("", "round", "start", "--detach")
	for range 3 {
		time.Sleep(200 * time.Millisecond) // somewhere in the middle, wherever that is
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		before := url
		cmd, url, _ = service(t, binary, data)
		assert.NotEqual(t, before, url)
		// The token belongs to the old address: sign in at the new one.
		run("another-password\n", "login", url, "--account", "admin")
	}
	require.Eventually(t, func() bool { return strings.Contains(run("", "round", "show", "1"), "20 have new revisions.") }, 30*time.Second, 50*time.Millisecond)
	assert.Contains(t, run("", "archive", "check"), fmt.Sprintf("%d revisions", 2*many))
	assert.Contains(t, run("", "archive", "check"), "The archive is whole.")
}
