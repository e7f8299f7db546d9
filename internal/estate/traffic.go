package estate

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Traffic bounds what a machine may take of its site's network, in both directions together. A zero field is the site's own limit; the
// site does not limit packets and bytes by itself.
type Traffic struct {
	Connections int `json:"connections,omitempty"` // at once; on a Linux host up to twice as many, see docs/linux.md
	New         int `json:"new,omitempty"`         // connections that begin, a second
	Packets     int `json:"packets,omitempty"`     // a second
	Bytes       int `json:"bytes,omitempty"`       // a second
	Log         int `json:"log,omitempty"`         // lines of the journal, an hour, that record what the machine does by itself
}

// DefaultLog is how many lines of the journal, an hour, record what a machine does by itself, where nothing else is set.
const DefaultLog = 60

// The bounds of each field of a [Traffic], both included.
const (
	leastTraffic = 1
	mostTraffic  = 1_000_000_000
)

// Or returns the limits with those of others where it has none.
func (t Traffic) Or(o Traffic) Traffic {
	return Traffic{cmp.Or(t.Connections, o.Connections), cmp.Or(t.New, o.New), cmp.Or(t.Packets, o.Packets), cmp.Or(t.Bytes, o.Bytes), cmp.Or(t.Log, o.Log)}
}

// String lists the limits that are set; it is empty where none is.
func (t Traffic) String() string {
	var words []string
	for _, one := range []struct {
		n    int
		unit string
	}{{t.Connections, "connections"}, {t.New, "new connections/s"}, {t.Packets, "packets/s"}, {t.Bytes, "bytes/s"}, {t.Log, "log lines/h"}} {
		if one.n > 0 {
			words = append(words, fmt.Sprintf("%d %s", one.n, one.unit))
		}
	}
	return strings.Join(words, ", ")
}

// traffic reads the limits of a machine, or of a size.
func (r *reader) traffic(n *yaml.Node, of string) (t Traffic) {
	number := func(into *int) field {
		return func(v *yaml.Node) {
			text, ok := r.text(v, "a limit")
			if !ok {
				return
			}
			count, err := strconv.Atoi(text)
			if err != nil || count < leastTraffic || count > mostTraffic {
				r.failAt(v, fmt.Sprintf("“%s” is not a limit", text), fmt.Sprintf("write a number from %d to %d", leastTraffic, mostTraffic))
				return
			}
			*into = count
		}
	}
	r.fields(n, of, map[string]field{
		"connections": number(&t.Connections), "new": number(&t.New), "packets": number(&t.Packets), "bytes": number(&t.Bytes), "log": number(&t.Log),
	})
	return t
}
