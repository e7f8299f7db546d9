package findings

import "fmt"

// Takes is how much of a site's room for connections is taken: by a machine of what it may have, or by all of what there is.
type Takes struct {
	Machine   string // "" for all
	Now, Most int
}

// At which part of the room this is found, in percent.
const (
	muchOfAll     = 50
	muchOfMachine = 80
)

// takes finds machines that come near their limits, and a table of connections that fills.
func (l *looker) takes(list []Takes) {
	for _, t := range list {
		percent := t.Now * 100 / max(t.Most, 1)
		switch {
		case t.Machine == "" && percent >= muchOfAll:
			l.find(Serious, Crowded, "connections", "ironbark findings lists machines near their limits; stop them, or give them lower limits",
				fmt.Sprintf("the site tracks %d of %d connections: %d %%", t.Now, t.Most, percent))
		case t.Machine != "" && percent >= muchOfMachine:
			l.machine(Caution, Crowded, t.Machine, "ironbark show machine "+t.Machine, fmt.Sprintf("it has %d of %d connections: %d %%", t.Now, t.Most, percent))
		}
	}
}
