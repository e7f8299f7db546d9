package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsToldAsDoneIsThere has eight writers say things at random for a while.
// Nothing that was told as done is missing afterwards: what was edited stands in the
// files, once, and what was enacted is in force.
func TestWhatIsToldAsDoneIsThere(t *testing.T) {
	dir := t.TempDir()
	ironbark := func(args ...string) (int, string) {
		c := exec.Command(program, append(args, "--person", "mara")...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		if err != nil && c.ProcessState == nil {
			return -1, err.Error()
		}
		return c.ProcessState.ExitCode(), string(out)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(before), 0o644))
	status, out := ironbark("enact", "--yes")
	require.Zero(t, status, out)
	status, out = ironbark("permit", "ops", "to", "open", "ssh", "to", "all", "from", "everywhere", "up", "to", "4h", "--yes")
	require.Zero(t, status, out)
	var mu sync.Mutex
	done, drafted, statuses := []string{}, []string{}, map[int]int{}
	var all sync.WaitGroup
	end := time.Now().Add(8 * time.Second)
	for w := range 8 {
		all.Go(func() {
			for i := 0; time.Now().Before(end); i++ {
				allow := fmt.Sprintf("allow tcp/%d from 198.51.100.%d to gauge-1", 10000+1000*w+i, w+1)
				deny := fmt.Sprintf("deny tcp/%d from 192.0.2.%d to all", 10000+1000*w+i, w+1)
				said, flag := allow, "--yes"
				switch rand.IntN(5) {
				case 0:
					flag = "--draft"
				case 1:
					said = deny
				case 2:
					status, out := ironbark("open", "ssh", "to", "gauge-1", "from", fmt.Sprintf("198.51.100.%d", w+1), "for", "1h", "because", "writing")
					assert.Contains(t, []int{0, 3, 5}, status, out)
					continue
				case 3:
					status, out := ironbark("close", "--all")
					assert.Zero(t, status, out)
					continue
				}
				status, out := ironbark(append(strings.Fields(said), flag)...)
				mu.Lock()
				statuses[status]++
				assert.Contains(t, []int{0, 1, 3, 5}, status, out)
				switch {
				case status == 0 && flag == "--yes":
					done = append(done, said)
				case status == 0:
					drafted = append(drafted, said)
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	rules, err := os.ReadFile(filepath.Join(dir, "estate.rules"))
	require.NoError(t, err)
	lines := strings.Split(string(rules), "\n")
	count := map[string]int{}
	for _, line := range lines {
		count[line]++
	}
	for _, said := range append(drafted, done...) {
		assert.Equal(t, 1, count[said], said)
	}
	for _, said := range done {
		words := strings.Fields(said) // allow SERVICE from SOURCE to TARGET
		status, out := ironbark("why", words[1], "from", words[3], "to", "gauge-1")
		assert.Equal(t, map[string]int{"allow": 0, "deny": 3}[words[0]], status, "%s is not in force: %s", said, out)
		assert.Contains(t, out, said)
	}
	status, out = ironbark("enact", "--yes")
	assert.Zero(t, status, out)
	status, out = ironbark("close", "--all")
	assert.Zero(t, status, out)
	assert.NotContains(t, out, "not as it was recorded")
	status, out = ironbark("openings")
	assert.Contains(t, out, "Nothing is open", status)
	status, out = ironbark("journal")
	assert.Zero(t, status, out)
	assert.NotContains(t, out, "broken")
	t.Logf("%d in force, %d drafted; exit statuses %v", len(done), len(drafted), statuses)
	assert.NotEmpty(t, done)
}
