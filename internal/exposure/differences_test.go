package exposure_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/exposure"
	"ironbark/internal/oracle"
)

// TestDifferences compares the states in testdata/differences.txt, whose sentences stand after “- ” before and after “+ ” afterwards (“= ” on both sides), and holds what is told to what stands below.
func TestDifferences(t *testing.T) {
	const path = "testdata/differences.txt"
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	var out []string
	var before, after []string
	name := ""
	finish := func() {
		if name == "" {
			return
		}
		a, b := oracle.WorldOf(small, before...), oracle.WorldOf(small, after...)
		require.Len(t, a.Estate.Sentences(), len(before), name)
		require.Len(t, b.Estate.Sentences(), len(after), name)
		pa, pb := a.Plan(), b.Plan()
		d := exposure.Compare(exposure.NewView(pa, oracle.Epoch), exposure.NewView(pb, oracle.Epoch))
		o := &told{w: b, plan: pb, names: exposure.NewNames(b.Estate, pb)}
		for _, sort := range []struct {
			name string
			list exposure.Changes
		}{{"opened", d.Opened}, {"closed", d.Closed}, {"gained", d.Gained}, {"lost", d.Lost}, {"moved", d.Moved}} {
			listed(t, sort.list)
			for c := range sort.list.All() {
				was := ""
				if sort.name == "moved" {
					was = ", was" + end(c.Before)
				}
				o.say("%s %s %s%s", sort.name, c.Machine, o.entry(c.Entry), was)
			}
		}
		if d.IsEmpty() {
			o.say("nothing")
		}
		out = append(out, o.lines...)
		before, after = nil, nil
	}
	for line := range strings.Lines(string(data)) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "> "):
			finish()
			name = line
		case strings.HasPrefix(line, "- "):
			before = append(before, line[2:])
		case strings.HasPrefix(line, "+ "):
			after = append(after, line[2:])
		case strings.HasPrefix(line, "= "):
			before, after = append(before, line[2:]), append(after, line[2:])
		default:
			continue
		}
		out = append(out, line)
	}
	finish()
	got := strings.Join(out, "\n") + "\n"
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	assert.Equal(t, string(data), got)
}
