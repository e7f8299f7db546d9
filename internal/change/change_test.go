package change_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/oracle"
)

func read(t require.TestingT, nouns string) *estate.Estate {
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(nouns)})
	require.NoError(t, err)
	return e
}

const nouns = `estate: small
site: sim
networks:
  estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/29]}, lookout: {range: [10.60.9.0/27], for: bastion}}}
machines:
  a: {image: i, size: s, at: landing}
  b: {image: i, size: s, at: landing, tags: {role: web}}
fronts: {pier: {network: estuary, address: auto}}
bastions: {beacon: {subnet: lookout, address: auto, from: [everywhere]}}
`

// words prints changes in a line each.
func words(list []change.Change) (out []string) {
	for _, c := range list {
		out = append(out, strings.TrimSpace(string(c.Verb)+" "+c.Thing.ID()+" "+strings.Join(c.How, "; ")))
	}
	return out
}

func TestBetween(t *testing.T) {
	has, err := change.Wanted(read(t, nouns), nil, nil, nil)
	require.NoError(t, err)
	nothing, err := change.Between(has, has, nil)
	require.NoError(t, err)
	assert.Empty(t, nothing)
	fresh, err := change.Between(nil, has, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"make network estuary", "make subnet landing", "make subnet lookout", "make machine a", "make machine b", "make front pier", "make bastion beacon",
	}, words(fresh), "what is depended on is made first")
	gone, err := change.Between(has, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, "remove bastion beacon", words(gone)[0], "and removed last")
	assert.Equal(t, "remove network estuary", words(gone)[6])

	edited := strings.Replace(strings.Replace(nouns, "a: {image: i, size: s,", "a: {image: i, size: big,", 1), "role: web", "role: db", 1)
	wanted, err := change.Wanted(read(t, edited), has, nil, nil)
	require.NoError(t, err)
	list, err := change.Between(has, wanted, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"alter machine a size s → big", `alter machine b tags role:web → role:db`}, words(list))
	assert.True(t, list[0].Restart)
	assert.False(t, list[1].Restart)

	other, err := change.Wanted(read(t, strings.Replace(nouns, "a: {image: i,", "a: {image: other,", 1)), has, nil, nil)
	require.NoError(t, err)
	_, err = change.Between(has, other, nil)
	require.ErrorContains(t, err, "the image of a machine that exists cannot be altered")
}

func TestAFullSubnetIsTold(t *testing.T) {
	_, err := change.Wanted(read(t, strings.Replace(nouns, "fronts:", "  c: {image: i, size: s, at: landing}\n  d: {image: i, size: s, at: landing}\nfronts:", 1)), nil, nil, nil)
	require.ErrorContains(t, err, "subnet landing is full: 10.60.1.0/29 has no address left for machine d")
}

// TestAddressesAreUniqueAndStay gives addresses to random estates, and again when
// machines came and went: nobody shares one, they lie in their subnets, and who
// stays keeps theirs.
func TestAddressesAreUniqueAndStay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		shift := rapid.IntRange(0, 5).Draw(t, "shift")
		first, second := oracle.DrawShifted(t, shift), oracle.DrawShifted(t, shift)
		has, err := change.Wanted(first.Estate, nil, nil, nil)
		require.NoError(t, err)
		wanted, err := change.Wanted(second.Estate, has, nil, nil)
		require.NoError(t, err)
		held := map[string]change.Thing{}
		for _, h := range has {
			held[h.ID()] = h
		}
		seen := map[netip.Addr]string{}
		for _, w := range wanted {
			for at, list := range w.Spec.Inside {
				s, ok := second.Estate.Subnet(at)
				require.True(t, ok)
				require.Len(t, list, len(s.Range))
				for i, a := range list {
					require.True(t, s.Range[i].Contains(a))
					require.Empty(t, seen[a], "%s is given twice", a)
					seen[a] = w.ID()
				}
				if old, there := held[w.ID()]; there && old.Spec.Inside[at] != nil {
					require.Equal(t, old.Spec.Inside[at], list)
				}
			}
		}
	})
}
