package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironbark/internal/driver/linux"
)

// guests is an estate on this host whose machines are tiny guests. It goes with the benchmark.
type guests struct {
	b   *testing.B
	dir string
}

const guestNouns = `estate: tides
site: linux
people: {mara: {groups: [ops, leads]}}
keys: {ops: "%s"}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}
`

func newGuests(b *testing.B) *guests {
	if os.Getuid() != 0 {
		b.Skip("machines of a Linux host need root")
	}
	require.NoError(b, linux.PrepareTiny(b.Context(), ""))
	g := &guests{b, b.TempDir()}
	keys := filepath.Join(g.dir, ".ironbark", "keys")
	require.NoError(b, os.MkdirAll(keys, 0o700))
	require.NoError(b, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(keys, "ops")).Run())
	public, err := os.ReadFile(filepath.Join(keys, "ops.pub"))
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(filepath.Join(g.dir, "estate.yaml"), fmt.Appendf(nil, guestNouns, strings.TrimSpace(string(public))), 0o644))
	require.NoError(b, os.WriteFile(filepath.Join(g.dir, "estate.rules"), []byte("permit ops to open ssh to all from everywhere up to 4h\n"), 0o644))
	b.Cleanup(func() { g.run("remove", "--everything", "--name", "tides") })
	g.run("enact", "--yes")
	return g
}

func (g *guests) run(args ...string) string {
	c := exec.Command(program, append([]string{"--person", "mara"}, args...)...)
	c.Dir = g.dir
	out, err := c.CombinedOutput()
	require.NoError(g.b, err, string(out))
	return string(out)
}

func (g *guests) add(name string, count int) {
	args := []string{"add", "machine", name, "--image", "tiny", "--size", "c1m256", "--subnet", "landing", "--key", "ops", "--address", "auto", "--yes"}
	if count > 1 {
		args = append(args, "--count", strconv.Itoa(count))
	}
	g.run(args...)
}

// login logs in to a machine, through the packet filter.
func (g *guests) login(name string) {
	g.run("connect", "--for", "10m", "--because", "look", name, "true")
}

// processes are those of the guests.
func (g *guests) processes() (list []string) {
	files, err := filepath.Glob("/run/ironbark/*/*.pid")
	require.NoError(g.b, err)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(g.b, err)
		pid, _, _ := strings.Cut(string(text), " ")
		line, _ := os.ReadFile("/proc/" + pid + "/cmdline")
		if strings.Contains(string(line), "qemu") {
			list = append(list, pid)
		}
	}
	return list
}

// BenchmarkAddMachine adds one machine and logs in to it: from a saved state, and by booting, as which counts the
// first start of a size, which makes its state. Whole processes.
func BenchmarkAddMachine(b *testing.B) {
	states := filepath.Join(linux.TinyFolder(), "states")
	for _, warm := range []bool{true, false} {
		b.Run(map[bool]string{true: "warm", false: "cold"}[warm], func(b *testing.B) {
			g := newGuests(b)
			g.add("first", 1)
			var added, in time.Duration
			for i := 0; b.Loop(); i++ {
				if !warm {
					require.NoError(b, os.RemoveAll(states))
				}
				name := fmt.Sprintf("gauge-%d", i)
				begin := time.Now()
				g.add(name, 1)
				added += time.Since(begin)
				g.login(name)
				in += time.Since(begin)
				b.StopTimer()
				g.run("remove", "machine", name, "--yes")
				b.StartTimer()
			}
			b.ReportMetric(added.Seconds()/float64(b.N), "s/add")
			b.ReportMetric(in.Seconds()/float64(b.N), "s/login")
		})
	}
}

// BenchmarkTenMachines goes from nothing to ten machines at each of which somebody has logged in, and tells what
// memory one takes besides its own.
func BenchmarkTenMachines(b *testing.B) {
	const ten = 10
	for b.Loop() {
		g := newGuests(b)
		begin := time.Now()
		g.add("gauge", ten)
		up := time.Since(begin)
		for i := range ten {
			g.login(fmt.Sprintf("gauge-%d", i+1))
		}
		b.ReportMetric(up.Seconds(), "s/running")
		b.ReportMetric(time.Since(begin).Seconds(), "s/login")
		var own, besides float64
		for _, pid := range g.processes() {
			ram, rest := memoryOf(b, pid, 256<<10)
			own += ram
			besides += rest
		}
		b.ReportMetric(own/ten/1024, "MiB/own")
		b.ReportMetric(besides/ten/1024, "MiB/besides")
	}
}

// memoryOf tells how much of a process's memory is that of the machine in it, which is the mapping of that many KiB, and
// how much is not, in KiB; what processes share is divided among them (proc(5), Pss).
func memoryOf(b *testing.B, pid string, size int) (own, besides float64) {
	text, err := os.ReadFile("/proc/" + pid + "/smaps")
	require.NoError(b, err)
	mine := false
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line)
		n := 0.0
		if len(words) > 1 {
			n, _ = strconv.ParseFloat(words[1], 64)
		}
		switch words[0] {
		case "Size:":
			mine = int(n) == size
		case "Pss:":
			if mine {
				own += n
			} else {
				besides += n
			}
		}
	}
	return own, besides
}
