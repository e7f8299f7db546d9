package linux

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
)

// needRoot skips a test that makes namespaces where that may not be done.
func needRoot(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("network namespaces and the packet filter need root")
	}
}

// siteOf makes a site for one test, as root and by the real clock; it goes with the test.
func siteOf(t *testing.T) *Site {
	needRoot(t)
	s := New(t.TempDir(), drivertest.RealClock())
	t.Cleanup(func() {
		require.NoError(t, s.Close())
		require.NoError(t, s.RemoveEverything())
	})
	return s
}

// fresh makes a site for a test, which goes with it.
func fresh(t *testing.T, c *drivertest.Clock) func() driver.Driver {
	dir := t.TempDir()
	t.Cleanup(func() { require.NoError(t, New(dir, c).RemoveEverything()) })
	return func() driver.Driver {
		s := New(dir, c)
		t.Cleanup(func() { require.NoError(t, s.Close()) })
		return s
	}
}

func TestConformance(t *testing.T) {
	needRoot(t)
	drivertest.RunWith(t, lightImage, drivertest.RealClock, fresh)
}

func TestConformanceOfGuests(t *testing.T) {
	needRoot(t)
	require.NoError(t, PrepareTiny(t.Context(), os.Getenv("IRONBARK_KERNEL_PACKAGE")))
	drivertest.RunWith(t, tinyImage, drivertest.RealClock, fresh)
}
