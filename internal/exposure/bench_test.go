package exposure_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// sizes are the estates that the benchmarks run on, in machines.
var sizes = []int{1000, 10000}

func large(b *testing.B, n int) (oracle.Large, *estate.Estate, flow.Assigned) {
	b.Helper()
	l := oracle.MakeLarge(n, 1)
	e, given, err := l.Read()
	require.NoError(b, err)
	return l, e, given
}

// BenchmarkRead reads the files of an estate.
func BenchmarkRead(b *testing.B) {
	for _, n := range sizes {
		l := oracle.MakeLarge(n, 1)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				_, _, err := l.Read()
				require.NoError(b, err)
			}
		})
	}
}

// BenchmarkCompileAndReach compiles the plan and lists all that is open.
func BenchmarkCompileAndReach(b *testing.B) {
	for _, n := range sizes {
		l, e, given := large(b, n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			entries := 0
			for b.Loop() {
				plan := l.Opened(flow.Compile(e, given), oracle.Epoch)
				entries = 0
				for range exposure.NewView(plan, oracle.Epoch).ReachAll() {
					entries++
				}
			}
			b.ReportMetric(float64(len(e.Sentences())), "sentences")
			b.ReportMetric(float64(entries), "entries")
		})
	}
}

// BenchmarkCompile compiles the plan alone.
func BenchmarkCompile(b *testing.B) {
	for _, n := range sizes {
		_, e, given := large(b, n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				flow.Compile(e, given)
			}
		})
	}
}

// BenchmarkWhy asks one question of a view.
func BenchmarkWhy(b *testing.B) {
	for _, n := range sizes {
		l, e, given := large(b, n)
		plan := l.Opened(flow.Compile(e, given), oracle.Epoch)
		view := exposure.NewView(plan, oracle.Epoch)
		resolve := flow.NewResolver(e, plan)
		s := sentence.MustParse("allow ssh from 198.51.100.7 to all").(sentence.Allow)
		services, from := resolve.Services(s.Services), resolve.Source(s.From)
		const m = 100 // one with an opening
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				require.NotEmpty(b, view.Ask(services, from, exposure.Target{Machine: m}))
			}
		})
	}
}

// BenchmarkDifference compares two views of an estate that differ in one
// sentence: about a machine, about a role, and about all machines.
func BenchmarkDifference(b *testing.B) {
	for _, n := range sizes {
		l, e, given := large(b, n)
		before := exposure.NewView(l.Opened(flow.Compile(e, given), oracle.Epoch), oracle.Epoch)
		for name, line := range map[string]string{
			"machine": "allow tcp/60443 from 2001:db8:beef::9 to gauge-7", "role": "allow tcp/60443 from everywhere to role=r3",
			"all": "deny any from 198.51.100.0/24 to all",
		} {
			edited := l
			edited.Rules += line + "\n"
			e, given, err := edited.Read()
			require.NoError(b, err)
			after := exposure.NewView(l.Opened(flow.Compile(e, given), oracle.Epoch), oracle.Epoch)
			b.Run(fmt.Sprintf("%d/%s", n, name), func(b *testing.B) {
				changes := 0
				for b.Loop() {
					d := exposure.Compare(before, after)
					changes = len(d.Opened.Groups()) + len(d.Closed.Groups())
				}
				b.ReportMetric(float64(changes), "changes")
			})
		}
	}
}

// BenchmarkView indexes a compiled plan.
func BenchmarkView(b *testing.B) {
	for _, n := range sizes {
		l, e, given := large(b, n)
		plan := l.Opened(flow.Compile(e, given), oracle.Epoch)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				exposure.NewView(plan, oracle.Epoch)
			}
		})
	}
}
