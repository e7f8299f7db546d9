package cli

import (
	"os"
	"path/filepath"
	"strings"

	"ironbark/internal/driver"
	"ironbark/internal/driver/sim"
	"ironbark/internal/estate"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/site"
	"ironbark/internal/work"
)

// drivers opens the driver of each kind of place. What the ledger must know of it goes
// into options.
var drivers = map[string]func(a *app, dir string, options *sqlite.Options) (driver.Driver, error){
	estate.Sim: func(a *app, dir string, options *sqlite.Options) (driver.Driver, error) {
		faults, err := faults()
		if err != nil {
			return nil, err
		}
		a.sim = sim.New(dir, a.clock, faults)
		options.HandOver, options.Wrote = sim.TakeOver, a.sim.Wrote
		return a.sim, nil
	},
}

// siteOf opens the site of an estate: its ledger, and the driver that its files choose.
func (a *app) siteOf(folder work.Folder) (*site.Site, error) {
	open, known := drivers[folder.SiteName()]
	if !known { // that is told with its line where the file is read
		open = drivers[estate.Sim]
	}
	dir := filepath.Join(folder.Dir, work.StateDir)
	options := sqlite.Options{Simulated: simulated(a.clock)}
	d, err := open(a, dir, &options)
	if err != nil {
		return nil, err
	}
	return site.New(sqlite.New(dir, options), d, a.clock), nil
}

// simulated reports whether a clock plays.
func simulated(c driver.Clock) bool {
	s, ok := c.(interface{ Simulated() bool })
	return ok && s.Simulated()
}

// faults reads what the stand-in cloud is told to do wrong in this process: words
// such as fail=3 late=200ms. Without them it plays what it was told to keep.
func faults() (sim.Faults, error) {
	f, err := sim.ParseFaults(strings.Fields(os.Getenv("IRONBARK_SIM_FAULTS")))
	if err != nil {
		return f, usage("IRONBARK_SIM_FAULTS: %v", err)
	}
	return f, nil
}
