package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironbark/internal/oracle"
)

// BenchmarkLarge runs the whole program on estates of 1,000 and 10,000 machines with ten sentences for each, and tells time, the most memory that
// it took, and how both grow.
func BenchmarkLarge(b *testing.B) {
	before := map[string]time.Duration{}
	for _, n := range []int{1000, 10000} {
		dir := b.TempDir()
		l := oracle.MakeLarge(n, 1)
		require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(l.Nouns), 0o644))
		require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte(l.Rules), 0o644))
		run := func(args ...string) (took time.Duration, most int64) {
			c := exec.Command(program, append(args, "--person", "mara")...)
			c.Dir = dir
			start := time.Now()
			var told bytes.Buffer
			c.Stderr = &told // what is printed is of any length, and nobody keeps it
			err := c.Run()
			if exit, no := err.(*exec.ExitError); err != nil && (!no || exit.ExitCode() != 3) { // a question may be answered with no
				b.Fatalf("%v: %v\n%s", args, err, told.String())
			}
			return time.Since(start), c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss >> 10
		}
		measure := func(name string, args ...string) {
			b.Run(fmt.Sprintf("%s/machines=%d", name, n), func(b *testing.B) {
				var took time.Duration
				var most int64
				for b.Loop() {
					took, most = run(args...)
				}
				b.ReportMetric(float64(most), "MiB")
				if was := before[name]; was > 0 {
					b.ReportMetric(float64(took)/float64(was), "times")
				}
				if n == 1000 {
					before[name] = took
				}
			})
		}
		// first is for what is remembered: the first of it alone.
		first := func(name string, args ...string) {
			took, most := run(args...)
			b.Run(fmt.Sprintf("%s/machines=%d", name, n), func(b *testing.B) {
				b.ReportMetric(float64(took), "ns/op")
				b.ReportMetric(float64(most), "MiB")
				if was := before[name]; was > 0 {
					b.ReportMetric(float64(took)/float64(was), "times")
				}
			})
			if n == 1000 {
				before[name] = took
			}
		}
		measure("first review", "review")
		run("enact", "--yes")
		measure("why", "why", "https", "from", "198.51.100.7", "to", "gauge-7")
		first("first status", "status")
		measure("status", "status")
		first("first map", "map", "--to", filepath.Join(dir, "map.svg"))
		measure("map", "map", "--to", filepath.Join(dir, "map.svg"))
		measure("time line", "timeline", "--to", filepath.Join(dir, "line.svg"))
		measure("report", "report", "--to", filepath.Join(dir, "page.html"))
		measure("findings", "findings")
		measure("paths", "paths", "from", "internet", "to", "gauge-7")
		measure("reach", "reach", "--json")
		measure("calls", "reach", "--to", "internet", "--json")
		run("allow", "ntp", "from", "everywhere", "to", "gauge-3", "--draft")
		measure("review of a sentence", "review")
		run("permit", "ops", "to", "open", "ssh", "to", "all", "from", "everywhere", "up", "to", "4h", "--yes")
		measure("open", "open", "ssh", "to", "gauge-50", "from", // which has an address outside
			"198.51.100.7", "for", "1h", "because", "bench")
		measure("close", "close", "--all")
		measure("reach since", "reach", "--since", "1h", "--to", "gauge-50")
	}
}
