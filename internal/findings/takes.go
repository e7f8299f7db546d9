package findings

import (
	"fmt"

	"ironbark/internal/fault"
)

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

// Much reports whether so much is taken that somebody should look, long before nothing is left.
func (t Takes) Much() bool {
	if t.Machine == "" {
		return t.percent() >= muchOfAll
	}
	return t.percent() >= muchOfMachine
}

func (t Takes) percent() int { return t.Now * 100 / max(t.Most, 1) }

// String says how much is taken.
func (t Takes) String() string {
	who := t.Machine
	if who == "" {
		who = "the site"
	}
	return fmt.Sprintf("%s has %d of %d connections: %d %%", who, t.Now, t.Most, t.percent())
}

// takes finds machines that come near their limits, and a table of connections that fills.
func (l *looker) takes(list []Takes) {
	for _, t := range list {
		switch {
		case !t.Much():
		case t.Machine == "":
			l.advise(Serious, Crowded, "connections", fault.Run("findings").Say(" lists machines near their limits; stop them, or give them lower limits"), t.String())
		default:
			l.machine(Caution, Crowded, t.Machine, fault.Run("show", "machine", t.Machine), t.String())
		}
	}
}
