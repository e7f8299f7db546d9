package main

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// run runs the built program in a folder at a fixed moment, and returns its exit
// status (-1 when it was killed) and what it printed.
func run(t *testing.T, dir string, env []string, args ...string) (int, string) {
	t.Helper()
	c := exec.Command(program, args...)
	c.Dir = dir
	c.Env = append(append(os.Environ(), "IRONBARK_CLOCK=2026-11-23T09:00:00Z", "COLUMNS=100"), env...)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	err := c.Run()
	if err != nil && c.ProcessState == nil {
		t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), out.String()
}

const before = `estate: saltmarsh
site: sim
people: {mara: {groups: [ops]}}
networks:
  estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}
machines:
  gauge-1: {image: linux-web, size: c1m1, at: landing, address: auto}
  gauge-2: {image: linux-web, size: c1m1, at: landing, address: auto}
volumes: {charts: {gb: 50, machine: gauge-2}}
`

const after = `estate: saltmarsh
site: sim
people: {mara: {groups: [ops]}}
networks:
  estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}
addresses: {slip: ipv4}
snapshots: {gold: {machine: gauge-1}, autumn: {volume: charts}}
machines:
  gauge-2: {image: linux-web, size: c2m4, at: landing, disk: 30}
  gauge-3: {image: gold, size: c1m1, at: landing, inside: 10.60.1.20, address: slip, setup: [web-server, console-login]}
volumes: {again: {gb: 60, from: autumn, machine: gauge-3}}
fronts:
  pier: {network: estuary, address: auto}
`

// TestAKilledEnactmentIsCompleted kills the process itself after each step of an
// enactment in turn; the second enactment comes to the same end as one in one go.
func TestAKilledEnactmentIsCompleted(t *testing.T) {
	write := func(dir, nouns, rules string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(nouns), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte(rules), 0o644))
	}
	begin := func() string {
		dir := t.TempDir()
		write(dir, before, "allow https from everywhere to all\nallow http from everywhere to gauge-1\n")
		status, out := run(t, dir, nil, "enact", "--yes", "--person", "mara")
		require.Zero(t, status, out)
		write(dir, after, "allow https from everywhere to all except gauge-2\nspread pier tcp/80 over gauge-* on http from everywhere\n")
		return dir
	}
	whole := begin()
	status, out := run(t, whole, nil, "enact", "--yes", "--person", "mara")
	require.Zero(t, status, out)
	look := func(dir string) string {
		_, reach := run(t, dir, nil, "reach")
		_, show := run(t, dir, nil, "show", "--json")
		_, bill := run(t, dir, nil, "cost")
		return reach + show + bill
	}
	want := look(whole)
	assert.Contains(t, want, "spread pier tcp/80")
	assert.Contains(t, want, "from snapshot autumn, at gauge-3 as vdb")
	for kill := 1; ; kill++ {
		dir := begin()
		status, _ := run(t, dir, []string{fmt.Sprint("IRONBARK_SIM_FAULTS=halt=", kill)}, "enact", "--yes", "--person", "mara")
		_, shown := run(t, dir, nil, "status")
		if status == 0 {
			assert.Greater(t, kill, 10, "the enactment has several steps")
			return
		}
		require.Equal(t, -1, status)
		status, out := run(t, dir, nil, "enact", "--yes", "--person", "mara")
		require.Zero(t, status, out)
		if shown = shown[:min(len(shown), 400)]; !bytes.Contains([]byte(out), []byte("Nothing to enact")) {
			assert.Contains(t, shown, "an enactment by mara was broken off", "killed after %d", kill)
		}
		assert.Equal(t, want, look(dir), "killed after %d", kill)
		status, out = run(t, dir, nil, "journal")
		require.Zero(t, status, out)
	}
}

// TestAKilledNarrowingIsCompleted kills the process after each write of an edit that takes a
// part of an opening away: either nothing has happened, or no more is open than the permits
// cover, whoever looks next.
func TestAKilledNarrowingIsCompleted(t *testing.T) {
	real := []string{"IRONBARK_CLOCK="}
	for kill := 1; ; kill++ {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(before), 0o644))
		rules := "permit ops to open ssh to all from everywhere up to 4h\npermit mara to open ssh to gauge-1 from 198.51.100.0/24 up to 2h\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte(rules), 0o644))
		status, out := run(t, dir, real, "enact", "--yes", "--person", "mara")
		require.Zero(t, status, out)
		status, out = run(t, dir, real, "open", "ssh", "to", "gauge-1,", "gauge-2", "from", "198.51.100.7", "for", "1h", "because", "look", "--person", "mara")
		require.Zero(t, status, out)
		status, _ = run(t, dir, append(real, fmt.Sprint("IRONBARK_SIM_FAULTS=halt=", kill)), "retract", "1", "--yes", "--person", "mara")
		_, reach := run(t, dir, real, "reach", "--from", "198.51.100.7")
		assert.Contains(t, reach, "gauge-1", "killed after %d", kill)
		if kill > 1 { // before the first write nothing was decided
			assert.NotContains(t, reach, "gauge-2", "killed after %d", kill)
		}
		if status == 0 {
			assert.Greater(t, kill, 5, "it takes several writes")
			return
		}
		status, out = run(t, dir, real, "enact", "--yes", "--person", "mara")
		require.Zero(t, status, out)
		_, reach = run(t, dir, real, "reach", "--from", "198.51.100.7")
		assert.NotContains(t, reach, "gauge-2", "killed after %d", kill)
		status, out = run(t, dir, real, "journal")
		require.Zero(t, status, out)
	}
}

// TestAKilledApprovalOpensWhollyOrNotAtAll kills the process after each write of a last
// approval: either the request waits as before, or it is open as it was approved.
func TestAKilledApprovalOpensWhollyOrNotAtAll(t *testing.T) {
	real := []string{"IRONBARK_CLOCK="}
	waited := 0
	for kill := 1; ; kill++ {
		dir := t.TempDir()
		nouns := strings.Replace(before, "{mara: {groups: [ops]}}", "{mara: {groups: [ops]}, ilse: {groups: [leads]}}", 1)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(nouns), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte("permit ops to open ssh to all from everywhere up to 4h needing 1 approval from leads\n"), 0o644))
		status, out := run(t, dir, real, "enact", "--yes", "--person", "mara")
		require.Zero(t, status, out)
		status, out = run(t, dir, real, "open", "ssh", "to", "gauge-1", "from", "198.51.100.7", "for", "30m", "because", "look", "--person", "mara")
		require.Zero(t, status, out)
		status, _ = run(t, dir, append(real, fmt.Sprint("IRONBARK_SIM_FAULTS=halt=", kill)), "approve", "1", "--yes", "--person", "ilse")
		_, list := run(t, dir, real, "openings", "--person", "mara")
		why, _ := run(t, dir, real, "why", "ssh", "from", "198.51.100.7", "to", "gauge-1")
		if strings.Contains(list, "waits for") {
			waited++
			assert.Equal(t, 3, why, "killed after %d, it waits and nothing is open", kill)
			again, out := run(t, dir, real, "approve", "1", "--yes", "--person", "ilse")
			require.Zero(t, again, out)
			why, _ = run(t, dir, real, "why", "ssh", "from", "198.51.100.7", "to", "gauge-1")
		}
		assert.Zero(t, why, "killed after %d", kill)
		if status == 0 {
			assert.Positive(t, waited)
			return
		}
	}
}

// TestTwoEnactmentsAtOnce starts several enactments of different files on one site at once.
// One wins; the others exit with 5 and change nothing.
func TestTwoEnactmentsAtOnce(t *testing.T) {
	for range 3 {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(before), 0o644))
		const racers = 4
		results := make(chan int, racers)
		for range racers {
			go func() {
				c := exec.Command(program, "enact", "--yes", "--person", "mara")
				c.Dir = dir
				c.Env = append(os.Environ(), "IRONBARK_SIM_FAULTS=late=250ms")
				_ = c.Run()
				results <- c.ProcessState.ExitCode()
			}()
		}
		count := map[int]int{}
		for range racers {
			count[<-results]++
		}
		assert.Equal(t, map[int]int{0: 1, 5: racers - 1}, count)
		real := []string{"IRONBARK_CLOCK="} // as the enactments were
		_, entries := run(t, dir, real, "journal")
		assert.Equal(t, 1, bytes.Count([]byte(entries), []byte("began an enactment")), entries)
		status, out := run(t, dir, real, "review", "--must-match")
		assert.Zero(t, status, out)
	}
}

// TestASessionThatIsBrokenOffClosesWhatItOpened sends signals to a session that
// opened ssh for itself, and to one at a console.
func TestASessionThatIsBrokenOffClosesWhatItOpened(t *testing.T) {
	dir := t.TempDir()
	do := func(args ...string) string {
		c := exec.Command(program, append(args, "--person", "mara")...)
		c.Dir = filepath.Join(dir, "tides")
		if args[0] == "new" {
			c.Dir = dir
		}
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	do("new", "tides")
	do("add", "key", "ops", "--yes")
	do("permit", "ops", "to", "open", "ssh", "to", "all", "from", "everywhere", "up", "to", "4h", "--yes")
	do("add", "machine", "desk", "--image", "linux-base", "--size", "c1m1", "--subnet", "landing", "--key", "ops", "--setup", "console-login", "--yes")
	do("permit", "ops", "to", "open", "console", "to", "all", "up", "to", "4h", "--yes")
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
		do("open", "console", "to", "desk", "for", "1h", "because", "sit there")
		for _, args := range [][]string{{"connect", "desk", "--for", "1h", "--because", "look"}, {"console", "desk"}} {
			c := exec.Command(program, append(args, "--person", "mara")...)
			c.Dir = filepath.Join(dir, "tides")
			in, err := c.StdinPipe() // nobody types anything
			require.NoError(t, err)
			out, err := c.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, c.Start())
			shown := ""
			for b := make([]byte, 256); !strings.Contains(shown, "desk:~$") && !strings.Contains(shown, "desk login:"); {
				n, err := out.Read(b)
				require.NoError(t, err, shown)
				shown += string(b[:n])
			}
			if args[0] == "connect" {
				assert.Contains(t, do("openings"), "look")
			}
			require.NoError(t, c.Process.Signal(sig))
			_, _ = io.Copy(io.Discard, out)
			_ = c.Wait() // its status is not what this is about
			_ = in.Close()
			assert.NotContains(t, do("openings"), "look", "%v after %v", args, sig)
			last := do("journal", "--last", "1")
			assert.True(t, strings.Contains(last, "ended the session") || strings.Contains(last, "closed opening"), last)
		}
	}
}

// TestAKilledCommandLeavesNothingOpenThatIsNotRecorded kills the process after each
// write of commands that open and that close. Afterwards what passes is what is listed,
// nothing is told as altered, the record is whole, and closing closes.
func TestAKilledCommandLeavesNothingOpenThatIsNotRecorded(t *testing.T) {
	open := func(source, length string) []string {
		return []string{"open", "ssh", "to", "gauge-1", "from", source, "for", length, "because", "killed", "--person", "mara"}
	}
	for name, args := range map[string][]string{
		"open": open("198.51.100.8", "1h"), "extend": open("198.51.100.7", "2h"), "close": {"close", "--all", "--person", "mara"},
		"deny": {"deny", "ssh", "from", "198.51.100.0/24", "to", "all", "--yes", "--person", "mara"},
	} {
		for kill := 1; ; kill++ {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(before), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte("permit ops to open ssh to all from everywhere up to 4h\n"), 0o644))
			status, out := run(t, dir, nil, "enact", "--yes", "--person", "mara")
			require.Zero(t, status, out)
			later := []string{"IRONBARK_CLOCK=2026-11-23T09:05:00Z"}
			status, out = run(t, dir, later, open("198.51.100.7", "1h")...)
			require.Zero(t, status, out)
			status, out = run(t, dir, append(later, fmt.Sprint("IRONBARK_SIM_FAULTS=halt=", kill)), args...)
			if status != -1 {
				require.Zero(t, status, out)
				assert.Greater(t, kill, 2, name)
				break
			}
			now := []string{"IRONBARK_CLOCK=2026-11-23T09:05:10Z"}
			_, listed := run(t, dir, now, "openings")
			for _, source := range []string{"198.51.100.7", "198.51.100.8"} {
				passes, why := run(t, dir, now, "why", "ssh", "from", source, "to", "gauge-1")
				if strings.Contains(why, "deny") {
					continue
				}
				assert.Equal(t, strings.Contains(listed, source), passes == 0, "%s killed after %d: %s\n%s", name, kill, listed, why)
				assert.NotContains(t, why, "not as it was recorded")
			}
			status, out = run(t, dir, now, "close", "--all", "--person", "mara")
			assert.Zero(t, status, out)
			status, out = run(t, dir, now, "why", "ssh", "from", "198.51.100.7", "to", "gauge-1")
			assert.Equal(t, 3, status, out)
			status, out = run(t, dir, now, "journal")
			assert.Zero(t, status, out)
			assert.NotContains(t, out, "broken")
		}
	}
}
