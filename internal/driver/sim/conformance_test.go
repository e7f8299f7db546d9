package sim

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
)

func TestConformance(t *testing.T) {
	drivertest.Run(t, func(t *testing.T, c *drivertest.Clock) func() driver.Driver {
		dir := t.TempDir()
		return func() driver.Driver {
			s := New(dir, c, Faults{})
			t.Cleanup(func() { require.NoError(t, s.Close()) })
			return s
		}
	})
}
