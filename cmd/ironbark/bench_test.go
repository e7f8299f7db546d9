package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// BenchmarkVersion starts the whole program and has it tell its version.
func BenchmarkVersion(b *testing.B) {
	for b.Loop() {
		require.NoError(b, exec.Command(program, "version").Run())
	}
}

// BenchmarkWhy200 starts the whole program and asks one question of an estate of
// 200 machines, 100 sentences and 20 openings, read back from the site.
func BenchmarkWhy200(b *testing.B) {
	dir := b.TempDir()
	var nouns, rules strings.Builder
	nouns.WriteString("estate: saltmarsh\nsite: sim\npeople: {mara: {groups: [ops]}}\nnetworks:\n  estuary:\n    space: [10.60.0.0/16, \"2001:db8:60::/48\"]\n    outside: true\n    subnets:\n      landing: {range: [10.60.0.0/22, \"2001:db8:60:1::/64\"]}\nmachines:\n")
	for i := range 200 {
		address := ""
		if i < 30 {
			address = ", address: auto"
		}
		fmt.Fprintf(&nouns, "  gauge-%d: {image: linux-web, size: c1m1, at: landing, tags: {role: r%d}%s}\n", i, i%20, address)
	}
	for i := range 20 {
		fmt.Fprintf(&rules, "allow https, tcp/%d from everywhere to role=r%d\nallow tcp/9000-9%03d from 198.51.100.%d to gauge-%d\n", 7000+i, i, i, i, i)
		fmt.Fprintf(&rules, "deny any from 192.0.2.%d to role=r%d\nallow tidefeed from role=r%d to role=r%d\nallow ping from estuary to gauge-%d*\n", i, i, i, (i+1)%20, i)
	}
	rules.WriteString("permit ops to open ssh to all from everywhere up to 4h\n")
	text := strings.Replace(nouns.String(), "machines:", "services: {tidefeed: tcp/7400-7401}\nmachines:", 1)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(text), 0o644))
	require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte(rules.String()), 0o644))
	ironbark := func(args ...string) []byte {
		c := exec.Command(program, args...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(b, err, string(out))
		return out
	}
	ironbark("enact", "--yes", "--person", "mara")
	for i := range 20 {
		ironbark("open", "ssh", "to", fmt.Sprintf("gauge-%d", i), "from", "198.51.100.7", "for", "1h", "because", "bench", "--person", "mara")
	}
	for b.Loop() {
		ironbark("why", "https", "from", "198.51.100.7", "to", "gauge-7")
	}
}
