package main

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/driver/drivertest"
	"ironbark/internal/driver/linux"
)

// placed is an estate on a Linux host: this one, or a namespace in its place.
type placed struct {
	t         testing.TB
	dir, host string // host is "": this one
	router    string // the name of the router's namespace
}

// place writes an estate for a host. When the test ends it removes everything, and asserts that nothing stays.
func place(t testing.TB, host, nouns, rules string) *placed {
	if os.Getuid() != 0 {
		t.Skip("network namespaces need root")
	}
	p := &placed{t: t, dir: t.TempDir(), host: host}
	state := filepath.Join(p.dir, ".ironbark")
	sum := sha256.Sum256([]byte(state))
	p.router = fmt.Sprintf("ib%x", sum[:5])
	nouns = "estate: tides\nsite: linux\npeople: {mara: {groups: [ops, leads]}}\n" + nouns
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "estate.yaml"), []byte(nouns), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "estate.rules"), []byte(rules), 0o600))
	t.Cleanup(func() {
		defer func() { _ = linux.New(state, drivertest.RealClock()).RemoveEverything() }() // also where the test failed
		p.run("remove", "--everything", "--name", "tides")
		list, err := filepath.Glob("/run/netns/" + p.router + "*")
		require.NoError(t, err)
		require.Empty(t, list)
		if host != "" {
			out, err := p.inHost("nft", "list", "ruleset").CombinedOutput()
			require.NoError(t, err)
			require.Empty(t, string(out), "the site's table stays on the host")
		}
	})
	return p
}

// inHost is a command on the host.
func (p *placed) inHost(args ...string) *exec.Cmd {
	if p.host != "" {
		args = append([]string{"nsenter", "--net=/run/netns/" + p.host}, args...)
	}
	c := exec.Command(args[0], args[1:]...)
	c.Dir = p.dir
	return c
}

// command is one of the program's.
func (p *placed) command(args ...string) *exec.Cmd {
	return p.inHost(append(append([]string{program}, args...), "--person", "mara")...)
}

func (p *placed) try(args ...string) (string, error) {
	out, err := p.command(args...).CombinedOutput()
	return string(out), err
}

func (p *placed) run(args ...string) string {
	out, err := p.try(args...)
	require.NoError(p.t, err, out)
	return out
}

// start starts a command, which stop interrupts, at the latest when the test ends.
func (p *placed) start(c *exec.Cmd) (stop func()) {
	require.NoError(p.t, c.Start())
	stopped := false
	stop = func() {
		if !stopped {
			stopped = true
			_ = c.Process.Signal(os.Interrupt)
			assert.NoError(p.t, c.Wait())
		}
	}
	p.t.Cleanup(stop)
	return stop
}
