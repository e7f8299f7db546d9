package main

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"ironbark/internal/driver/sim"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// BenchmarkVersion starts the whole program and has it tell its version.
func BenchmarkVersion(b *testing.B) {
	for b.Loop() {
		require.NoError(b, exec.Command(program, "version").Run())
	}
}

// lay writes an estate of n machines in subnets of 200, with a tag for each ten
// machines, four sentences a tag and a guarantee, and returns what runs the program on it.
func lay(b *testing.B, n int) func(args ...string) { return layIn(b, b.TempDir(), n) }

func layIn(b *testing.B, dir string, n int) func(args ...string) {
	var nouns, rules strings.Builder
	nouns.WriteString("estate: saltmarsh\nsite: sim\nservices: {tidefeed: tcp/7400-7401}\npeople: {mara: {groups: [ops]}}\nnetworks:\n  estuary:\n    space: [10.60.0.0/16, \"2001:db8:60::/48\"]\n    outside: true\n    subnets:\n")
	for i := range max(1, n/200) {
		fmt.Fprintf(&nouns, "      pool-%d: {range: [10.60.%d.0/24, \"2001:db8:60:%x::/64\"]}\n", i, i, i+1)
	}
	nouns.WriteString("machines:\n")
	for i := range n {
		address := ""
		if i < 30 {
			address = ", address: auto"
		}
		fmt.Fprintf(&nouns, "  gauge-%d: {image: linux-web, size: c1m1, at: pool-%d, tags: {role: r%d}%s}\n", i, i/200, i%(n/10), address)
	}
	for i := range n / 10 {
		fmt.Fprintf(&rules, "allow https, tcp/%d from everywhere to role=r%d\nallow tcp/9000-9%03d from 198.51.100.%d to gauge-%d\n", 7000+i, i, i, i%250, i)
		fmt.Fprintf(&rules, "deny any from 192.0.2.%d to role=r%d\nallow tidefeed from role=r%d to role=r%d\n", i%250, i, i, (i+1)%(n/10))
	}
	rules.WriteString("permit ops to open ssh to all from everywhere up to 4h\nnever ssh from internet to all standing\n")
	require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(nouns.String()), 0o644))
	require.NoError(b, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte(rules.String()), 0o644))
	return func(args ...string) {
		c := exec.Command(program, append(args, "--person", "mara")...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(b, err, string(out))
	}
}

// sizes are the numbers of machines for which it is told how times grow.
var sizes = []int{100, 1000}

// BenchmarkEnact makes all of an estate on an empty stand-in cloud, the wait for
// its machines to run (1.8 s, whatever their number) included.
func BenchmarkEnact(b *testing.B) {
	for _, n := range sizes {
		b.Run(fmt.Sprintf("machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				ironbark := lay(b, n)
				b.StartTimer()
				ironbark("enact", "--yes")
			}
		})
	}
}

// BenchmarkStatus shows an estate on one screen, and its map.
func BenchmarkStatus(b *testing.B) {
	for _, n := range sizes {
		ironbark := lay(b, n)
		ironbark("enact", "--yes")
		for _, command := range []string{"status", "review", "map"} {
			b.Run(fmt.Sprintf("%s/machines=%d", command, n), func(b *testing.B) {
				for b.Loop() {
					ironbark(command)
				}
			})
		}
	}
}

// BenchmarkWhy200 starts the whole program and asks one question of an estate of
// 200 machines, 81 sentences and 20 openings, read back from the site.
func BenchmarkWhy200(b *testing.B) {
	ironbark := lay(b, 200)
	ironbark("enact", "--yes")
	for i := range 20 {
		ironbark("open", "ssh", "to", fmt.Sprintf("gauge-%d", i), "from", "198.51.100.7", "for", "1h", "because", "bench")
	}
	for b.Loop() {
		ironbark("why", "https", "from", "198.51.100.7", "to", "gauge-7")
	}
}

// BenchmarkOpenClose opens ssh to a machine and closes it again, as two processes.
func BenchmarkOpenClose(b *testing.B) {
	for _, n := range []int{10, 1000} {
		ironbark := lay(b, n)
		ironbark("enact", "--yes")
		b.Run(fmt.Sprintf("machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				ironbark("open", "ssh", "to", "gauge-1", "from", "198.51.100.7", "for", "1h", "because", "bench")
				ironbark("close", "--all")
			}
		})
	}
}

// BenchmarkLongJournal works on an estate of ten machines whose journal has a million
// entries, and lists when administrative services were open in one of 1,200.
func BenchmarkLongJournal(b *testing.B) {
	dir := b.TempDir()
	ironbark := layIn(b, dir, 10)
	ironbark("enact", "--yes")
	lengthen(b, dir, 1_000_000)
	ironbark("journal") // from here on it is known to be whole
	for name, commands := range map[string][][]string{
		"open and close":    {{"open", "ssh", "to", "gauge-1", "from", "198.51.100.7", "for", "1h", "because", "bench"}, {"close", "--all"}},
		"journal --last 20": {{"journal", "--last", "20"}},
		"journal":           {{"journal", "--json"}},
		"journal, filtered": {{"journal", "--machine", "gauge-2", "--did", "open", "--since", "7d"}},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				for _, c := range commands {
					ironbark(c...)
				}
			}
		})
	}
	for _, n := range []int{150, 1200} {
		ironbark := lay(b, 10)
		ironbark("enact", "--yes")
		for range n / 2 {
			ironbark("open", "ssh", "to", "gauge-1", "from", "198.51.100.7", "for", "1h", "because", "bench")
			ironbark("close", "--all")
		}
		b.Run(fmt.Sprintf("reach --since/entries=%d", n), func(b *testing.B) {
			for b.Loop() {
				ironbark("reach", "--since", "1h")
			}
		})
	}
}

// lengthen appends entries to a journal, as whole as those before.
func lengthen(b *testing.B, dir string, n int) {
	db, err := sql.Open("sqlite", filepath.Join(dir, ".ironbark", "site.db"))
	require.NoError(b, err)
	defer db.Close()
	tx, err := db.Begin()
	require.NoError(b, err)
	var last journal.Entry
	require.NoError(b, tx.QueryRow(`SELECT seq, hash FROM journal ORDER BY seq DESC LIMIT 1`).Scan(&last.Seq, &last.Hash))
	for range n {
		last = journal.Next(last, journal.Entry{At: time.Now().UTC(), Person: "mara", Action: "restart", Text: "machine gauge-1: restart", Data: "{}"})
		_, err := tx.Exec(`INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, last.Seq, last.At.Format(time.RFC3339Nano), last.Person, last.Action, last.Text, last.Data, last.Prev, last.Hash)
		require.NoError(b, err)
	}
	_, err = tx.Exec(`UPDATE meta SET value = ? WHERE key = 'head'`, last.Hash)
	require.NoError(b, err)
	_, err = tx.Exec(`UPDATE meta SET value = ? WHERE key = 'headSeq'`, fmt.Sprint(last.Seq))
	require.NoError(b, err)
	require.NoError(b, tx.Commit())
}

// fill lets openings pass, each from an address of its own to one of the machines in turn.
func fill(b *testing.B, dir string, openings, machines int) {
	state := filepath.Join(dir, ".ironbark")
	place, record := sim.New(state, wallClock{}, sim.Faults{}), sqlite.New(state, sqlite.Options{})
	s := site.New(record, place, wallClock{})
	defer s.Close()
	r, err := s.Held(b.Context())
	require.NoError(b, err)
	for i := range openings {
		text := fmt.Sprintf(`open ssh to gauge-%d from 198.51.%d.%d for 4h because "bench"`, i%machines, 100+i/256, i%256)
		words, err := sentence.ParseArgs([]string{text}, time.Now())
		require.NoError(b, err)
		from, err := flow.ParseAddrRuns([]string{fmt.Sprintf("198.51.%d.%d", 100+i/256, i%256)})
		require.NoError(b, err)
		now := time.Now().UTC().Truncate(time.Second)
		o := opening.Opening{Person: "mara", Request: text, Words: words.(sentence.Open), Begin: now, Parts: []opening.Part{{
			Machines: []string{fmt.Sprintf("gauge-%d", i%machines)}, Services: flow.ServicesAt(flow.TCPPort(22)), From: from, End: now.Add(4 * time.Hour),
			Permit: "permit ops to open ssh to all from everywhere up to 4h",
		}}}
		o.Words.For, o.Words.Until = sentence.Duration{}, o.End()
		for range 2 {
			if _, err = s.Open(b.Context(), r.Basis, o); err == nil {
				break
			}
			r, err = s.HeldOf(b.Context())
			require.NoError(b, err)
		}
		require.NoError(b, err)
	}
}

// wallClock is the computer's clock.
type wallClock struct{}

func (wallClock) Now() time.Time { return time.Now() }

func (wallClock) Sleep(context.Context, time.Duration) error { return nil }

// BenchmarkManyOpenings works on an estate of 100 machines without an opening and with
// 10,000 of them.
func BenchmarkManyOpenings(b *testing.B) {
	for _, n := range []int{0, 10_000} {
		dir := b.TempDir()
		ironbark := layIn(b, dir, 100)
		ironbark("enact", "--yes")
		fill(b, dir, n, 100)
		ironbark("openings")
		for name, command := range map[string][]string{
			"openings": {"openings"}, "status": {"status"}, "why": {"why", "https", "from", "198.51.100.7", "to", "gauge-7"},
		} {
			b.Run(fmt.Sprintf("%s/openings=%d", name, n), func(b *testing.B) {
				for b.Loop() {
					ironbark(command...)
				}
			})
		}
		b.Run(fmt.Sprintf("open and close one/openings=%d", n), func(b *testing.B) {
			id := n
			for b.Loop() {
				id++
				ironbark("open", "ssh", "to", "gauge-1", "from", "203.0.113.7", "for", "1h", "because", "bench")
				ironbark("close", fmt.Sprint(id))
			}
		})
	}
	b.Run("close all of 10,000", func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			dir := b.TempDir()
			ironbark := layIn(b, dir, 100)
			ironbark("enact", "--yes")
			fill(b, dir, 10_000, 100)
			b.StartTimer()
			ironbark("close", "--all")
		}
	})
}
