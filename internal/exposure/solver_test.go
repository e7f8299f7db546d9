package exposure_test

import (
	"bytes"
	"fmt"
	"net/netip"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/oracle"
	"ironbark/internal/proof"
	"ironbark/internal/sentence"
)

// guarantees are some that hold and some that do not.
var guarantees = []string{
	"never ssh, rdp from internet to all standing",
	"never tcp/5432 from everywhere to all standing",
	"never any from 192.0.2.0 to all standing",
	"never udp/161 from internet to all standing",
	"never https from internet to all standing",
}

// solverTime is the longest that the solver may think about one guarantee.
const solverTime = 120 * time.Second

// BenchmarkGuaranteesAgainstSolver proves the same guarantees as a general solver
// (z3) does, and compares verdicts and times. A guarantee at which the solver
// gives up counts with the time that it had.
func BenchmarkGuaranteesAgainstSolver(b *testing.B) {
	z3, err := exec.LookPath("z3")
	if err != nil {
		b.Skip("z3 is not installed: make bench installs it")
	}
	for _, n := range []int{50, 200, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			l := oracle.MakeLarge(n, 1)
			l.Rules += strings.Join(guarantees, "\n") + "\n"
			e, given, err := l.Read()
			require.NoError(b, err)
			plan := flow.Compile(e, given)
			var solver time.Duration
			broken, gaveUp := map[string]bool{}, 0
			for _, text := range guarantees {
				var in bytes.Buffer
				require.NoError(b, proof.Write(&in, proof.Guarantee{Estate: e, Plan: plan, Stated: sentence.Statement{Sentence: sentence.MustParse(text)}, At: oracle.Epoch}))
				c := exec.Command(z3, "-in", fmt.Sprintf("-T:%d", int(solverTime.Seconds())))
				c.Stdin = strings.NewReader(strings.Replace(in.String(), "(set-info :status unsat)", "", 1)) // what is expected is not known yet
				start := time.Now()
				out, _ := c.Output()
				solver += time.Since(start)
				switch answer := strings.TrimSpace(string(out)); answer {
				case "sat":
					broken[text] = true
				case "unsat":
				case "timeout", "unknown":
					gaveUp++
				default:
					b.Fatalf("z3 says %s", answer)
				}
			}
			var found []exposure.Broken
			start, rounds := time.Now(), 0
			for b.Loop() {
				found = exposure.Guarantees(e, plan, oracle.Epoch)
				rounds++
			}
			ours := time.Since(start) / time.Duration(rounds)
			if gaveUp == 0 {
				require.Len(b, found, len(broken), "the same verdicts")
				for _, f := range found {
					require.True(b, broken[f.Guarantee.Sentence], f.Guarantee.Sentence)
				}
			}
			b.ReportMetric(float64(solver.Milliseconds()), "z3-ms")
			b.ReportMetric(float64(solver)/float64(ours), "times-faster")
			b.ReportMetric(float64(gaveUp), "z3-gave-up")
			b.ReportMetric(float64(len(broken)), "broken")
		})
	}
}

// BenchmarkWhyAgainstOracle answers single flows by the analysis and by the slow oracle.
func BenchmarkWhyAgainstOracle(b *testing.B) {
	const n = 200
	l := oracle.MakeLarge(n, 1)
	e, given, err := l.Read()
	require.NoError(b, err)
	w := oracle.World{Estate: e, Given: given}
	plan := flow.Compile(e, given)
	view := exposure.NewView(plan, oracle.Epoch)
	src, https := netip.MustParseAddr("2001:db8:1003::9"), flow.TCPPort(443)
	dst := plan.AddrsOf(7).Runs()[1].Lo.Addr()
	start := time.Now()
	const asked = 20
	for range asked {
		w.Ask(src, dst, https, oracle.Epoch)
	}
	slow := time.Since(start) / asked
	rounds := 0
	start = time.Now()
	for b.Loop() {
		view.Ask(span.One(https), span.One(flow.PointOf(src)), exposure.Target{Machine: 7})
		rounds++
	}
	b.ReportMetric(float64(slow)/float64(time.Since(start)/time.Duration(rounds)), "times-faster")
}
