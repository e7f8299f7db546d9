package linux

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// ordinary is the plan of an estate of n machines with a tag for each ten, and four sentences a tag.
func ordinary(b *testing.B, n int) *flow.Plan {
	nouns := "estate: tides\nsite: linux\npeople: {mara: {groups: [ops]}}\nnetworks: {estuary: {space: [10.60.0.0/16, \"2001:db8:60::/48\"], outside: true, subnets: {landing: {range: [10.60.0.0/16, \"2001:db8:60::/64\"]}}}}\nmachines:\n"
	rules := "permit ops to open ssh to all from everywhere up to 4h\n"
	for i := range n {
		nouns += fmt.Sprintf("  gauge-%d: {image: light, size: c1m1, at: landing, tags: {role: r%d}}\n", i, i/10)
	}
	for i := range n / 10 {
		rules += fmt.Sprintf("allow https, tcp/%d from everywhere to role=r%d\nallow tcp/9000-9%03d from 198.51.100.%d to gauge-%d\n", 7000+i, i, i, i%250, i)
		rules += fmt.Sprintf("deny any from 192.0.2.%d to role=r%d\nallow tcp/7400-7401 from role=r%d to role=r%d\n", i%250, i, i, (i+1)%(n/10))
	}
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(nouns)}, estate.File{Name: estate.RulesName, Data: []byte(rules)})
	require.NoError(b, err)
	want, err := change.Desired(e, nil, nil, nil)
	require.NoError(b, err)
	return flow.Compile(e, change.Assigned(want))
}

// BenchmarkTable works out, installs and compares the table of an estate.
func BenchmarkTable(b *testing.B) {
	s := New(b.TempDir(), drivertest.RealClock())
	if err := s.build(); err != nil {
		b.Skip(err)
	}
	defer func() { require.NoError(b, s.RemoveEverything()) }()
	for _, kind := range []string{"machines=100", "machines=1000", "dense/machines=100", "dense/machines=1000"} {
		var plan *flow.Plan
		number, dense := strings.CutPrefix(kind, "dense/")
		n, err := strconv.Atoi(strings.TrimPrefix(number, "machines="))
		require.NoError(b, err)
		if dense { // ten sentences a machine
			e, given, err := oracle.MakeLarge(n, 1).Read()
			require.NoError(b, err)
			plan = flow.Compile(e, given)
		} else {
			plan = ordinary(b, n)
		}
		t := NewTable(plan, nil, waysOf(plan))
		c, done, err := s.conn()
		require.NoError(b, err)
		b.Run("compile/"+kind, func(b *testing.B) {
			for b.Loop() {
				NewTable(plan, nil, waysOf(plan))
			}
			b.ReportMetric(float64(len(t.Reach)+len(t.Who)+len(t.Deny)+len(t.Pass)+len(t.Own)), "boxes")
		})
		b.Run("install/"+kind, func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, install(c, t, nil, nil, nil, time.Now()))
			}
		})
		b.Run("read/"+kind, func(b *testing.B) {
			for b.Loop() {
				read := &reading{namespace: s.prefix}
				require.True(b, read.judged(t))
				require.NoError(b, read.err)
				require.False(b, read.found())
			}
		})
		done()
	}
}

// BenchmarkOpenToConnect opens ssh to a machine as a whole process, from Enter to the first
// connection of a client.
func BenchmarkOpenToConnect(b *testing.B) {
	program := filepath.Join(b.TempDir(), "ironbark")
	build := exec.Command("go", "build", "-o", program, "ironbark/cmd/ironbark")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(b, err, string(out))
	for _, n := range []int{1, 200} {
		dir := b.TempDir()
		nouns := "estate: tides\nsite: linux\npeople: {mara: {groups: [ops, leads]}}\nnetworks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.0.0/16]}}}}\nmachines:\n"
		for i := range n {
			address := ""
			if i == 0 {
				address = ", address: auto"
			}
			nouns += fmt.Sprintf("  gauge-%d: {image: light, size: c1m1, at: landing%s}\n", i, address)
		}
		require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(nouns), 0o600))
		require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte("permit ops to open ssh to all from everywhere up to 4h\n"), 0o600))
		ironbark := func(args ...string) {
			c := exec.Command(program, append(args, "--person", "mara")...)
			c.Dir = dir
			out, err := c.CombinedOutput()
			require.NoError(b, err, string(out))
		}
		s := New(filepath.Join(dir, ".ironbark"), drivertest.RealClock())
		if err := s.build(); err != nil {
			b.Skip(err)
		}
		ironbark("enact", "--yes")
		p := driver.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: netip.MustParseAddr("203.0.113.10"), Service: flow.TCPPort(22)}
		b.Run(fmt.Sprintf("machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				ironbark("open", "ssh", "to", "gauge-0", "from", "198.51.100.7", "for", "1h", "because", "bench")
				got, err := gets(b.Context(), s.prefix+".probe", p, true)
				require.NoError(b, err)
				require.True(b, got)
				b.StopTimer()
				ironbark("close", "--all")
				b.StartTimer()
			}
		})
		ironbark("remove", "--everything", "--name", "tides")
	}
}
