package work

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/sim"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/site"
)

const tides = `estate: tides
site: sim
people: {mara: {groups: [ops]}}
networks: {estuary: {space: [10.60.0.0/16, "2001:db8:60::/48"], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, deep: {range: ["2001:db8:60:2::/64"]}}}}
keys: {ops: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKksNuZqJe6Z/4Yvqo6HmHvmx80Tw+5mHEAKRbDx47Ey ops"}
addresses: {slip: ipv4, jetty: 203.0.113.30}
`

const before = tides + `machines:
  m-1: {image: linux-web, size: c1m1, at: landing, key: ops, address: slip}
  m-2: {image: linux-web, size: c1m1, at: landing, address: jetty, disk: 20}
  m-3: {image: linux-web, size: c1m1, at: [deep, landing]}
volumes: {charts: {gb: 10, machine: m-1}, logs: {gb: 5, machine: m-3}}
`

const after = tides + `snapshots: {autumn: {volume: logs}, gold: {machine: m-3}}
machines:
  m-1: {image: linux-web, size: c1m2, at: landing, key: ops, address: jetty}
  m-2: {image: linux-web, size: c1m1, at: landing, address: slip, disk: 30}
  m-4: {image: gold, size: c1m1, at: landing, inside: 10.60.1.9, setup: web-server}
volumes: {charts: {gb: 40, machine: m-2}, again: {gb: 9, from: autumn, machine: m-4, device: vdd}}
`

const beforeRules = "permit ops to open ssh, https to all from everywhere up to 4h\nallow https from everywhere to m-1, m-3\n"

const afterRules = "permit ops to open ssh, https to all from everywhere up to 4h\nallow https from everywhere to m-1, m-4\nallow http from everywhere to m-2\n"

func bothFiles(nouns, rules string) Files {
	return Files{{Name: estate.FileName, Data: []byte(nouns)}, {Name: estate.RulesName, Data: []byte(rules)}}
}

// TestFaultsEndWell plays each fault at each step of an enactment that makes,
// alters, moves and removes. In each: the next enactment finishes, what it comes
// to is the same, nothing was made twice, and no flow is open on the way that is
// open neither before nor after. Two addresses change places.
func TestFaultsEndWell(t *testing.T) {
	ctx := context.Background()
	var want []string
	var rows []flow.Row
	flows := allFlows()
	steps := 0
	enact := func(f sim.Faults) {
		w, _, clean := begin(t, bothFiles(before, beforeRules))
		defer clean()
		faulty, place := simSite(w.Folder.Dir, w.Clock, f)
		defer faulty.Close()
		open := openFlows(t, faulty, flows, w.Clock.Now())
		var seen []map[string]bool
		writes := &spy{kill: -1, after: func() { seen = append(seen, openFlows(t, faulty, flows, w.Clock.Now())) }}
		w.Site = writes.between(w.Folder.Dir, place, w.Clock)
		final := bothFiles(after, afterRules)
		tries := 0
		for ; tries < 4; tries++ {
			r, err := w.Review(ctx, final)
			require.NoError(t, err, "%v", f.Words())
			if r.IsEmpty() {
				break
			}
			require.Empty(t, r.Stopped())
			if err := w.Enact(ctx, r, func(Event) { seen = append(seen, openFlows(t, faulty, flows, w.Clock.Now())) }); err == nil && steps == 0 {
				steps = writes.steps
			}
		}
		require.Less(t, tries, 4, "%v: it never ends", f.Words())
		done := openFlows(t, faulty, flows, w.Clock.Now())
		for _, at := range seen {
			for one := range at {
				require.True(t, open[one] || done[one], "%v: %s is open neither before nor after", f.Words(), one)
			}
		}
		report, err := faulty.Report(ctx)
		require.NoError(t, err)
		got := resources(report)
		if want == nil {
			want, rows = got, report.Base()
		}
		require.Equal(t, want, got, "%v", f.Words())
		require.Equal(t, rows, report.Base(), "%v", f.Words())
		require.Empty(t, w.Drift(&State{Report: report, Plan: report.Plan}).Resources)
		entries, err := faulty.Journal(ctx)
		require.NoError(t, err)
		made := map[string]int{}
		for _, e := range entries {
			if what, _, ok := strings.Cut(e.Text, ":"); ok && e.Action == "make" {
				made[what]++
			}
		}
		for what, times := range made {
			require.Equal(t, 1, times, "%v: %s was made %d times", f.Words(), what, times)
		}
	}
	enact(sim.Faults{})
	require.Greater(t, steps, 12)
	for n := 1; n <= steps; n++ {
		enact(sim.Faults{Fail: []int{n}})
		enact(sim.Faults{Lose: []int{n}})
		enact(sim.Faults{Fail: []int{n}, Lose: []int{n + 1, n + 3}})
	}
	t.Logf("%d steps, each failed and lost", steps)
}

func resources(r *site.Report) (list []string) {
	for _, t := range r.Resources {
		list = append(list, fmt.Sprintf("%s: %s; given %v; inside %v", t.ID(), t.Describe(), t.Given, t.Spec.Inside))
	}
	slices.Sort(list)
	return append(list, slices.Sorted(maps.Keys(r.Machines))...)
}

// allFlows are flows from a stranger and from inside to each address of the two estates.
func allFlows() (flows []driver.Packet) {
	for _, to := range []string{"203.0.113.10", "203.0.113.30", "10.60.1.2", "10.60.1.3", "10.60.1.4", "10.60.1.9", "2001:db8:60:2::2"} {
		for _, from := range []string{"198.51.100.7", "10.60.1.200", "2001:db8:9::1"} {
			for _, port := range []uint16{22, 80, 443} {
				p := driver.Packet{Source: netip.MustParseAddr(from), Target: netip.MustParseAddr(to), Service: flow.TCPPort(port)}
				if p.Source.Is4() == p.Target.Is4() {
					flows = append(flows, p)
				}
			}
		}
	}
	return flows
}

// TestWhatOthersDidIsSeenAndPutRight has somebody meddle with tables and resources.
func TestWhatOthersDidIsSeenAndPutRight(t *testing.T) {
	ctx := context.Background()
	fs := bothFiles(before, beforeRules)
	w, s, clean := begin(t, fs)
	defer clean()
	st, err := w.Installed(ctx)
	require.NoError(t, err)
	require.True(t, w.Drift(st).IsEmpty())
	m, _ := st.Plan.MachineByName("m-2")
	from, err := flow.ParseAddrRuns([]string{"198.51.100.0-198.51.100.255"})
	require.NoError(t, err)
	rule := flow.Rule{Kind: flow.Standing, From: from, To: &flow.Group{Machines: []int32{m}}, Services: flow.ServicesAt(flow.TCPPort(22)), Origin: flow.Origin{Sentence: "meddled"}}
	require.NoError(t, s.ChangeTablesOutOfBand(ctx, "somebody", "open", st.Plan.RuleRows(rule), nil))
	at := w.Clock.Now()
	w.Clock.(*testClock).at = at.Add(time.Hour)
	stray, err := MachineAt(st, "stray", change.Spec{Subnets: []string{"landing"}}, w.Site.Catalogue())
	require.NoError(t, err)
	require.NoError(t, s.ChangeResourceOutOfBand(ctx, "somebody", "make", stray, false))
	for _, t := range st.Report.Resources {
		switch t.ID() {
		case "machine m-1":
			t.Spec.Size = "c4m8"
			err = s.ChangeResourceOutOfBand(ctx, "somebody", "alter", t, false)
		case "machine m-3":
			err = s.ChangeResourceOutOfBand(ctx, "somebody", "remove", t, true)
		}
		if err != nil {
			break
		}
	}
	require.NoError(t, err)
	st, err = w.Installed(ctx)
	require.NoError(t, err)
	d := w.Drift(st)
	var told []string
	for _, one := range d.Resources {
		told = append(told, one.String())
	}
	assert.Equal(t, []string{"machine m-3 is gone from the site", "machine m-1 was altered: size c1m1 → c4m8", "machine stray is on the site and in no file: linux-base, c1m1, 8 GB standard disk, at landing"}, told)
	opened := slices.Collect(d.Exposure.Opened.All())
	require.Len(t, opened, 1)
	require.True(t, d.Exposure.Closed.IsEmpty())
	assert.Equal(t, at, d.Since(opened[0].Entry))
	// The past knows it too: it was open after, and not before.
	was, err := w.At(ctx, at.Add(-time.Nanosecond))
	require.NoError(t, err)
	is, err := w.At(ctx, at.Add(time.Minute))
	require.NoError(t, err)
	assert.NotEqual(t, was.Plan.Rows(), is.Plan.Rows())
	assert.Equal(t, st.Plan.Rows(), is.Plan.Rows())
	// Enacting puts right what was altered and makes what is gone; the stray stays.
	r, err := w.Review(ctx, fs)
	require.NoError(t, err)
	require.False(t, r.IsEmpty())
	require.NoError(t, w.Enact(ctx, r, nil))
	st, err = w.Installed(ctx)
	require.NoError(t, err)
	d = w.Drift(st)
	require.True(t, d.Exposure.IsEmpty())
	require.Len(t, d.Resources, 1)
	require.Contains(t, st.Report.Machines, "stray")
	require.Equal(t, "c1m1", st.Report.Resources[slices.IndexFunc(st.Report.Resources, func(t change.Resource) bool { return t.ID() == "machine m-1" })].Spec.Size)
	// Adopted, it is in the files, and there is nothing left to do.
	adopted, err := w.Adopt(fs, d.Resources[0])
	require.NoError(t, err)
	r, err = w.Review(ctx, adopted)
	require.NoError(t, err)
	require.NoError(t, w.Enact(ctx, r, nil))
	r, err = w.Review(ctx, adopted)
	require.NoError(t, err)
	assert.True(t, r.IsEmpty())
	assert.True(t, r.Drift.IsEmpty())
}

func TestPasswordsLeaveOnlyHashes(t *testing.T) {
	ctx := context.Background()
	for password, want := range map[string]string{
		"short": "fewer than 12", "aaaaaaaaaaaaaaaa": "too easy", "gauge-web-secure-99": "holds the word “gauge”", "my-Passwords-are-9": "holds the word “password”",
		strings.Repeat("xY7!", 20): "longer than 72", "correct-Horse7-staple": "",
	} {
		got := Weak(password, "gauge", "web")
		if want == "" {
			assert.NoError(t, got, password)
		} else {
			assert.ErrorContains(t, got, want, password)
		}
	}
	w, _, clean := begin(t, bothFiles(strings.Replace(before, "m-2: {", "m-2: {password: true, ", 1), beforeRules))
	defer clean()
	made, err := NewPassword()
	require.NoError(t, err)
	require.NoError(t, Weak(made))
	require.NoError(t, w.KeepPassword("m-2", made))
	r, err := w.Review(ctx, bothFiles(strings.Replace(before, "m-2: {", "m-2: {password: true, tags: {a: b}, ", 1), beforeRules))
	require.NoError(t, err)
	require.Empty(t, r.Notes)
	require.NoError(t, w.Enact(ctx, r, nil))
	report, err := w.Site.Report(ctx)
	require.NoError(t, err)
	assert.False(t, report.Machines["m-2"].Locked)
	err = filepath.WalkDir(w.Folder.Dir, func(path string, d os.DirEntry, err error) error {
		require.NoError(t, err)
		if d.IsDir() {
			return nil
		}
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.NotContains(t, string(data), made, path)
		assert.NotEqual(t, "m-2", d.Name(), "the hash was handed over")
		return nil
	})
	require.NoError(t, err)
}
