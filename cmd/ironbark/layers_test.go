package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are the packages from the bottom up. A package imports only those above
// it in this list; those of one line do not import one another.
var layers = [][]string{
	{"internal/pidfd", "internal/plainfile", "internal/fault"},
	{"internal/confine", "internal/syslog", "internal/clientnet", "internal/unixsocket", "internal/desktop", "internal/seed", "internal/qemu", "internal/parallel", "internal/quickjson"},
	{"internal/wire", "internal/notify"},
	{"internal/flow/span", "internal/sentence", "internal/journal", "internal/sshkey", "internal/store", "internal/imagefile", "internal/driver/sim/guest", "internal/stun"},
	{"internal/estate"},
	{"internal/flow", "internal/cost", "internal/backup", "internal/cache", "internal/timeline"},
	{"internal/exposure", "internal/change", "internal/picture", "internal/tinyguest"},
	{"internal/tinyimage", "internal/debimage", "cmd/tiny-guest"},
	{"internal/opening", "internal/findings", "internal/bastion"},
	{"internal/rights", "internal/proof"},
	{"internal/driver", "internal/ledger", "internal/oracle", "internal/gateway"},
	{"internal/driver/drivertest", "internal/ledger/ledgertest", "internal/site"},
	{"internal/driver/sim", "internal/driver/linux", "internal/driver/memory", "internal/ledger/sqlite"},
	{"internal/work"},
	{"internal/cli/view"},
	{"internal/cli"},
	{"cmd/ironbark"},
}

// core are the packages that know no terminal, disk, network, clock or database.
var core = []string{
	"internal/fault", "internal/syslog", "internal/flow/span", "internal/sentence", "internal/estate", "internal/flow", "internal/exposure",
	"internal/change", "internal/opening", "internal/bastion", "internal/findings", "internal/rights", "internal/cost", "internal/timeline", "internal/picture", "internal/parallel", "internal/quickjson",
}

// interfacesOnly know ledgers and drivers by their interfaces alone.
var interfacesOnly = []string{"internal/site", "internal/work", "internal/cli/view"}

var outside = []string{"os", "os/exec", "net", "net/http", "database/sql", "syscall", "io/ioutil", "log", "log/slog", "math/rand", "math/rand/v2", "github.com/spf13/cobra"}

func TestImportsRunDownward(t *testing.T) {
	level := map[string]int{}
	for i, list := range layers {
		for _, p := range list {
			level["ironbark/"+p] = i
		}
	}
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "../../...").Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		mine, known := level[words[0]]
		require.True(t, known, "%s has no place in the layers", words[0])
		for _, imported := range words[1:] {
			if theirs, ours := level[imported]; ours {
				assert.Less(t, theirs, mine, "%s imports %s", words[0], imported)
			}
			if kind := strings.TrimPrefix(words[0], "ironbark/"); slices.Contains(interfacesOnly, kind) {
				assert.NotContains(t, []string{"ironbark/internal/driver/sim", "ironbark/internal/driver/linux", "ironbark/internal/ledger/sqlite"}, imported, words[0])
			}
			if slices.Contains(core, strings.TrimPrefix(words[0], "ironbark/")) {
				assert.NotContains(t, outside, imported, words[0])
			}
		}
	}
}

// TestTheCoreHasNoClock looks for the functions that read the clock.
func TestTheCoreHasNoClock(t *testing.T) {
	for _, p := range core {
		names, err := filepath.Glob(filepath.Join("..", "..", p, "*.go"))
		require.NoError(t, err)
		require.NotEmpty(t, names)
		for _, name := range names {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			require.NoError(t, err)
			ast.Inspect(f, func(n ast.Node) bool {
				if s, ok := n.(*ast.SelectorExpr); ok {
					if x, ok := s.X.(*ast.Ident); ok && x.Name == "time" {
						assert.NotContains(t, []string{"Now", "Since", "Until", "After", "Tick", "Sleep", "NewTimer"}, s.Sel.Name, name)
					}
				}
				return true
			})
		}
	}
}

// commandsInText are the places below the command line that may name the program and one of its commands in text, each with the reason.
var commandsInText = map[string]string{
	"internal/estate/template.go": "the comments of a new estate's file are a document for people",
}

// TestOnlyTheCommandLineWritesCommands looks for text below internal/cli that is one of the program's commands: advice is a value there (fault.Advice),
// which each edge writes in its own way.
func TestOnlyTheCommandLineWritesCommands(t *testing.T) {
	help, err := exec.Command(program, "help").Output()
	require.NoError(t, err)
	files, err := exec.Command("git", "ls-files", "../../internal/*.go").Output()
	require.NoError(t, err)
	var verbs []string
	for _, line := range regexp.MustCompile(`(?m)^  ([a-z]+)  `).FindAllStringSubmatch(string(help), -1) {
		verbs = append(verbs, line[1])
	}
	require.Contains(t, verbs, "enact")
	for file := range strings.FieldsSeq(string(files)) {
		if strings.HasSuffix(file, "_test.go") || strings.HasPrefix(file, "../../internal/cli/") || commandsInText[strings.TrimPrefix(file, "../../")] != "" {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		require.NoError(t, err)
		ast.Inspect(tree, func(n ast.Node) bool {
			text, ok := n.(*ast.BasicLit)
			if !ok || text.Kind != token.STRING {
				return true
			}
			for _, after := range strings.Split(text.Value, "ironbark ")[1:] {
				verb, _, _ := strings.Cut(strings.Trim(after, "`\"")+" ", " ")
				assert.False(t, slices.Contains(verbs, verb), "%s: %s", file, text.Value)
			}
			return true
		})
	}
}
