package linux

import (
	_ "embed"
	"encoding/json"
	"net/netip"

	"ironbark/internal/cost"
)

//go:embed catalogue.json
var catalogueJSON []byte

type pool = cost.Pool

// catalogue is what the host offers. Its public addresses are documentation addresses
// (RFC 5737, RFC 3849), where there is no uplink that has others.
func catalogue(store string) (c cost.Catalogue) {
	if err := json.Unmarshal(catalogueJSON, &c); err != nil {
		panic("linux: the embedded catalogue: " + err.Error())
	}
	c.Uplinks, c.Listens = true, true
	c.Limits.CPUs, c.Limits.MemoryMiB, c.Limits.DiskGB = hostLimits(store)
	c.Public = []pool{
		{First: netip.MustParseAddr("203.0.113.10"), Last: netip.MustParseAddr("203.0.113.59")},
		{First: netip.MustParseAddr("2001:db8:f:1::10"), Last: netip.MustParseAddr("2001:db8:f:1::59")},
	}
	return c
}
