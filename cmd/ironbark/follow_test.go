package main

import (
	"bufio"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatDriftsIsPutRight runs site restore --follow while tables, a route and a machine's process are taken away. It puts right what the
// estate names, and the journal has how long each drift lasted.
func TestWhatDriftsIsPutRight(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("network namespaces need root")
	}
	dir := t.TempDir()
	nouns := "estate: tides\nsite: linux\nrepair: [network]\nnetworks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}\nmachines:\n  gauge-1: {image: light, size: c1m1, at: landing, address: auto}\npeople: {mara: {groups: [ops]}}\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(nouns), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte("allow https from everywhere to all\n"), 0o600))
	command := func(args ...string) *exec.Cmd {
		c := exec.Command(program, append(args, "--person", "mara")...)
		c.Dir = dir
		return c
	}
	run := func(args ...string) string {
		out, err := command(args...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	run("enact", "--yes")
	t.Cleanup(func() { run("remove", "--everything", "--name", "tides") })
	found, err := filepath.Glob("/run/ironbark/*.folder")
	require.NoError(t, err)
	router := ""
	for _, path := range found {
		if text, err := os.ReadFile(path); err == nil && string(text) == filepath.Join(dir, ".ironbark") {
			router = strings.TrimSuffix(filepath.Base(path), ".folder")
		}
	}
	require.NotEmpty(t, router)
	follow := command("site", "restore", "--follow", "--every", "1s")
	said, err := follow.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, follow.Start())
	first, err := bufio.NewReader(said).ReadString('\n') // what is gone before it begins to follow, it restores
	require.NoError(t, err)
	require.Contains(t, first, "Nothing to restore")
	go func() { _, _ = io.Copy(io.Discard, said) }()
	time.Sleep(time.Second)
	defer func() {
		_ = follow.Process.Signal(os.Interrupt)
		assert.NoError(t, follow.Wait())
	}()
	for _, one := range [][2]string{{"nft flush ruleset", "table inet ironbark is gone"}, {"nft add table ip other", "table ip other in the site's namespace is not Ironbark's"}, {"ip route del 10.60.1.4", "no route leads to gauge-1"}} {
		out, err := exec.Command("nsenter", "--net=/run/netns/"+router, "sh", "-c", one[0]).CombinedOutput()
		require.NoError(t, err, string(out))
		require.Eventually(t, func() bool { return strings.Contains(run("journal", "--did", "drift", "--json"), one[1]) }, 20*time.Second, 200*time.Millisecond, one[1])
	}
	require.NoError(t, exec.Command("pkill", "-f", "ironbark-light gauge-1").Run())
	time.Sleep(2500 * time.Millisecond)
	assert.Contains(t, run("status"), "stopped, by itself", "machines are not named in repair:")
}
