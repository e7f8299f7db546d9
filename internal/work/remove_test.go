package work

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

const shore = `estate: tides
site: sim
people: {mara: {groups: [ops]}}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}
addresses: {slip: ipv4}
snapshots: {gold: {machine: a}}
machines: # all of them
  a: {image: linux-web, size: c1m1, at: landing, address: slip, tags: {role: web}} # the first
  b: {image: linux-web, size: c1m1, at: landing, tags: {role: web}}
  c: {image: linux-web, size: c1m1, at: landing}
volumes:
  charts: {gb: 10, machine: a, device: vdc}   # kept
  logs: {gb: 5, machine: b}
fronts: {pier: {network: estuary, address: auto}}
`

const shoreRules = `# who may
allow https from everywhere to a, b   # both
allow http from b, c to all except a
forward pier tcp/8022 to a on ssh
deny any from 192.0.2.1 to role=web
never ssh from internet to a
permit ops to open ssh to all from everywhere up to 1h
`

func TestRemovalTellsWhatGoesAlongAndWhatStays(t *testing.T) {
	w, _, clean := begin(t, bothFiles(shore, shoreRules))
	defer clean()
	c := w.Site.Catalogue()
	out, err := w.Remove(bothFiles(shore, shoreRules), Removal{Machines: []string{"a"}}, c)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"“allow https from everywhere to a, b” becomes “allow https from everywhere to b”",
		"“allow http from b, c to all except a” becomes “allow http from b, c to all”",
		"“forward pier tcp/8022 to a on ssh” goes",
		"“never ssh from internet to a” goes",
	}, out.Along)
	assert.Equal(t, []string{
		"volume charts stays, 10 GB, with its data: EUR 0.73 a month",
		"address slip stays reserved: EUR 2.92 a month", "snapshot gold of a stays",
	}, out.Stays)
	assert.Equal(t, `# who may
allow https from everywhere to b   # both
allow http from b, c to all
deny any from 192.0.2.1 to role=web
permit ops to open ssh to all from everywhere up to 1h
`, string(out.Files.Get(estate.RulesName)))
	nouns := string(out.Files.Get(estate.FileName))
	assert.Contains(t, nouns, "machines: # all of them\n  b: {")
	assert.Contains(t, nouns, "  charts: {gb: 10}   # kept\n")
	_, err = out.Files.Estate()
	require.NoError(t, err)

	out, err = w.Remove(bothFiles(shore, shoreRules), Removal{Machines: []string{"a", "b"}, WithVolumes: true}, c)
	require.NoError(t, err)
	assert.Contains(t, out.Along, "volume charts goes, with all its data")
	assert.Contains(t, out.Along, "“deny any from 192.0.2.1 to role=web” goes: nothing is left that it speaks of")
	e, err := out.Files.Estate()
	require.NoError(t, err)
	assert.Empty(t, e.Volumes)
	assert.Len(t, e.Sentences(), 2)

	_, err = w.Remove(bothFiles(shore, shoreRules+"always https from internet to pier\n"), Removal{Fronts: []string{"pier"}}, c)
	bad := &sentence.Error{}
	require.ErrorAs(t, err, &bad)
	assert.Equal(t, "retract", bad.Remedy.Commands()[0].Verb)

	all, err := bothFiles(shore, shoreRules).RemoveAll()
	require.NoError(t, err)
	e, err = all.Estate()
	require.NoError(t, err)
	assert.Empty(t, e.Sentences())
	assert.Empty(t, e.Networks)
	assert.Len(t, e.People, 1, "who is who stays")
	assert.Equal(t, "# who may\n", string(all.Get(estate.RulesName)))
}

// TestAWayIsFoundAndItsKeyIsChecked goes over the doors that a machine can have.
func TestAWayIsFoundAndItsKeyIsChecked(t *testing.T) {
	w, _, clean := begin(t, bothFiles(shore, "permit ops to open ssh to all from everywhere up to 1h\n"))
	defer clean()
	_, err := w.AccessPath(t.Context(), "z", Keys{})
	require.ErrorContains(t, err, "the site has no machine “z”")
	for machine, where := range map[string]string{"a": "203.0.113.10:22", "b": "", "c": ""} {
		_, err := w.AccessPath(t.Context(), machine, Keys{})
		closed := &NoAccessError{}
		require.ErrorAs(t, err, &closed, machine)
		s, err := sentence.ParseArgs([]string{"open ssh to " + machine + " from me for 1h because \"look\""}, w.Clock.Now())
		require.NoError(t, err)
		_, err = w.Open(t.Context(), s.(sentence.Open))
		if where == "" {
			require.Error(t, err, "there is no door to it")
			continue
		}
		require.NoError(t, err)
		way, err := w.AccessPath(t.Context(), machine, Keys{})
		require.NoError(t, err)
		assert.Equal(t, where, way.To.String())
		assert.Equal(t, "keeper", way.User)
		assert.Empty(t, way.KeyPath, "the machine has no key")
		c, err := w.Connect(t.Context(), way, func() (string, error) { return "guessed", nil })
		require.ErrorContains(t, err, "did not let keeper in")
		assert.Nil(t, c)
	}
}
