package change_test

import (
	"errors"
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

var (
	four = netip.MustParseAddr("203.0.113.7")
	six  = netip.MustParseAddr("2001:db8:60::7")
	net4 = netip.MustParsePrefix("10.60.0.0/16")
	net6 = netip.MustParsePrefix("2001:db8:60::/48")
)

// TestNoFieldIsForgotten fills in one field of a spec after the other: it is another one then, and is stored and read as such.
func TestNoFieldIsForgotten(t *testing.T) {
	values := map[reflect.Type]any{
		reflect.TypeFor[string](): "x", reflect.TypeFor[bool](): true, reflect.TypeFor[int](): 1, reflect.TypeFor[int64](): int64(1), reflect.TypeFor[estate.Speed](): estate.Speed("fast"),
		reflect.TypeFor[[]string](): []string{"x"}, reflect.TypeFor[map[string]string](): map[string]string{"x": "y"},
		reflect.TypeFor[[]netip.Addr](): []netip.Addr{four}, reflect.TypeFor[[]netip.Prefix](): []netip.Prefix{net4}, reflect.TypeFor[map[string][]netip.Addr](): map[string][]netip.Addr{"s": {four}},
		reflect.TypeFor[estate.Traffic](): estate.Traffic{Packets: 5}, reflect.TypeFor[[]change.Setup](): []change.Setup{{Name: "x", Script: "echo", Listens: []string{"tcp/80"}}}, reflect.TypeFor[map[string]change.Peer](): map[string]change.Peer{"p": {Key: "k", Addrs: []netip.Addr{four}}},
	}
	of := reflect.TypeFor[change.Spec]()
	for i := range of.NumField() {
		field := of.Field(i)
		value, known := values[field.Type]
		require.True(t, known, field.Name)
		var s change.Spec
		reflect.ValueOf(&s).Elem().Field(i).Set(reflect.ValueOf(value))
		assert.False(t, s.Equal(change.Spec{}), field.Name)
		assert.True(t, s.Equal(s), field.Name)
		assert.Equal(t, field.Name == "Digest" || field.Name == "How", s.Is(change.Spec{}), field.Name)
		text := change.Resource{Kind: change.Machine, Name: "m", Spec: s, Given: flow.Public{Addr4: four}}.Encode()
		read, err := change.DecodeResource("machine", "m", text)
		require.NoError(t, err)
		assert.True(t, read.Spec.Equal(s), field.Name)
		assert.Equal(t, four, read.Given.Addr4)
	}
	for _, other := range []change.Setup{{Name: "y", Script: "echo", Listens: []string{"tcp/80"}}, {Name: "x", Listens: []string{"tcp/80"}}, {Name: "x", Script: "echo"}} {
		assert.False(t, change.Spec{Setup: []change.Setup{other}}.Equal(change.Spec{Setup: values[reflect.TypeFor[[]change.Setup]()].([]change.Setup)}))
	}
	for _, other := range []change.Peer{{Key: "l", Addrs: []netip.Addr{four}}, {Key: "k"}} {
		assert.False(t, change.Spec{Peers: map[string]change.Peer{"p": other}}.Equal(change.Spec{Peers: values[reflect.TypeFor[map[string]change.Peer]()].(map[string]change.Peer)}))
	}
	assert.True(t, change.Spec{Joins: []string{}}.Equal(change.Spec{}), "an empty list is none")
	_, err := change.DecodeResource("machine", "m", `{"spec":`)
	require.ErrorContains(t, err, "machine m")
}

func TestWhatAResourceIs(t *testing.T) {
	for _, c := range []struct {
		of   change.Resource
		want string
	}{
		{change.Resource{Kind: change.Key, Spec: change.Spec{Public: "ssh-ed25519 AAAA admin"}}, "ssh-ed25519"},
		{change.Resource{Kind: change.Uplink}, "routed by the host"},
		{change.Resource{Kind: change.Uplink, Spec: change.Spec{Link: "eth0", Own: []netip.Prefix{net4, net6}}}, "on eth0 as 10.60.0.0/16 and 2001:db8:60::/48"},
		{change.Resource{Kind: change.Network, Spec: change.Spec{Ranges: []netip.Prefix{net4}, Outside: true, Outward: "closed", Joins: []string{"a", "b"}, DNS: []netip.Addr{four, six}}}, "10.60.0.0/16, outside, outward closed, joins a, b, DNS 203.0.113.7 and 2001:db8:60::7"},
		{change.Resource{Kind: change.Subnet, Spec: change.Spec{Network: "n", Gateway: []netip.Addr{four}, Static: true, Allocate: []string{"10.60.1.4-10.60.1.9"}}}, "in n, gateway 203.0.113.7, fixed addresses, allocates 10.60.1.4-10.60.1.9"},
		{change.Resource{Kind: change.Line, Spec: change.Spec{Network: "n", Peers: map[string]change.Peer{"q": {}, "p": {}}, Port: 51820}}, "in n, peers p, q, heard on udp/51820"},
		{change.Resource{Kind: change.Line, Spec: change.Spec{Network: "n"}}, "in n"},
		{change.Resource{Kind: change.Address, Spec: change.Spec{Auto4: true}}, "IPv4"},
		{change.Resource{Kind: change.Address, Spec: change.Spec{V6: true, Auto6: true}}, "IPv6"},
		{change.Resource{Kind: change.Image, Spec: change.Spec{File: "i.img", Format: "raw", GB: 4, Bytes: 999}}, "i.img, raw, a file of 999 bytes, a disk of 4 GB"},
		{change.Resource{Kind: change.Image, Spec: change.Spec{Bytes: 1000}}, "a file of 1.0 kB"},
		{change.Resource{Kind: change.Image, Spec: change.Spec{Bytes: 2_500_000}}, "a file of 2.5 MB"},
		{change.Resource{Kind: change.Image, Spec: change.Spec{Bytes: 1_000_000_000}}, "a file of 1.0 GB"},
		{change.Resource{Kind: change.Snapshot, Spec: change.Spec{GB: 8, Machine: "m", How: "flushed"}}, "8 GB, of machine m, flushed"},
		{change.Resource{Kind: change.Snapshot, Spec: change.Spec{GB: 8, Volume: "v", Image: "i"}}, "8 GB, of volume v, with the system i"},
		{change.Resource{Kind: change.Volume, Spec: change.Spec{GB: 8, From: "s", Machine: "m", Device: "vdb", Image: "i"}}, "i, 8 GB standard disk, from snapshot s, at m as vdb"},
		{change.Resource{Kind: change.Volume, Spec: change.Spec{GB: 8, Speed: "fast", Machine: "m", Device: estate.SystemDevice}}, "8 GB fast disk, the system disk of m"},
		{change.Resource{Kind: change.Front, Spec: change.Spec{Network: "n", Auto6: true}}, "in n, a public address"},
		{change.Resource{Kind: change.Bastion, Spec: change.Spec{Subnets: []string{"s"}, From: "office", Fixed: []netip.Addr{four}}}, "at s, public address 203.0.113.7, from office"},
		{change.Resource{Kind: change.Machine, Spec: change.Spec{
			Boot: "v", Size: "c1", Subnets: []string{"s", "t"}, Key: "a,b", Password: true, Setup: []change.Setup{{Name: "web"}, {Name: "own.sh"}}, Auto4: true, For: "t", Tags: map[string]string{"tier": "1", "role": "web"},
		}}, "booted from volume v, c1, at s, t, key a, b, with a password, set up by web, own.sh, a public address leading to t, role=web, tier=1"},
		{change.Resource{Kind: change.Machine, Spec: change.Spec{Image: "i", Subnets: []string{"s"}, For: "s", Reserved: []string{"slip"}}}, "i, at s, reserved address slip"},
	} {
		assert.Equal(t, c.want, c.of.Describe())
	}
	two := change.Resource{Kind: change.Machine, Spec: change.Spec{Subnets: []string{"t", "s"}, Inside: map[string][]netip.Addr{"s": {four}, "t": {six}}}}
	assert.Equal(t, []string{"2001:db8:60::7", "203.0.113.7"}, two.InsideWords(), "in the order of its subnets")
	assert.Equal(t, []string{"a", "b"}, change.Spec{Key: "a,b"}.Keys())
	assert.Empty(t, change.Spec{}.Keys())
}

// TestWhatDiffersIsTold alters one thing of a resource that exists, and reads what is told of it, or why that cannot be.
func TestWhatDiffersIsTold(t *testing.T) {
	is := func(kind change.Kind, s change.Spec) change.Resource {
		return change.Resource{Kind: kind, Name: "x", Spec: s}
	}
	for _, c := range []struct {
		kind          change.Kind
		before, after change.Spec
		want          string // the words of the change; an error, after “!”
	}{
		{change.Key, change.Spec{Public: "a"}, change.Spec{Public: "b"}, "alter key x public key a → b"},
		{change.Network, change.Spec{Outside: true}, change.Spec{}, "alter network x outside yes → no"},
		{change.Network, change.Spec{}, change.Spec{Outside: true, Outward: "closed"}, "alter network x outside no → yes; outward open → closed"},
		{change.Network, change.Spec{Joins: []string{"a"}}, change.Spec{Joins: []string{"a", "b"}}, "alter network x joins a → a, b"},
		{change.Network, change.Spec{Joins: []string{}}, change.Spec{}, ""},
		{change.Line, change.Spec{Peers: map[string]change.Peer{"p": {Key: "k"}}}, change.Spec{Port: 7}, "alter line x peers p → none; port none → 7"},
		{change.Line, change.Spec{Peers: map[string]change.Peer{"p": {Key: "k"}}}, change.Spec{Peers: map[string]change.Peer{"p": {Key: "l"}}}, "alter line x peers p → p"},
		{change.Machine, change.Spec{Setup: []change.Setup{{Name: "s", Script: "a"}}}, change.Spec{Setup: []change.Setup{{Name: "s", Script: "b"}}}, "alter machine x setup s as it was → changed (runs at restart --setup)"},
		{change.Machine, change.Spec{}, change.Spec{Setup: []change.Setup{{Name: "s"}}}, "alter machine x setup none → s (runs at restart --setup)"},
		{change.Machine, change.Spec{Fixed: []netip.Addr{four}}, change.Spec{Fixed: []netip.Addr{six}}, "alter machine x public address 203.0.113.7 → 2001:db8:60::7"},
		{change.Machine, change.Spec{GB: 8}, change.Spec{GB: 9}, "alter machine x GB 8 → 9"},
		{change.Machine, change.Spec{GB: 9}, change.Spec{GB: 8}, "!a disk cannot shrink, from 9 GB to 8 GB"},
		{change.Volume, change.Spec{GB: 9}, change.Spec{GB: 8}, "!a disk cannot shrink"},
		{change.Machine, change.Spec{Boot: "v"}, change.Spec{Boot: "w"}, "!what a machine that exists boots from cannot be altered"},
		{change.Machine, change.Spec{Image: "v"}, change.Spec{Image: "w"}, "!the image of a machine that exists cannot be altered"},
		{change.Machine, change.Spec{Key: "v"}, change.Spec{Key: "w"}, "!the key of a machine that exists is inside it; change machine x --key w puts the new one there"},
		{change.Machine, change.Spec{Key: "v"}, change.Spec{}, "!; change machine x --key NAME puts"},
		{change.Machine, change.Spec{Speed: "standard"}, change.Spec{Speed: "fast"}, "!the kind of a disk that exists cannot be altered"},
		{change.Volume, change.Spec{Speed: "standard"}, change.Spec{Speed: "fast"}, "!the kind of a disk that exists cannot be altered"},
		{change.Volume, change.Spec{From: "a"}, change.Spec{From: "b"}, "!what a volume began as cannot be altered"},
		{change.Volume, change.Spec{Image: "a"}, change.Spec{Image: "b"}, "!what a volume began as cannot be altered"},
		{change.Snapshot, change.Spec{Machine: "a"}, change.Spec{Machine: "b"}, "!what a snapshot is of cannot be altered"},
		{change.Snapshot, change.Spec{Volume: "a"}, change.Spec{Machine: "a"}, "!what a snapshot is of cannot be altered"},
		{change.Image, change.Spec{File: "a"}, change.Spec{File: "b"}, "!the file of an image that exists cannot be altered"},
		{change.Address, change.Spec{V6: true}, change.Spec{}, "!its family cannot be altered"},
		{change.Subnet, change.Spec{Network: "a"}, change.Spec{Network: "b"}, "!it cannot move to another network"},
		{change.Line, change.Spec{Network: "a"}, change.Spec{Network: "b"}, "!it cannot move to another network"},
		{change.Front, change.Spec{Network: "a"}, change.Spec{Network: "b"}, "!it cannot move to another network"},
		{change.Bastion, change.Spec{Sessions: 1}, change.Spec{Sessions: 2}, "alter bastion x sessions 1 → 2"},
	} {
		list, err := change.Diff([]change.Resource{is(c.kind, c.before)}, []change.Resource{is(c.kind, c.after)}, nil)
		if want, wrong := strings.CutPrefix(c.want, "!"); wrong {
			bad, _ := errors.AsType[sentence.Errors](err)
			require.Len(t, bad, 1)
			assert.Contains(t, bad[0].Problem+"; "+bad[0].Remedy.String(), want)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.want, strings.Join(words(list), "\n"))
		// Somebody else altered it, and it is to be as it is now, or as it was.
		drifted := is(c.kind, c.after)
		drifted.LastEnacted = &c.before
		told := change.Drift([]change.Resource{drifted}, nil)
		if c.want == "" {
			assert.Empty(t, told)
			continue
		}
		require.Len(t, told, 1)
		assert.Equal(t, strings.Replace(c.want, "alter "+string(c.kind)+" x", string(c.kind)+" x was altered:", 1), told[0].String())
		list, err = change.Diff([]change.Resource{drifted}, []change.Resource{is(c.kind, c.after)}, nil)
		require.NoError(t, err)
		assert.Equal(t, change.Adopt, list[0].Verb)
	}
	rotates := is(change.Machine, change.Spec{Key: "w"})
	rotates.Rotates = true
	list, err := change.Diff([]change.Resource{is(change.Machine, change.Spec{Key: "v"})}, []change.Resource{rotates}, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"alter machine x key v → w"}, words(list), "a key that is inside is rotated")
	list, err = change.Diff([]change.Resource{is(change.Machine, change.Spec{Subnets: []string{"s"}})}, []change.Resource{is(change.Machine, change.Spec{Subnets: []string{"s", "t"}})}, nil)
	require.NoError(t, err)
	assert.True(t, list[0].Restart, "another network card needs a start")
	_, err = change.Diff(nil, []change.Resource{is(change.Snapshot, change.Spec{Volume: "v"})}, nil)
	require.ErrorContains(t, err, "snapshot x: there is no volume v")
	stray := is(change.Machine, change.Spec{Image: "a"})
	stray.Unmanaged = true
	_, err = change.Diff([]change.Resource{stray}, []change.Resource{is(change.Machine, change.Spec{Image: "b"})}, nil)
	require.ErrorAs(t, err, new(interface{ Error() string }))
	require.ErrorContains(t, err, "cannot be altered")
	told := change.Drift([]change.Resource{stray}, []change.Resource{is(change.Key, change.Spec{})})
	require.Len(t, told, 2)
	assert.Equal(t, "key x is gone from the site", told[0].String())
	assert.Equal(t, "machine x is on the site and in no file: a", told[1].String())
	assert.Equal(t, "machine x was altered: a; b", change.Drifted{Resource: is(change.Machine, change.Spec{}), How: []string{"a", "b"}}.String())
}

func TestWhatDependsOnWhat(t *testing.T) {
	machine := change.Resource{Kind: change.Machine, Name: "m", Spec: change.Spec{Image: "i", Boot: "v", Key: "a,b", Subnets: []string{"s"}}}
	for _, c := range []struct {
		of, in change.Resource
		want   bool
	}{
		{machine, change.Resource{Kind: change.Subnet, Name: "s"}, true},
		{machine, change.Resource{Kind: change.Subnet, Name: "t"}, false},
		{machine, change.Resource{Kind: change.Key, Name: "b"}, true},
		{machine, change.Resource{Kind: change.Key, Name: "c"}, false},
		{machine, change.Resource{Kind: change.Image, Name: "i"}, true},
		{machine, change.Resource{Kind: change.Volume, Name: "v"}, true},
		{machine, change.Resource{Kind: change.Image, Name: "j"}, false},
		{change.Resource{Kind: change.Bastion, Spec: change.Spec{Key: "b"}}, change.Resource{Kind: change.Key, Name: "b"}, false},
		{change.Resource{Kind: change.Front, Spec: change.Spec{Network: "n"}}, change.Resource{Kind: change.Network, Name: "n"}, true},
		{change.Resource{Kind: change.Front, Spec: change.Spec{Network: "n"}}, change.Resource{Kind: change.Network, Name: "o"}, false},
		{change.Resource{Kind: change.Volume, Spec: change.Spec{Machine: "m"}}, machine, true},
		{change.Resource{Kind: change.Volume, Spec: change.Spec{Machine: "m", Device: estate.SystemDevice}}, machine, false},
	} {
		assert.Equal(t, c.want, c.of.StandsIn(c.in), "%s in %s", c.of.ID(), c.in.ID())
	}
	make := change.Change{Verb: change.Make, Resource: machine}
	assert.Equal(t, "it needs image i, which was not made", make.BlockedBy([]change.Change{{Verb: change.Make, Resource: change.Resource{Kind: change.Image, Name: "i"}}}))
	assert.Empty(t, make.BlockedBy([]change.Change{{Verb: change.Alter, Resource: change.Resource{Kind: change.Image, Name: "i"}}}), "it is there")
	snapshot := change.Change{Verb: change.Make, Resource: change.Resource{Kind: change.Snapshot, Name: "s", Spec: change.Spec{Machine: "m"}}}
	assert.Empty(t, make.BlockedBy([]change.Change{snapshot}))
	assert.Equal(t, "it stays as it is, since snapshot s was not taken", change.Change{Verb: change.Alter, Resource: machine}.BlockedBy([]change.Change{snapshot}))
	assert.Empty(t, change.Change{Verb: change.Alter, Resource: change.Resource{Kind: change.Machine, Name: "o"}}.BlockedBy([]change.Change{snapshot}))
	found, there := change.Find([]change.Resource{{Kind: change.Key, Name: "m"}, machine}, change.Machine, "m")
	assert.True(t, there)
	assert.Equal(t, machine, found)
	_, there = change.Find([]change.Resource{machine}, change.Machine, "n")
	assert.False(t, there)
}

// TestPublicAddresses plans public addresses, and hands those that were given to the flow plan.
func TestPublicAddresses(t *testing.T) {
	other := netip.MustParseAddr("203.0.113.8")
	is := func(kind change.Kind, name string, s change.Spec, given flow.Public) change.Resource {
		return change.Resource{Kind: kind, Name: name, Spec: s, Given: given}
	}
	has := []change.Resource{
		is(change.Address, "slip", change.Spec{Auto4: true}, flow.Public{Addr4: four}), is(change.Address, "jetty", change.Spec{V6: true}, flow.Public{Addr6: six}),
		is(change.Machine, "keeps", change.Spec{Auto4: true}, flow.Public{Addr4: other}), is(change.Machine, "takes", change.Spec{Auto4: true}, flow.Public{Addr4: other}),
	}
	planned := change.Planned(has, []change.Resource{
		is(change.Address, "slip", change.Spec{Auto4: true}, flow.Public{}), is(change.Address, "jetty", change.Spec{V6: true}, flow.Public{}), is(change.Address, "pier", change.Spec{Fixed: []netip.Addr{other}}, flow.Public{}),
		is(change.Machine, "keeps", change.Spec{Auto4: true}, flow.Public{}), is(change.Machine, "takes", change.Spec{Reserved: []string{"slip"}}, flow.Public{}),
		is(change.Front, "both", change.Spec{Reserved: []string{"slip", "jetty"}}, flow.Public{}), is(change.Front, "fixed", change.Spec{Fixed: []netip.Addr{four, six}}, flow.Public{}), is(change.Front, "new", change.Spec{Auto4: true}, flow.Public{}),
	})
	given := map[string]flow.Public{}
	for _, p := range planned {
		given[p.Name] = p.Given
	}
	assert.Equal(t, map[string]flow.Public{
		"slip": {Addr4: four}, "jetty": {Addr6: six}, "pier": {Addr4: other}, "keeps": {Addr4: other}, "takes": {Addr4: four}, "both": {Addr4: four, Addr6: six}, "fixed": {Addr4: four, Addr6: six}, "new": {},
	}, given)
	bastion := is(change.Bastion, "b", change.Spec{Subnets: []string{"s"}, Inside: map[string][]netip.Addr{"s": {four}}}, flow.Public{Addr6: six})
	a := change.Assigned(append(planned, bastion))
	assert.Equal(t, other, a.Machines["keeps"].Public)
	assert.Equal(t, flow.Public{Addr4: four, Addr6: six}, a.Fronts["both"])
	assert.Equal(t, flow.BastionAddrs{Inside: []netip.Addr{four}, Public: flow.Public{Addr6: six}}, a.Bastions["b"])
	assert.Equal(t, []netip.Addr{four, six, other}, a.Reserved)
}
