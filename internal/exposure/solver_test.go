package exposure_test

import (
	"bytes"
	"fmt"
	"io"
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

// smt writes a question in SMT-LIB 2.6 (https://smt-lib.org): is there a source,
// a service and a machine such that the flow is let in by a sentence that stands?
// It is written from the plan's rules and doors, one formula each.
type smt struct {
	w      io.Writer
	p      *flow.Plan
	groups map[*flow.Group]string
}

func (s *smt) f(format string, args ...any) { fmt.Fprintf(s.w, format+"\n", args...) }

// source is a formula: the source lies in a set. v6 tells the family; a4 and a6 are the address.
func source(set flow.Addrs) string {
	var parts []string
	for _, r := range set.Runs() {
		lo, hi := r.Lo.Addr(), r.Hi.Addr()
		if lo.Is4() {
			parts = append(parts, fmt.Sprintf("(and (not v6) (bvule %s a4) (bvule a4 %s))", bits(lo), bits(hi)))
		} else {
			parts = append(parts, fmt.Sprintf("(and v6 (bvule %s a6) (bvule a6 %s))", bits(lo), bits(hi)))
		}
	}
	return "(or false " + strings.Join(parts, " ") + ")"
}

func bits(a netip.Addr) string { return fmt.Sprintf("#x%x", a.AsSlice()) }

func service(set flow.Services) string {
	var parts []string
	for _, r := range set.Runs() {
		parts = append(parts, fmt.Sprintf("(and (bvule #x%08x s) (bvule s #x%08x))", uint32(r.Lo), uint32(r.Hi)))
	}
	return "(or false " + strings.Join(parts, " ") + ")"
}

func (s *smt) group(g *flow.Group) string {
	name, known := s.groups[g]
	if !known {
		name = fmt.Sprintf("g%d", len(s.groups))
		s.groups[g] = name
		var parts []string
		for _, m := range g.Machines {
			parts = append(parts, fmt.Sprintf("(= m #x%04x)", m))
		}
		s.f("(define-fun %s () Bool (or false %s))", name, strings.Join(parts, " "))
	}
	return name
}

func (s *smt) write(never sentence.Never, resolve flow.Resolver) {
	s.f("(set-logic QF_BV)\n(declare-const v6 Bool)\n(declare-const a4 (_ BitVec 32))\n(declare-const a6 (_ BitVec 128))\n(declare-const s (_ BitVec 32))\n(declare-const m (_ BitVec 16))")
	s.f("(define-fun admin () Bool %s)", service(s.p.Guard))
	var deny, pass, doors []string
	for _, r := range s.p.Rules {
		text := fmt.Sprintf("(and %s %s %s)", s.group(r.To), service(r.Services), source(r.From))
		switch r.Kind {
		case flow.Deny:
			deny = append(deny, text)
		case flow.Allow:
			pass = append(pass, "(and (not admin) "+text+")")
		case flow.Standing:
			pass = append(pass, text)
		}
	}
	s.f("(define-fun deny () Bool (or false %s))\n(define-fun pass () Bool (or false %s))", strings.Join(deny, "\n "), strings.Join(pass, "\n "))
	for m := range s.p.Machines {
		for _, d := range s.p.DoorsTo(int32(m)) {
			own := "false"
			if from, ok := d.OwnPass(s.p.Guard, oracle.Epoch); ok {
				own = source(from)
			}
			doors = append(doors, fmt.Sprintf("(and (= m #x%04x) %s %s (or pass %s))", m, service(d.Arrives), source(d.From), own))
		}
	}
	s.f("(assert (or false %s))\n(assert (not deny))", strings.Join(doors, "\n "))
	s.f("(assert %s)\n(assert %s)\n(assert %s)\n(check-sat)", s.group(resolve.Group(never.To)), service(resolve.Services(never.Services)), source(resolve.Source(never.From)))
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
			resolve := flow.NewResolver(e, plan)
			var solver time.Duration
			broken, gaveUp := map[string]bool{}, 0
			for _, text := range guarantees {
				var in bytes.Buffer
				(&smt{w: &in, p: plan, groups: map[*flow.Group]string{}}).write(sentence.MustParse(text).(sentence.Never), resolve)
				c := exec.Command(z3, "-in", fmt.Sprintf("-T:%d", int(solverTime.Seconds())))
				c.Stdin = &in
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
