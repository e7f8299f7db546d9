package proof_test

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/oracle"
	"ironbark/internal/proof"
	"ironbark/internal/sentence"
)

// TestASolverComesToTheSame has z3 judge the guarantees of random estates.
func TestASolverComesToTheSame(t *testing.T) {
	z3, err := exec.LookPath("z3")
	require.NoError(t, err, "make packages installs it")
	verdicts := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		pick := func(list ...string) string { return rapid.SampledFrom(list).Draw(t, "word") }
		w := oracle.Draw(t)
		file, rules, _ := strings.Cut(w.Text, "---\n")
		lines := strings.Split(rules, "\n")
		for range 4 {
			text := fmt.Sprintf("%s %s from %s to %s", pick("never", "never", "always"), pick("ssh", "https", "any", "tcp/5432", "admin", "tidefeed", "tcp/8022"),
				pick("internet", "everywhere", "office", "198.51.100.7", "estuary", "m-1", "2001:db8:40::/48"), pick("all", "m-1", "m-2", "landing", "pier", "beacon", "pier, beacon"))
			if strings.HasPrefix(text, "never") && rapid.Bool().Draw(t, "standing") {
				text += " standing"
			}
			lines = append(lines, text)
		}
		for range 2 {
			lines = append(lines, fmt.Sprintf("%s %s from %s to %s", pick("never", "always"), pick("ssh", "https", "any", "ping"), pick("all", "m-1", "landing", "role=web"), pick("internet", "office", "198.51.100.7", "198.51.100.0/24 except buoys")))
		}
		opened := w.Openings
		w = oracle.WorldOf(file, lines...)
		w.Openings = opened
		plan := w.Plan()
		broken := map[string]bool{}
		for _, b := range exposure.Guarantees(w.Estate, plan, oracle.Epoch) {
			broken[b.Guarantee.Sentence] = true
		}
		for _, st := range w.Estate.Sentences() {
			switch st.Sentence.(type) {
			case sentence.Never, sentence.Always:
			default:
				continue
			}
			var in bytes.Buffer
			is := broken[st.Sentence.String()]
			require.NoError(t, proof.Write(&in, proof.Guarantee{Estate: w.Estate, Plan: plan, Stated: st, At: oracle.Epoch, Broken: is}))
			want := map[bool]string{true: "sat", false: "unsat"}[is]
			require.Equal(t, want, verdict(t, z3, in.String()), "%s\n%s\n%s", st.Sentence, w.Text, in.String())
			verdicts[want]++
		}
	})
	require.Greater(t, verdicts["sat"], 10)
	require.Greater(t, verdicts["unsat"], 20)
	t.Logf("%v", verdicts)
}

// verdict is what the solver says of a formula. One that has come to nothing after a minute is asked twice more: it stalled once,
// among many thousand runs, and no verdict is not a wrong one.
func verdict(t *rapid.T, z3, formula string) string {
	told := ""
	for range 3 {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		c := exec.CommandContext(ctx, z3, "-in")
		c.Stdin = strings.NewReader(formula)
		out, err := c.CombinedOutput()
		cancel()
		if err == nil {
			return strings.TrimSpace(string(out))
		}
		told += fmt.Sprintf("%s%v\n", out, err)
	}
	t.Fatalf("no verdict: %s\n%s", told, formula)
	return ""
}
