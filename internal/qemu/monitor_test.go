package qemu

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serve plays a machine's monitor: what it answers to each command, lines of their own. A command that it has no answer
// to is never answered.
func serve(t *testing.T, answers map[string]string) string {
	path := filepath.Join(t.TempDir(), "monitor")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_, _ = fmt.Fprintln(c, `{"QMP": {"version": {}, "capabilities": []}}`)
				for in := bufio.NewScanner(c); in.Scan(); {
					var asked struct {
						Execute string `json:"execute"`
					}
					_ = json.Unmarshal(in.Bytes(), &asked)
					if answer, ok := answers[asked.Execute]; ok {
						_, _ = fmt.Fprintln(c, answer)
					} else if asked.Execute == "qmp_capabilities" {
						_, _ = fmt.Fprintln(c, `{"return": {}}`)
					}
				}
			}()
		}
	}()
	return path
}

func TestAMonitorIsAsked(t *testing.T) {
	path := serve(t, map[string]string{
		"query-status": `{"event": "RESUME"}` + "\n" + `{"return": {"status": "running", "running": true}}`,
		"device_del":   `{"error": {"class": "DeviceNotFound", "desc": "Device 'disk0' not found"}}`,
		"blockdev-add": `{"error": {"class": "GenericError", "desc": "Duplicate nodes with node-name='volume0'"}}`,
		"long":         strings.Repeat("x", 2*longestLine),
		"garbled":      `{"return": `,
	})
	m, err := DialMonitor(t.Context(), path)
	require.NoError(t, err)
	defer m.Close()
	var status struct{ Running bool }
	require.NoError(t, m.Do(t.Context(), "query-status", nil, &status))
	assert.True(t, status.Running, "an event before the answer is not the answer")
	require.NoError(t, m.Await(t.Context(), func(name string, _ json.RawMessage) bool { return name == "RESUME" }), "and is not lost")
	err = m.Do(t.Context(), "device_del", nil, nil)
	assert.True(t, gone(err))
	assert.True(t, there(m.Do(t.Context(), "blockdev-add", nil, nil)))
	refused := &CommandError{}
	require.ErrorAs(t, err, &refused)
	require.ErrorContains(t, m.Do(t.Context(), "garbled", nil, nil), "monitor")
	require.ErrorContains(t, m.Do(t.Context(), "long", nil, nil), "monitor", "no answer takes all memory")
	short, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	again, err := DialMonitor(t.Context(), path)
	require.NoError(t, err)
	defer again.Close()
	require.Error(t, again.Do(short, "hang", nil, nil), "what is never answered ends in time")
}

// TestAnOptionNamesNothingElse goes through what a machine's process is called with: formats are said and never
// looked up, and a name with a comma in it is one name.
func TestAnOptionNamesNothingElse(t *testing.T) {
	m := Machine{
		Name: "gauge-1", UUID: "u", Run: "/run/x", CPUs: 1, MemoryMiB: 256, Seed: "/s,readonly=off", System: "/d", Base: Layer{"/b", "raw"},
		Volumes: []Volume{{"charts-of-the-whole-estuary", "/v,format=raw", 3}}, MAC: "52:54:00:00:00:01",
	}
	args := strings.Join(m.args(false), " ")
	assert.Contains(t, args, "/s,,readonly=off")
	assert.Contains(t, args, "/v,,format=raw")
	assert.Contains(t, args, "serial=charts-of-the-wh.3", "20 letters, and no other volume has them")
	assert.Contains(t, args, "bus=port3")
	for _, word := range m.args(false) {
		if strings.Contains(word, "file.filename") {
			assert.Regexp(t, `^driver=(raw|qcow2),`, word)
		}
	}
	assert.Contains(t, args, "spawn=deny")
	assert.NotContains(t, args, "-incoming")
	other := m
	other.Name, other.UUID, other.Run, other.Seed, other.System, other.Volumes = "gauge-2", "v", "/run/y", "/t", "/e", nil
	assert.Equal(t, m.Shape(), other.Shape(), "one saved state does for both")
	other.MemoryMiB = 512
	assert.NotEqual(t, m.Shape(), other.Shape())
}

func TestAProcessIsKnownByItsBeginning(t *testing.T) {
	run := filepath.Join(t.TempDir(), "gauge-1")
	assert.Zero(t, Find(run))
	c := exec.Command("sleep", "60")
	require.NoError(t, c.Start())
	go func() { _ = c.Wait() }()
	require.NoError(t, Machine{Run: run}.keepProcess(c.Process.Pid))
	assert.Equal(t, c.Process.Pid, Find(run))
	began, err := beginning(c.Process.Pid)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(run+".pid", fmt.Appendf(nil, "%d 1%s", c.Process.Pid, began), 0o600))
	assert.Zero(t, Find(run), "another process has the number by now")
	require.NoError(t, Kill(run))
	require.NoError(t, Machine{Run: run}.keepProcess(c.Process.Pid), "it is not killed for having the number")
	require.NoError(t, Kill(run))
	assert.Zero(t, Find(run))
	require.NoError(t, Kill(run), "twice is once")
}

// TestWhatAMachineMayWriteIsReadWithCare puts other things in place of a file.
func TestWhatAMachineMayWriteIsReadWithCare(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "report")
	require.NoError(t, os.WriteFile(path, []byte("0123456789"), 0o600))
	text, err := ReadBounded(path, 4)
	require.NoError(t, err)
	assert.Equal(t, "0123", string(text))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "link")))
	_, err = ReadBounded(filepath.Join(dir, "link"), 4)
	require.Error(t, err)
	require.NoError(t, exec.Command("mkfifo", filepath.Join(dir, "pipe")).Run())
	_, err = ReadBounded(filepath.Join(dir, "pipe"), 4)
	require.ErrorContains(t, err, "no ordinary file")
}
