package estate_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/estate"
)

// TestSetEachIsSetOneAfterTheOther compares an edit of many entries with as many edits of one: the files come out alike,
// letter by letter, however their entries are written.
func TestSetEachIsSetOneAfterTheOther(t *testing.T) {
	ways := []string{
		"  %s: {image: linux, size: c1m1, at: landing}\n", "  %s:   { size: c1m1, tags: {role: web}, password: true }  # its own\n",
		"  %s:\n    image: linux\n    size: c1m1\n", "  # above\n  %s: {image: linux,\n    size: c1m1}\n", "  \"%s\": {size: \"a } b\"}\n",
	}
	rapid.Check(t, func(t *rapid.T) {
		b, names := &strings.Builder{}, []string{}
		b.WriteString("estate: tides\nmachines:\n")
		for i := range rapid.IntRange(1, 12).Draw(t, "machines") {
			name := fmt.Sprintf("gauge-%d", i)
			fmt.Fprintf(b, rapid.SampledFrom(ways).Draw(t, "way"), name)
			if rapid.Bool().Draw(t, "edited") {
				names = append(names, name)
			}
		}
		b.WriteString("fronts: {pier: {network: estuary}}\n")
		set := []estate.Field{{Key: "size", Value: estate.Word("c2m4")}, {Key: "tags", Value: estate.Mapping(estate.Field{Key: "role", Value: estate.Word("db")})}}[:rapid.IntRange(0, 2).Draw(t, "set")]
		drop := []string{"password", "image"}[:rapid.IntRange(0, 2).Draw(t, "drop")]
		got, err := estate.SetEach([]byte(b.String()), "machines", names, set, drop)
		require.NoError(t, err)
		want := []byte(b.String())
		for _, name := range names {
			for _, f := range set {
				want, err = estate.Set(want, []string{"machines", name}, f.Key, f.Value)
				require.NoError(t, err)
			}
			for _, key := range drop {
				if _, there := estate.Lookup(want, []string{"machines", name}, key); there {
					want, err = estate.Remove(want, []string{"machines", name}, key)
					require.NoError(t, err)
				}
			}
		}
		assert.Equal(t, string(want), string(got))
	})
	_, err := estate.SetEach([]byte("machines: {a: {size: x}}\n"), "machines", []string{"b"}, nil, nil)
	require.ErrorContains(t, err, "there is no “b”")
}
