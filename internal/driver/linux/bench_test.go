package linux

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironbark/internal/driver/drivertest"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// BenchmarkTable works out, installs and compares the table of an estate.
func BenchmarkTable(b *testing.B) {
	s := New(b.TempDir(), drivertest.RealClock())
	if err := s.build(); err != nil {
		b.Skip(err)
	}
	defer func() { require.NoError(b, s.RemoveEverything()) }()
	for _, n := range []int{100, 1000} {
		e, given, err := oracle.MakeLarge(n, 1).Read()
		require.NoError(b, err)
		plan := flow.Compile(e, given)
		t := NewTable(plan, nil)
		c, done, err := s.conn()
		require.NoError(b, err)
		b.Run(fmt.Sprintf("compile/machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				NewTable(plan, nil)
			}
			b.ReportMetric(float64(len(t.Reach)+len(t.Who)+len(t.Deny)+len(t.Pass)+len(t.Own)), "boxes")
		})
		b.Run(fmt.Sprintf("install/machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, install(c, t, nil, nil, time.Now()))
			}
		})
		b.Run(fmt.Sprintf("read/machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				read := &reading{namespace: s.prefix}
				for _, f := range families {
					want := contents(f, t, nil)
					for _, name := range []string{"class", "audience", "who", "reach"} {
						require.True(b, read.same(name+f.name, want[name+f.name]), name)
					}
				}
				read.entries(t)
				require.NoError(b, read.err)
				require.False(b, read.denied || len(read.passes) > 0)
			}
		})
		done()
	}
}
