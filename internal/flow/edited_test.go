package flow_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// TestAnEditedPlanIsTheOneThatIsCompiled draws worlds and edits of their sentences, and compiles what differs alone.
func TestAnEditedPlanIsTheOneThatIsCompiled(t *testing.T) {
	edited := 0
	files := func(w oracle.World) []estate.File {
		nouns, rules, _ := strings.Cut(w.Text, "---\n")
		return []estate.File{{Name: estate.FileName, Data: []byte(nouns)}, {Name: estate.RulesName, Data: []byte(rules)}}
	}
	rapid.Check(t, func(t *rapid.T) {
		first := oracle.Draw(t)
		second := first.Altered(t)
		e, d, ok := first.Estate.Edited(files(first), files(second))
		if !ok {
			return
		}
		edited++
		before, want := flow.Compile(first.Estate, first.Given), flow.Compile(second.Estate, first.Given)
		edit := before.Edited(e, d)
		require.Equal(t, want.Rows(), edit.Plan.Rows())
		assert.Equal(t, flow.SameTables(before, want), edit.Same)
		origins := func(list []flow.Rule) (out []flow.Origin) {
			for _, r := range list {
				out = append(out, r.Origin)
			}
			return out
		}
		assert.Equal(t, origins(want.Rules), origins(edit.Plan.Rules), "in the order of the files")
		assert.Equal(t, origins(want.Outward), origins(edit.Plan.Outward))
		assert.Len(t, before.Rules, len(want.Rules)-len(edit.In)+len(edit.Out))
		assert.Len(t, before.Outward, len(want.Outward)-len(edit.OutwardIn)+len(edit.OutwardOut))
		var about []int32
		for m := range before.Machines {
			for _, r := range append(edit.In, edit.Out...) {
				if r.To.Has(int32(m)) {
					about = append(about, int32(m))
					break
				}
			}
		}
		assert.Equal(t, about, edit.Machines)
		for _, r := range edit.In {
			for _, there := range before.Rules {
				assert.False(t, r.To != there.To && assert.ObjectsAreEqual(r.To, there.To), "rules with equal targets share their group")
			}
		}
	})
	assert.Greater(t, edited, 10)
}
