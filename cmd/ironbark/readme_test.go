package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// elsewhere are the blocks of the documents that this test does not run, by their first line, and why.
var elsewhere = map[string]string{
	"make demo     # the whole story on shipped data, narrated; a few seconds after the build":                                             "CI runs both",
	"cmd/ironbark            main; the scripts that drive the built program":                                                               "a list of packages",
	"words ─▶ sentence ─▶ estate ─▶ flow plan ─┬─▶ exposure  ─▶ review, reach, why …":                                                      "a drawing",
	"cli ─▶ work ─▶ site ─┬─▶ ledger   files, resources and plan as last enacted; openings; journal; who enacts":                           "a drawing",
	"ironbark add bastion beacon --from office --for ops   # its subnet, its address, the route; the review tells what it opens and costs": "the script bastion plays it, with a gateway that runs",
	"clients ──▶ ironbark-gateway: speaks SSH, knows keys        no file, no socket of its own, no privilege (seccomp, user nobody,":       "a drawing",
	"recipients:": "part of a file; the script notified has recipients",
	"Allow   = \"allow\"   Svcs \"from\" Set \"to\" Set [\"standing\"] Tail": "the grammar",
}

// answersYes is put before the blocks: at a terminal a person is asked, and answers yes.
const answersYes = `set -eu
ironbark() {
	case "$1" in
	add|change|allow|deny|forward|spread|route|permit|never|always) "$IRONBARK" "$@" --yes;;
	remove) "$IRONBARK" "$@" --name saltmarsh;;
	why) "$IRONBARK" "$@" || [ $? = 3 ];; # closed
	*) "$IRONBARK" "$@" </dev/null;;
	esac
}
`

// TestTheDocumentsBlocksRun runs the blocks of the README one after the other from an empty folder, and reads those of the other documents that are
// files of an estate.
func TestTheDocumentsBlocksRun(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	t.Setenv("USER", "mara")
	t.Setenv("IRONBARK", program)
	met := map[string]bool{}
	script := answersYes
	for _, b := range blocksOf(t, "../../README.md", met) {
		if strings.HasPrefix(b, "ironbark ") {
			script += b
		} else {
			rulesHold(t, b)
		}
	}
	c := exec.Command("sh", "-c", script)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "gauge-3")
	paths, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, path := range paths {
		if base := filepath.Base(path); base == "linux.md" || base == "machines.md" { // they change the host: the scripts linux, guests_linux and peers_linux play them
			continue
		}
		for _, b := range blocksOf(t, path, met) {
			rulesHold(t, b)
		}
	}
	for first := range elsewhere {
		require.True(t, met[first], "no document has this block any more: %s", first)
	}
}

// blocksOf returns the blocks of a document but for those of [elsewhere], and notes the first line of each.
func blocksOf(t *testing.T, path string, met map[string]bool) (list []string) {
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	for i, part := range strings.Split("\n"+string(data), "\n```") {
		if i%2 == 0 {
			continue
		}
		_, text, _ := strings.Cut(part, "\n")
		first, _, _ := strings.Cut(text, "\n")
		if met[first] = true; elsewhere[first] == "" {
			list = append(list, text+"\n")
		}
	}
	return list
}

// rulesHold reads a block as a file of the demo's estate.
func rulesHold(t *testing.T, block string) {
	dir := t.TempDir()
	nouns, err := os.ReadFile("../../internal/cli/saltmarsh/estate.yaml")
	require.NoError(t, err)
	rules := []byte(block)
	if strings.HasPrefix(block, "estate: ") {
		key, _, _ := strings.Cut(string(nouns[strings.Index(string(nouns), "ssh-ed25519 ")+len("ssh-ed25519 "):]), " ")
		nouns, rules = []byte(strings.ReplaceAll(block, "AAAA…", key)), nil
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), nouns, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.rules"), rules, 0o600))
	c := exec.Command(program, "review", "--person", "mara")
	c.Dir = dir
	out, err := c.CombinedOutput()
	if c.ProcessState.ExitCode() != 3 { // a guarantee of the block that the estate breaks
		require.NoError(t, err, "%s\n%s", block, out)
	}
}
