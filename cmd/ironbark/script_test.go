package main

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/rogpeppe/go-internal/testscript"
	_ "modernc.org/sqlite" // reads what the scripts leave behind

	"ironbark/internal/estate"
	"ironbark/internal/journal"
)

var update = flag.Bool("update", false, "rewrite what the scripts expect")

// program is the built program that the scripts drive.
var program string

func TestMain(m *testing.M) {
	flag.Parse()
	dir, err := os.MkdirTemp("", "ironbark-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "ironbark")
	if err := os.Setenv("XDG_STATE_HOME", dir); err != nil { // scripts have a home of their own
		panic(err)
	}
	build := exec.Command("go", "build", "-trimpath", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if os.Getenv("IRONBARK_TEST_RACE") != "" { // the program watches itself for races, and exits with 66 after one
		build = exec.Command("go", "build", "-race", "-o", program, ".")
		build.Env = append(os.Environ(), "CGO_ENABLED=1")
	}
	if covered() != "" { // the program tells there which of its lines ran
		build.Args = slices.Insert(build.Args, 2, "-cover", "-coverpkg=ironbark/...")
	}
	build.Stdout, build.Stderr = os.Stdout, os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	status := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(status)
}

// TestScripts runs testdata/script against the built program, each in a folder of
// its own, with the clock standing still and 100 columns.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir:                 cmp.Or(os.Getenv("IRONBARK_TEST_SCRIPTS"), "testdata/script"),
		UpdateScripts:       *update,
		RequireExplicitExec: true,
		RequireUniqueNames:  true,
		Setup: func(e *testscript.Env) error {
			for key, value := range map[string]string{
				"PATH":           filepath.Dir(program) + string(os.PathListSeparator) + os.Getenv("PATH"),
				"IRONBARK_CLOCK": "2026-11-23T09:00:00Z", "COLUMNS": "100", "USER": "mara", "HOME": e.WorkDir, "XDG_STATE_HOME": filepath.Join(e.WorkDir, ".state"), "SSHD": sshd(),
			} {
				e.Setenv(key, value)
			}
			if dir := covered(); dir != "" {
				e.Setenv("GOCOVERDIR", dir)
			}
			e.Defer(func() { takeAway(e.WorkDir, e.Vars) })
			e.Defer(func() {
				if unknown := unknownKinds(e.WorkDir); len(unknown) > 0 {
					e.T().Fatal("journals have kinds of entries that journal.Kinds has not: ", unknown)
				}
			})
			return nil
		},
		Condition: func(cond string) (bool, error) {
			if cond != "root" {
				return false, fmt.Errorf("there is no condition %q", cond)
			}
			return os.Getuid() == 0, nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "clock": clock, "env-of": envOf, "document": document},
	})
}

// takeAway takes away what Linux sites below a folder still have when a script has ended, or broke off: machines and networks would outlive it.
func takeAway(dir string, env []string) {
	_ = filepath.WalkDir(dir, func(path string, _ fs.DirEntry, _ error) error {
		if filepath.Base(path) != estate.FileName {
			return nil
		}
		text, _ := os.ReadFile(path)
		name := regexp.MustCompile(`(?m)^estate: (\S+)`).FindSubmatch(text)
		if name == nil || !bytes.Contains(text, []byte("\nsite: linux")) {
			return nil
		}
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
		defer cancel()
		c := exec.CommandContext(ctx, program, "remove", "--everything", "--name", string(name[1]), "--person", "mara")
		c.Dir, c.Env = filepath.Dir(path), append(slices.Clone(env), "IRONBARK_CLOCK=")
		_ = c.Run()
		return nil
	})
}

// unknownKinds lists what stands as the kind of an entry in the journals below a folder and is none of [journal.Kinds]. What cannot be read, since a script damaged
// it, has none.
func unknownKinds(dir string) (unknown []string) {
	_ = filepath.WalkDir(dir, func(path string, _ fs.DirEntry, _ error) error {
		if filepath.Base(path) != "site.db" {
			return nil
		}
		db, err := sql.Open("sqlite", "file:"+path+"?mode=ro")
		if err != nil {
			return nil
		}
		defer db.Close()
		rows, err := db.Query("SELECT DISTINCT action FROM journal")
		if err != nil {
			return nil
		}
		defer rows.Close()
		for rows.Next() {
			var kind string
			if rows.Scan(&kind) == nil && !slices.Contains(journal.Kinds, kind) {
				unknown = append(unknown, kind)
			}
		}
		return nil
	})
	return unknown
}

// covered is the folder in which coverage is collected; "" where it is not.
func covered() string { return os.Getenv("IRONBARK_TEST_COVER") }

// sshd is OpenSSH's server: the host's, or the one that make packages has unpacked.
func sshd() string {
	if _, err := os.Stat("/usr/sbin/sshd"); err == nil {
		return "/usr/sbin/sshd"
	}
	path, _ := filepath.Abs("../../.packages/usr/sbin/sshd")
	return path
}

// exits runs a program and holds it to an exit status: exits 3 ironbark why …
func exits(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: exits STATUS PROGRAM ARG…")
	}
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	err = ts.Exec(args[1], args[2:]...)
	got := 0
	if e, ok := err.(*exec.ExitError); ok {
		got = e.ExitCode()
	} else if err != nil {
		ts.Fatalf("%v", err)
	}
	if got != want {
		ts.Fatalf("exit status %d, not %d", got, want)
	}
}

// clock sets the moment at which the following commands run: clock 10:30
func clock(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 1 {
		ts.Fatalf("usage: clock HH:MM")
	}
	ts.Setenv("IRONBARK_CLOCK", fmt.Sprintf("2026-11-23T%s:00Z", args[0]))
}

// envOf sets a variable to what stands in a file: env-of NAME FILE
func envOf(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 2 {
		ts.Fatalf("usage: env-of NAME FILE")
	}
	ts.Setenv(args[0], strings.TrimSpace(ts.ReadFile(args[1])))
}

// document runs the program with --json and holds what it prints to be one document of a
// schema, as mara: document review 0 review
func document(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 3 {
		ts.Fatalf("usage: document SCHEMA STATUS ARG…")
	}
	exits(ts, false, append([]string{args[1], "ironbark"}, append(asMara(args[2:]), "--json")...))
	printed := ts.ReadFile("stdout")
	d := json.NewDecoder(strings.NewReader(printed))
	var doc any
	ts.Check(d.Decode(&doc))
	if rest, err := io.ReadAll(io.MultiReader(d.Buffered())); err != nil || strings.TrimSpace(string(rest)) != "" {
		ts.Fatalf("more than one document: %s", rest)
	}
	ts.Check(ts.Exec("ironbark", "schema", args[0]))
	var schema jsonschema.Schema
	ts.Check(json.Unmarshal([]byte(ts.ReadFile("stdout")), &schema))
	resolved, err := schema.Resolve(nil)
	ts.Check(err)
	if err := resolved.Validate(doc); err != nil {
		ts.Fatalf("%s is no document of %s: %v", printed, args[0], err)
	}
}

// asMara adds who asks, where a script does not say.
func asMara(args []string) []string {
	if slices.Contains(args, "--person") {
		return args
	}
	return append(args, "--person", "mara")
}
