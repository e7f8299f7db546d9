package linux

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/qemu"
)

// TestAGuestThatHangsHoldsNobodyUp stops the process of a guest, as one that hangs: it is shown, and stop and start come to their end.
func TestAGuestThatHangsHoldsNobodyUp(t *testing.T) {
	s := siteOf(t)
	require.NoError(t, PrepareTiny(t.Context(), os.Getenv("IRONBARK_KERNEL_PACKAGE")))
	estateOf(t, s, strings.Replace(endsNouns, "gauge-1: {image: light", "gauge-1: {image: tiny", 1), "")
	state := func() driver.Machine {
		o, err := s.Observe(t.Context(), driver.Everything)
		require.NoError(t, err)
		return o.Machines["gauge-1"]
	}
	require.Eventually(t, func() bool { return state().State == driver.Running }, 90*time.Second, 50*time.Millisecond)
	assert.False(t, state().Silent)
	require.NoError(t, unix.Kill(qemu.Find(s.runDir("gauge-1")), unix.SIGSTOP))
	assert.True(t, state().Silent)
	began := time.Now()
	m, happened, err := s.Power(t.Context(), "gauge-1", driver.Power{Do: driver.Stop, Grace: 2 * time.Second})
	require.NoError(t, err)
	assert.Less(t, time.Since(began), 10*time.Second)
	assert.True(t, m.State == driver.Stopped && m.Forced, happened)
	_, _, err = s.Power(t.Context(), "gauge-1", driver.Power{Do: driver.Start})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return state().State == driver.Running }, 90*time.Second, 50*time.Millisecond)

	release, err := s.lockGuest(t.Context(), "gauge-1", "copying its disk")
	require.NoError(t, err)
	defer release()
	lockTime = 100 * time.Millisecond
	defer func() { lockTime = time.Minute }()
	_, _, err = s.Power(t.Context(), "gauge-1", driver.Power{Do: driver.Stop})
	busy := &BusyError{}
	require.ErrorAs(t, err, &busy)
	assert.Equal(t, os.Getpid(), busy.Process)
	assert.Contains(t, busy.Error(), "gauge-1 is busy: process")
	assert.Contains(t, busy.Error(), "copying its disk since ")
}
