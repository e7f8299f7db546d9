package main

import (
	"bufio"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// follows starts site restore --follow, and waits until it has restored what is missing by then.
func follows(p *placed) {
	follow := p.command("site", "restore", "--follow", "--every", "1s")
	said, err := follow.StdoutPipe()
	require.NoError(p.t, err)
	p.start(follow)
	first, err := bufio.NewReader(said).ReadString('\n')
	require.NoError(p.t, err)
	require.Contains(p.t, first, "Nothing to restore")
	go func() { _, _ = io.Copy(io.Discard, said) }()
	time.Sleep(time.Second)
}

// TestWhatDriftsIsPutRight runs site restore --follow while tables, a route and a machine's process are taken away. It puts right what the
// estate names, and the journal has how long each drift lasted.
func TestWhatDriftsIsPutRight(t *testing.T) {
	t.Parallel()
	p := onHost(t, "repair: [network]\nmachines:\n  gauge-1: {image: light, size: c1m1, at: landing, address: auto}\n", "allow https from everywhere to all\n")
	follows(p)
	for _, one := range [][2]string{{"nft flush ruleset", "table inet ironbark is gone"}, {"nft add table ip other", "table ip other in the site's namespace is not Ironbark's"}, {"ip route del 10.60.1.2", "no route leads to gauge-1"}} {
		out, err := exec.Command("nsenter", "--net=/run/netns/"+p.router, "sh", "-c", one[0]).CombinedOutput()
		require.NoError(t, err, string(out))
		require.Eventually(t, func() bool { return strings.Contains(p.run("journal", "--did", "drift", "--json"), one[1]) }, 20*time.Second, 200*time.Millisecond, one[1])
	}
	kill(t, p.router+"-gauge-1")
	time.Sleep(2500 * time.Millisecond)
	assert.Contains(t, p.run("status"), "stopped, by itself", "machines are not named in repair:")
}

// TestAMachineNearItsLimitIsReported has a client hold nine of the ten connections that a machine may have: the journal has it once.
func TestAMachineNearItsLimitIsReported(t *testing.T) {
	t.Parallel()
	p := onHost(t, "machines:\n  gauge-1: {image: light, size: c1m1, at: landing, limits: {connections: 10}}\n  gauge-2: {image: light, size: c1m1, at: landing}\n", "allow https from all to all\n")
	p.start(p.command("site", "restore", "--follow", "--every", "1s"))
	inside(t, p.router+"-gauge-2", func() error {
		for range 9 {
			c, err := net.Dial("tcp", "10.60.1.2:443")
			if err != nil {
				return err
			}
			t.Cleanup(func() { _ = c.Close() })
		}
		return nil
	})
	require.Eventually(t, func() bool {
		return strings.Contains(p.run("journal", "--did", "connections"), "gauge-1 has 9 of 10 connections: 90 %")
	}, 20*time.Second, 200*time.Millisecond)
	assert.Contains(t, p.run("findings"), "gauge-1 has 9 of 10 connections: 90 %")
	time.Sleep(2500 * time.Millisecond)
	assert.Equal(t, 1, strings.Count(p.run("journal", "--did", "connections"), "gauge-1 has"), "it is recorded once")
}

// TestAStartTestsAnew stops a member behind the site's back, has it taken out at the first refused connection, and starts it: it is back in
// without anybody who watches.
func TestAStartTestsAnew(t *testing.T) {
	t.Parallel()
	p := onHost(t, "machines:\n  gauge-1: {image: light, size: c1m1, at: landing}\n  gauge-2: {image: light, size: c1m1, at: landing}\nfronts: {pier: {network: estuary, address: auto}}\n",
		"spread pier https over all on https from everywhere tested by tcp\n")
	kill(t, p.router+"-gauge-1")
	stop := p.start(p.command("site", "watch", "--every", "1s"))
	require.Eventually(t, func() bool {
		return strings.Contains(p.run("journal", "--did", "spread"), "gauge-1 of pier at tcp/443 gets no new connections")
	}, 20*time.Second, 200*time.Millisecond)
	stop()
	before := p.run("journal", "--did", "spread")
	assert.NotContains(t, before, "passes its test")
	assert.Contains(t, p.run("start", "gauge-1"), "gauge-1 of pier at tcp/443 passes its test, and gets connections again")
	assert.Contains(t, p.run("journal", "--did", "spread"), "passes its test")
}

// TestEachFrontIsTestedAsItSays watches fronts whose members answer and never pass: each is taken out after as many tests as its front says,
// and a front that is tested once an hour keeps its own until somebody changes that.
func TestEachFrontIsTestedAsItSays(t *testing.T) {
	t.Parallel()
	p := onHost(t, "machines:\n  gauge-1: {image: light, size: c1m1, at: landing}\nfronts:\n  patient: {network: estuary, address: auto, test-every: 1s, test-failures: 4}\n"+
		"  quick: {network: estuary, address: auto, test-every: 1s, test-failures: 1}\n  seldom: {network: estuary, address: auto, test-every: 1h}\n",
		"spread patient http over all on http from everywhere tested by http /healthz\nspread quick http over all on http from everywhere tested by http /healthz\nspread seldom http over all on http from everywhere tested by http /healthz\n")
	signal(t, p.router+"-gauge-1", "STOP") // it takes connections, and says nothing
	watch := p.command("site", "watch", "--every", "1h")
	said, err := watch.StderrPipe()
	require.NoError(t, err)
	p.start(watch)
	out := map[string]time.Time{}
	lines := make(chan string, 9)
	go func() {
		for scan := bufio.NewScanner(said); scan.Scan(); {
			lines <- scan.Text()
		}
	}()
	await := func(front string) {
		for out[front].IsZero() {
			select {
			case line := <-lines:
				if words := strings.Fields(line); len(words) > 2 && words[0] == "gauge-1" {
					out[words[2]] = time.Now()
				}
			case <-time.After(30 * time.Second):
				require.Fail(t, "no member of "+front+" was taken out")
			}
		}
	}
	await("quick")
	await("patient")
	assert.Greater(t, out["patient"].Sub(out["quick"]), 3*time.Second, "three further tests, a second apart at least")
	assert.Zero(t, out["seldom"])
	p.run("change", "front", "seldom", "--test-every", "1s", "--yes")
	await("seldom")
}

// onHost enacts an estate with one subnet, landing, on this host.
func onHost(t *testing.T, nouns, rules string) *placed {
	p := place(t, "", "networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}\n"+nouns, rules)
	p.run("enact", "--yes")
	return p
}

// kill ends the processes in a namespace: those of one machine, and of no other test's.
func kill(t *testing.T, namespace string) { signal(t, namespace, "KILL") }

// signal sends a signal to the machine in a namespace. A command that looks into the namespace at that moment is not meant.
func signal(t *testing.T, namespace, name string) {
	out, err := exec.Command("ip", "netns", "pids", namespace).Output()
	require.NoError(t, err)
	pids := slices.DeleteFunc(strings.Fields(string(out)), func(pid string) bool {
		line, _ := os.ReadFile(filepath.Join("/proc", pid, "cmdline"))
		return !strings.HasPrefix(string(line), "ironbark-light\x00")
	})
	require.NotEmpty(t, pids)
	require.NoError(t, exec.Command("kill", append([]string{"-" + name}, pids...)...).Run())
}

// TestAMachineThatStopsAgainAndAgainFillsNoJournal kills a machine that site restore --follow starts again, until it has caused as many lines
// as it may in an hour: it is not started then, and another one is.
func TestAMachineThatStopsAgainAndAgainFillsNoJournal(t *testing.T) {
	t.Parallel()
	p := onHost(t, "repair: [machines]\nmachines:\n  gauge-1: {image: light, size: c1m1, at: landing, limits: {log: 2}}\n  gauge-2: {image: light, size: c1m1, at: landing}\n", "")
	follows(p)
	drifts := func(name string) int {
		return strings.Count(p.run("journal", "--did", "drift"), "machine "+name+" stopped by itself")
	}
	for n := 1; n <= 2; n++ {
		kill(t, p.router+"-gauge-1")
		require.Eventually(t, func() bool { return drifts("gauge-1") == n }, 20*time.Second, 200*time.Millisecond)
	}
	assert.Contains(t, p.run("journal", "--did", "drift"), "machine gauge-1: more lines are not recorded before")
	kill(t, p.router+"-gauge-1")
	kill(t, p.router+"-gauge-2")
	require.Eventually(t, func() bool { return drifts("gauge-2") == 1 }, 20*time.Second, 200*time.Millisecond)
	assert.Equal(t, 2, drifts("gauge-1"))
	assert.Contains(t, p.run("status"), "ended by themselves  gauge-1:")
	assert.Contains(t, p.run("show", "machine", "gauge-1"), "2 log lines/h")
}
