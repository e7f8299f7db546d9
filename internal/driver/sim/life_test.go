package sim

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/cost"
	"ironbark/internal/driver"
)

func TestStatesFollowFromMoments(t *testing.T) {
	s := New(t.TempDir(), nil, Faults{})
	begin := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	ms := func(n int) time.Time { return begin.Add(time.Duration(n) * time.Millisecond) }
	fresh := powerState{Booted: begin, Fresh: true, Setup: time.Second, Listens: []string{"ssh"}}
	again := powerState{Booted: begin, Listens: []string{"ssh"}}
	stuck := powerState{Booted: begin, Stuck: true, Listens: []string{"ssh"}}
	off := powerState{Booted: begin, Stop: ms(5000), Took: 1500 * time.Millisecond, Listens: []string{"ssh"}}
	for _, c := range []struct {
		l       powerState
		at      int
		state   driver.State
		listens bool
	}{
		{fresh, 0, driver.Building, false},
		{fresh, 899, driver.Building, false},
		{fresh, 900, driver.Starting, false},
		{fresh, 2599, driver.Starting, false},
		{fresh, 2600, driver.Running, false},
		{fresh, 2799, driver.Running, false},
		{fresh, 2800, driver.Running, true},
		{again, -1, driver.Stopping, false},
		{again, 0, driver.Starting, false},
		{again, 700, driver.Running, false},
		{again, 900, driver.Running, true},
		{stuck, 600, driver.Starting, false},
		{stuck, 700, driver.Stuck, false},
		{stuck, 99999, driver.Stuck, false},
		{off, 5000, driver.Stopping, false},
		{off, 6499, driver.Stopping, false},
		{off, 6500, driver.Stopped, false},
		{off, 99999, driver.Stopped, false},
	} {
		m := s.at(c.l, ms(c.at))
		assert.Equal(t, c.state, m.State, "%+v at %d ms", c.l, c.at)
		assert.Equal(t, c.listens, up(m, ms(c.at)), "%+v at %d ms", c.l, c.at)
		if settled := s.at(c.l, m.Ready); m.State.Settled() {
			assert.Equal(t, m.State, settled.State)
		} else {
			assert.True(t, settled.State.Settled(), "it says when it will be as it is going to be")
		}
	}
}

// TestFaultsPrintAndParse draws faults: what is printed reads back as the same.
func TestFaultsPrintAndParse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := Faults{
			Halt: rapid.IntRange(0, 9).Draw(t, "halt"), Late: time.Duration(rapid.IntRange(0, 5000).Draw(t, "late")) * time.Millisecond,
			Fail: rapid.SliceOfN(rapid.IntRange(1, 9), 0, 3).Draw(t, "fail"), Lose: rapid.SliceOfN(rapid.IntRange(1, 9), 0, 3).Draw(t, "lose"),
			Stuck: rapid.SliceOfN(rapid.SampledFrom([]string{"a", "gauge-1"}), 0, 2).Draw(t, "stuck"),
		}
		if rapid.Bool().Draw(t, "room") {
			n := rapid.IntRange(0, 3).Draw(t, "n")
			f.Room = &n
		}
		if rapid.Bool().Draw(t, "quota") {
			f.Quota = map[string]int{rapid.SampledFrom(quotas).Draw(t, "what"): 3}
		}
		again, err := ParseFaults(f.Words())
		require.NoError(t, err)
		require.Equal(t, f.Words(), again.Words())
	})
	for _, bad := range []string{"", "fail", "fail=", "fail=0", "fail=-1", "fail=x", "late=fast", "late=-1s", "stuck=", "stuck=A", "room=-1", "room=x", "quota=3", "quota=money:3", "quota=machines:-1", "halt=0", "=1"} {
		_, err := ParseFaults([]string{bad})
		require.Error(t, err, bad)
	}
	low := Faults{Quota: map[string]int{"machines": 2, "diskGB": 1 << 30}}.limits(cost.Amounts{Machines: 5, DiskGB: 7})
	assert.Equal(t, cost.Amounts{Machines: 2, DiskGB: 7}, low, "limits are lowered, and never raised")
}

// TestKeptFaultsArePlayedOnce keeps faults in a folder and looks at them from another process.
func TestKeptFaultsArePlayedOnce(t *testing.T) {
	dir := t.TempDir()
	s := New(dir, nil, Faults{})
	f, err := ParseFaults(strings.Fields("fail=1 lose=2 stuck=a"))
	require.NoError(t, err)
	require.NoError(t, s.KeepFaults(f))
	other := New(dir, nil, Faults{})
	assert.Equal(t, f.Words(), other.Faults().Words())
	require.Error(t, other.failing())
	require.NoError(t, other.failing())
	require.ErrorIs(t, other.play(t.Context()), driver.ErrLost)
	assert.Equal(t, []string{"stuck=a"}, New(dir, nil, Faults{}).Faults().Words(), "steps are struck out once they were played")
	assert.Equal(t, []string{"fail=1"}, New(dir, nil, Faults{Fail: []int{1}}).Faults().Words(), "those of one command come before those that are kept")
	require.NoError(t, s.KeepFaults(Faults{}))
	assert.Empty(t, New(dir, nil, Faults{}).Faults().Words())
}
