package clientnet

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// Network tells apart the network in which a process is; "" where nobody can tell.
func Network(pid int) string {
	name, _ := os.Readlink(fmt.Sprintf("/proc/%d/ns/net", pid))
	return name
}

// How long processes that a command left behind have to end by themselves, and then when they are told to.
const (
	endTime  = 500 * time.Millisecond
	obeyTime = 300 * time.Millisecond
	lookTime = 20 * time.Millisecond
)

// EndLeftovers ends the processes that a command left behind in its network, such as a proxy of an SSH client: once nobody serves the network they would wait
// for its packets for good. It must be called while it is still served.
func EndLeftovers(network string) {
	if network == "" || network == Network(os.Getpid()) {
		return
	}
	for _, s := range []struct {
		signal unix.Signal
		wait   time.Duration
	}{{0, endTime}, {unix.SIGTERM, obeyTime}, {unix.SIGKILL, obeyTime}} {
		left := leftIn(network)
		for _, pid := range left {
			_ = unix.Kill(pid, s.signal)
		}
		for end := time.Now().Add(s.wait); len(left) > 0 && time.Now().Before(end); left = leftIn(network) {
			time.Sleep(lookTime)
		}
		if len(left) == 0 {
			return
		}
	}
}

// leftIn lists the processes in a network.
func leftIn(network string) (pids []int) {
	dirs, _ := filepath.Glob("/proc/[0-9]*")
	for _, dir := range dirs {
		if pid, err := strconv.Atoi(filepath.Base(dir)); err == nil && Network(pid) == network {
			pids = append(pids, pid)
		}
	}
	return pids
}
