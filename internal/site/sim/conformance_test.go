package sim

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ironbark/internal/site"
	"ironbark/internal/site/sitetest"
)

func TestConformance(t *testing.T) {
	sitetest.Run(t, func(t *testing.T, c *sitetest.Clock) func() site.Site {
		dir := t.TempDir()
		return func() site.Site {
			s := New(dir, c, Faults{})
			t.Cleanup(func() { require.NoError(t, s.Close()) })
			return s
		}
	})
}
