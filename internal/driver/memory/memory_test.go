package memory

import (
	"testing"

	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
)

func TestConformance(t *testing.T) {
	drivertest.Run(t, func(_ *testing.T, c *drivertest.Clock) func() driver.Driver {
		p := New(c, cost.Catalogue{})
		return func() driver.Driver { return p }
	})
}
