package change_test

import (
	"net/netip"
	"slices"
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
  estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/29]}, lookout: {range: [10.60.9.0/27]}}}
machines:
  a: {image: i, size: s, at: landing}
  b: {image: i, size: s, at: landing, tags: {role: web}}
fronts: {pier: {network: estuary, address: auto}}
bastions: {beacon: {subnet: lookout, address: auto, from: [everywhere]}}
`

// words prints changes in a line each.
func words(list []change.Change) (out []string) {
	for _, c := range list {
		out = append(out, strings.TrimSpace(string(c.Verb)+" "+c.Resource.ID()+" "+strings.Join(c.How, "; ")))
	}
	return out
}

func TestBetween(t *testing.T) {
	has, err := change.Desired(read(t, nouns), nil, nil, nil)
	require.NoError(t, err)
	nothing, err := change.Diff(has, has, nil)
	require.NoError(t, err)
	assert.Empty(t, nothing)
	fresh, err := change.Diff(nil, has, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"make network estuary", "make subnet landing", "make subnet lookout", "make machine a", "make machine b", "make front pier", "make bastion beacon",
	}, words(fresh), "what is depended on is made first")
	gone, err := change.Diff(has, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, "remove bastion beacon", words(gone)[0], "and removed last")
	assert.Equal(t, "remove network estuary", words(gone)[6])

	edited := strings.Replace(strings.Replace(nouns, "a: {image: i, size: s,", "a: {image: i, size: big,", 1), "role: web", "role: db", 1)
	wanted, err := change.Desired(read(t, edited), has, nil, nil)
	require.NoError(t, err)
	list, err := change.Diff(has, wanted, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"alter machine a size s → big", `alter machine b tags role:web → role:db`}, words(list))
	assert.True(t, list[0].Restart)
	assert.False(t, list[1].Restart)

	other, err := change.Desired(read(t, strings.Replace(nouns, "a: {image: i,", "a: {image: other,", 1)), has, nil, nil)
	require.NoError(t, err)
	_, err = change.Diff(has, other, nil)
	require.ErrorContains(t, err, "the image of a machine that exists cannot be altered")
}

func TestAFullSubnetIsTold(t *testing.T) {
	_, err := change.Desired(read(t, strings.Replace(nouns, "fronts:", "  c: {image: i, size: s, at: landing}\n  d: {image: i, size: s, at: landing}\n  e: {image: i, size: s, at: landing}\n  f: {image: i, size: s, at: landing}\nfronts:", 1)), nil, nil, nil)
	require.ErrorContains(t, err, "subnet landing is full: 10.60.1.0/29 has no address left for machine f")
}

// TestAddressesAreUniqueAndStay gives addresses to random estates, and again when
// machines came and went: nobody shares one, they lie in their subnets, and who
// stays keeps theirs.
func TestAddressesAreUniqueAndStay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		shift := rapid.IntRange(0, 5).Draw(t, "shift")
		first, second := oracle.DrawShifted(t, shift), oracle.DrawShifted(t, shift)
		has, err := change.Desired(first.Estate, nil, nil, nil)
		require.NoError(t, err)
		wanted, err := change.Desired(second.Estate, has, nil, nil)
		require.NoError(t, err)
		held := map[string]change.Resource{}
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

const disks = `estate: a
site: sim
networks: {n: {space: [10.0.0.0/16], outside: true, subnets: {s: {range: [10.0.1.0/24], gateway: 10.0.1.2, allocate: [10.0.1.2-10.0.1.5, 10.0.1.200]}, t: {range: [10.0.2.0/24]}}}}
addresses: {slip: ipv4, jetty: ipv4}
snapshots: {old: {machine: a}, new: {volume: v}}
machines:
  a: {image: i, size: c, at: [s, t], address: slip, inside: 10.0.2.9}
  b: {image: old, size: c, at: s, address: jetty}
volumes: {v: {gb: 10, machine: a}, w: {gb: 10, from: new, machine: b, device: vdx}}
`

func TestWhatIsNeededComesFirst(t *testing.T) {
	wanted, err := change.Desired(read(t, disks), nil, map[string]int{"old": 8}, func(string) int { return 8 })
	require.NoError(t, err)
	list, err := change.Diff(nil, wanted, nil)
	require.NoError(t, err)
	place := map[string]int{}
	for i, c := range list {
		place[c.Resource.ID()] = i
	}
	for _, order := range [][]string{
		{"machine a", "snapshot old", "machine b", "volume w"}, {"volume v", "snapshot new", "volume w"}, {"address slip", "machine a"}, {"subnet s", "machine a"},
	} {
		for i := 1; i < len(order); i++ {
			require.Less(t, place[order[i-1]], place[order[i]], "%s before %s", order[i-1], order[i])
		}
	}
	for _, resource := range wanted {
		switch resource.ID() {
		case "machine a":
			require.Equal(t, "10.0.1.3", resource.Spec.Inside["s"][0].String(), "the first that is allocated, and not the gateway")
			require.Equal(t, "10.0.2.9", resource.Spec.Inside["t"][0].String(), "asked for")
			require.Equal(t, "i, c, 8 GB standard disk, at s, t, reserved address slip leading to s", resource.Describe(), "which interface it leads to is said")
		case "machine b":
			require.Equal(t, "10.0.1.4", resource.Spec.Inside["s"][0].String())
		}
	}
	_, err = change.Desired(read(t, strings.Replace(disks, "volumes:", "  c: {image: i, size: c, at: s}\n  d: {image: i, size: c, at: s}\n  e: {image: i, size: c, at: s}\nvolumes:", 1)), nil, nil, nil)
	require.ErrorContains(t, err, "subnet s is full")
	// A snapshot of what is there comes before all else, and holds what it is of.
	without, err := change.Desired(read(t, strings.Replace(disks, "volumes: {v: {gb: 10, machine: a}, ", "volumes: {", 1)), wanted, nil, func(string) int { return 8 })
	require.NoError(t, err)
	has := slices.DeleteFunc(slices.Clone(wanted), func(t change.Resource) bool { return t.ID() == "snapshot new" || t.ID() == "volume w" })
	list, err = change.Diff(has, without, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"make snapshot new", "remove volume v"}, words(list)[:2])
	require.Contains(t, list[1].BlockedBy(list[:1]), "it stays as it is, since snapshot new was not taken")
	require.Empty(t, list[1].BlockedBy(nil))
	// What is on the site and in no file stays, unless it is to be discarded.
	has[0].Unmanaged = true
	list, err = change.Diff(has[:1], nil, nil)
	require.NoError(t, err)
	require.Empty(t, list)
	list, err = change.Diff(has[:1], nil, map[string]bool{has[0].ID(): true})
	require.NoError(t, err)
	require.Len(t, list, 1)
	// Disks do not shrink.
	smaller, err := change.Desired(read(t, strings.Replace(disks, "gb: 10, machine: a", "gb: 9, machine: a", 1)), wanted, map[string]int{"old": 8}, func(string) int { return 8 })
	require.NoError(t, err)
	_, err = change.Diff(wanted, smaller, nil)
	require.ErrorContains(t, err, "a disk cannot shrink, from 10 GB to 9 GB")
}

func TestAddressesChangePlaces(t *testing.T) {
	wanted, err := change.Desired(read(t, disks), nil, nil, nil)
	require.NoError(t, err)
	swapped := strings.NewReplacer("address: slip", "address: jetty", "address: jetty", "address: slip").Replace(disks)
	other, err := change.Desired(read(t, swapped), wanted, nil, nil)
	require.NoError(t, err)
	list, err := change.Diff(wanted, other, nil)
	require.NoError(t, err)
	require.Equal(t, []string{
		"alter machine a gives its public address up", "alter machine b gives its public address up",
		"alter machine a reserved address slip → jetty", "alter machine b reserved address jetty → slip",
	}, words(list))
	// A reservation that somebody took away is made again, and whoever asks for it takes the new one.
	lost := slices.DeleteFunc(slices.Clone(wanted), func(t change.Resource) bool { return t.ID() == "address slip" })
	list, err = change.Diff(lost, wanted, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"make address slip", "alter machine a takes the reserved address slip as it is now"}, words(list))
}

// TestAnAddressThatWasGivenUpIsGivenLast makes machines in a subnet whose lowest addresses rest.
func TestAnAddressThatWasGivenUpIsGivenLast(t *testing.T) {
	e := read(t, "estate: e\nsite: sim\nnetworks: {n: {space: [10.0.0.0/16], subnets: {s: {range: [10.0.1.0/29]}}}}\nmachines: {a: {image: i, size: c, at: s}, b: {image: i, size: c, at: s}, c: {image: i, size: c, at: s}}\n")
	addr := func(text string) netip.Addr { return netip.MustParseAddr(text) }
	list, err := change.Desired(e, nil, nil, nil, addr("10.0.1.2"), addr("10.0.1.3"), addr("10.0.1.5"))
	require.NoError(t, err)
	var got []netip.Addr
	for _, m := range list {
		if m.Kind == change.Machine {
			got = append(got, m.Spec.Inside["s"]...)
		}
	}
	assert.Equal(t, []netip.Addr{addr("10.0.1.4"), addr("10.0.1.6"), addr("10.0.1.2")}, got)
}
