package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// drawCommand draws a command of any sort about a few names, most of which are
// there now and then.
func drawCommand(r *rand.Rand) []string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	some := func(words ...string) string { return pick(append(words, "", "")...) }
	machine := func() string { return pick("a", "b", "c", "a-1") }
	volume := func() string { return pick("v", "w") }
	snapshot := func() string { return pick("s", "z") }
	address := func() string { return pick("slip", "jetty") }
	gb := func() string { return fmt.Sprint(1 + r.IntN(60)) }
	small := func() string { return fmt.Sprint(r.IntN(6)) }
	add := func() string {
		return "add machine " + machine() + " --image linux-web --size c1m1 --subnet landing --key ops " + some("--address auto", "--address "+address(), "--count 2")
	}
	all := []func() string{
		add, add, add, add, add,
		func() string {
			return "add machine " + machine() + " --size c1m1 --image " + pick("linux-base", "s", "desktop-rdp") + " --subnet " + pick("landing", "deep", "landing,deep") + " " +
				some("--setup web-server", "--setup console-login,desktop") + " " + some("--disk "+gb()) + " " + some("--password generate") + " --tag role=" + pick("web", "db")
		},
		func() string { return "remove machine " + machine() + " " + some("--with-volumes") },
		func() string { return "remove role=" + pick("web", "db") },
		func() string {
			return "change machine " + machine() + " " + pick("--size c2m4", "--address "+address(), "--address none", "--address auto", "--disk "+gb(), "--setup web-server", "--tag none", "--inside 10.60.1."+gb())
		},
		func() string {
			return "add volume " + volume() + " --gb " + gb() + " " + some("--machine "+machine(), "--snapshot "+snapshot())
		},
		func() string {
			return "change volume " + volume() + " " + pick("--gb "+gb(), "--machine "+machine(), "--machine none")
		},
		func() string {
			return "add snapshot " + snapshot() + " " + pick("--volume "+volume(), "--machine "+machine())
		},
		func() string {
			return "remove " + pick("volume "+volume(), "snapshot "+snapshot(), "address "+address(), "front pier", "subnet deep")
		},
		func() string { return "add address " + address() },
		func() string { return "change address " + address() + " --to " + pick(machine(), "pier", "none") },
		func() string { return "add front pier --network estuary " + some("--address "+address()) },
		func() string { return "add subnet deep --network estuary --range 2001:db8:60:2::/64" },
		func() string { return "allow https from everywhere to " + pick(machine(), "all", "role=web") },
		func() string {
			return "deny any from " + pick("192.0.2.1", machine()) + " to " + pick(machine(), "all")
		},
		func() string { return "forward pier tcp/801" + small() + " to " + machine() + " on ssh" },
		func() string {
			return "open ssh to " + machine() + " from " + pick("me", "198.51.100.0/24") + " for 1h because x"
		},
		func() string {
			return pick("start", "stop", "restart", "restart --setup") + " " + pick(machine(), "role=web")
		},
		func() string { return pick("connect", "console") + " " + machine() },
		func() string { return "connect " + machine() + " --for 10m --because y hostname" },
		func() string {
			return "sim meddle " + pick("open ssh to "+machine()+" from everywhere", "close "+machine(), "make machine "+machine()+" --subnet landing", "alter machine "+machine()+" --size c4m8",
				"remove machine "+machine(), "remove volume "+volume(), "remove address "+address(), "remove front pier", "remove subnet deep")
		},
		func() string { return "adopt " + pick("--all", "machine "+machine(), "volume "+volume()) },
		func() string {
			return "sim faults " + pick("none", "none", "fail="+small(), "lose="+small(), "room="+small(), "stuck="+machine(), "quota=machines:"+small())
		},
		func() string { return "enact" },
		func() string {
			return pick("close --all", "status", "review", "map", "cost", "quota", "show", "findings", "reach --since 1h", "adopt", "show machine "+machine())
		},
	}
	words := strings.Fields(all[r.IntN(len(all))]())
	switch words[0] {
	case "add", "remove", "change", "adopt", "allow", "deny", "forward", "enact":
		if words[0] == "enact" || r.IntN(10) > 0 {
			words = append(words, "--yes")
		} else {
			words = append(words, pick("--draft", "--json"))
		}
	}
	return words
}

// TestAnySeriesOfCommandsEndsWell runs drawn series of commands, faults and a
// meddler among them, on the built program. Every command ends with a status that
// is documented; one that refuses its words changes nothing; and in the end, with
// no faults any more, enacting comes to what the files say, and the journal is whole.
func TestAnySeriesOfCommandsEndsWell(t *testing.T) {
	statuses := map[int]int{}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	for series := range uint64(5) {
		r := rand.New(rand.NewPCG(seed, series))
		var commands [][]string
		for range 70 {
			commands = append(commands, drawCommand(r))
		}
		dir := t.TempDir()
		at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
		ironbark := func(args ...string) (int, string) {
			at = at.Add(5 * time.Second)
			return run(t, filepath.Join(dir, "tides"), []string{"IRONBARK_CLOCK=" + at.Format(time.RFC3339)}, append(args, "--person", "mara")...)
		}
		status, out := run(t, dir, nil, "new", "tides", "--person", "mara")
		require.Zero(t, status, out)
		ironbark("add", "key", "ops", "--yes")
		ironbark("permit", "ops", "to", "open", "ssh", "to", "all", "from", "everywhere", "up", "to", "4h", "--yes")
		state := func() string {
			nouns, err := os.ReadFile(filepath.Join(dir, "tides", "estate.yaml"))
			require.NoError(t, err)
			rules, err := os.ReadFile(filepath.Join(dir, "tides", "estate.rules"))
			require.NoError(t, err)
			_, things := ironbark("show", "--json")
			return string(nouns) + string(rules) + things
		}
		told := func() string {
			var b strings.Builder
			for _, c := range commands {
				fmt.Fprintln(&b, strings.Join(c, " "))
			}
			return b.String()
		}
		before := state()
		for _, c := range commands {
			status, out := ironbark(c...)
			statuses[status]++
			statuses := []int{0, 1, 2, 3, 4, 5, 6}
			if c[0] == "connect" && len(c) > 2 { // with a command, 255 shows that Ironbark failed and not the command
				statuses = []int{0, 255}
			}
			require.Contains(t, statuses, status, "%v\n%s\n%s", c, out, told())
			require.NotContains(t, out, "goroutine", "%v\n%s", c, told())
			require.NotRegexp(t, "unknown (flag|command)", out, "the test says what the program knows: %v", c)
			after := state()
			if status == 2 || status == 4 {
				require.Equal(t, before, after, "%v: refused, and yet something changed\n%s\n%s", c, out, told())
			}
			before = after
		}
		ironbark("sim", "faults", "none")
		status, out = ironbark("enact", "--yes")
		if strings.Contains(out, "somebody made one of that name without ironbark") {
			continue // the meddler was first, and a person has to settle that
		}
		if strings.Contains(out, "a snapshot is of something that is there") {
			continue // the files ask for a snapshot of what was removed since, and a person has to settle that, too
		}
		require.Zero(t, status, "%s\n%s", out, told())
		status, out = ironbark("review", "--must-match")
		require.Zero(t, status, "%s\n%s", out, told())
		status, out = ironbark("journal", "--last", "1")
		require.Zero(t, status, "%s\n%s", out, told())
	}
	t.Logf("exit statuses and how often: %v", statuses)
	require.Greater(t, statuses[0], 60, "many commands do something")
}
