package linux

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"os/exec"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAProcessThatEndedHoldsNoPort ends processes of many threads that listen, and listens in their place at once.
func TestAProcessThatEndedHoldsNoPort(t *testing.T) {
	if address := os.Getenv("LISTEN_WITH_MANY_THREADS"); address != "" {
		_, err := net.Listen("tcp", address)
		require.NoError(t, err)
		for range 64 {
			go func() {
				runtime.LockOSThread()
				time.Sleep(time.Minute)
			}()
		}
		time.Sleep(20 * time.Millisecond)
		_, _ = os.Stdout.WriteString("listening\n")
		time.Sleep(time.Minute)
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.Addr().String()
	require.NoError(t, free.Close())
	for range 40 {
		c := exec.Command(os.Args[0], "-test.run=^TestAProcessThatEndedHoldsNoPort$", "-test.timeout=1m")
		c.Env = append(os.Environ(), "LISTEN_WITH_MANY_THREADS="+address)
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		word, err := bufio.NewReader(out).ReadString('\n')
		require.NoError(t, err)
		require.Equal(t, "listening\n", word)
		endProcess(c.Process.Pid)
		l, err := net.Listen("tcp", address)
		require.NoError(t, err, "another can listen at once")
		require.NoError(t, l.Close())
		_ = c.Wait()
	}
}

// TestAListenerHasNoPrivileges looks at what the kernel says of a light machine's process.
func TestAListenerHasNoPrivileges(t *testing.T) {
	s := siteOf(t)
	estateOf(t, s, endsNouns, "")
	pid := s.pid("gauge-1")
	require.Positive(t, pid)
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for _, line := range []string{fmt.Sprintf("Uid:\t%[1]d\t%[1]d\t%[1]d\t%[1]d", nobody), fmt.Sprintf("Gid:\t%[1]d\t%[1]d\t%[1]d\t%[1]d", nobody), "Groups:\t ", "CapEff:\t0000000000000000", "CapPrm:\t0000000000000000", "NoNewPrivs:\t1", "Seccomp:\t2"} {
		assert.Contains(t, string(status), line)
	}
}
