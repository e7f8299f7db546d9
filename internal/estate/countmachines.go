package estate

import (
	"fmt"
	"strings"

	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// MaxMachines is how many machines an estate may have: some 4 s and 1 GB to read.
const MaxMachines = 100_000

// tooMany is the error of an estate of too many machines.
func tooMany(at sentence.Pos, n int) *sentence.Error {
	return &sentence.Error{
		At: at, Problem: fmt.Sprintf("an estate has at most %d machines, and here are %d", MaxMachines, n), Remedy: fault.Say("split the estate: one folder for each team or place"),
	}
}

// countMachines counts the machines of a file whose section machines: has an entry a line, each
// indented like the first, without reading it as YAML, which takes seconds where there
// are many. at is the line of the section. A file in another form comes to 0: it is
// counted when it is read.
func countMachines(lines []string) (count, at int) {
	indent := ""
	for i, line := range lines {
		switch {
		case at == 0:
			if strings.TrimRight(line, " \r") == "machines:" {
				at = i + 1
			}
		case strings.TrimSpace(line) == "" || strings.TrimSpace(line)[0] == '#':
		case line[0] != ' ': // the next section
			return count, at
		default:
			if indent == "" {
				indent = line[:len(line)-len(strings.TrimLeft(line, " "))]
			}
			if rest, ok := strings.CutPrefix(line, indent); ok && rest[0] != ' ' && strings.Contains(rest, ":") {
				count++
			}
		}
	}
	return count, at
}
