package driver

import (
	"time"

	"ironbark/internal/flow"
)

// Machine is how a machine is doing.
type Machine struct {
	State   State
	Since   time.Time
	Ready   time.Time // when it will be as it is going to be, if that is not now
	Listens flow.Services
	Failed  string // the part of its first boot that failed; "" where none did
	Forced  bool   // it did not stop cleanly, the last time
	// Interrupted says that it is stopped, and nobody stopped it by this site: it ended by itself, was
	// killed, or its host was started anew.
	Interrupted bool
	Locked      bool // it takes a password and none was ever set
	Silent      bool // its process runs and does not answer
}

// State is the state of a machine, in plain words.
type State string

// The states.
const (
	Building State = "building"
	Starting State = "starting"
	Running  State = "running"
	Stopping State = "stopping"
	Stopped  State = "stopped"
	Stuck    State = "stuck in boot"
	Paused   State = "paused" // its host's disk is full; started, it goes on where it was
)

// Settled reports whether the state changes by itself no more.
func (s State) Settled() bool { return s == Running || s == Stopped || s == Stuck || s == Paused }

// Power is what is done to a machine's power.
type Power struct {
	Do    PowerVerb
	Grace time.Duration // for Stop and Restart: how long a clean stop may take before a forced one
	Setup bool          // for Restart: the first boot is run again
}

// PowerVerb says what is done.
type PowerVerb string

// What can be done.
const (
	Start   PowerVerb = "start"
	Stop    PowerVerb = "stop"
	Restart PowerVerb = "restart"
)

// Boot is what a machine's last start came to.
type Boot struct {
	Log   string
	Setup []SetupResult
}

// SetupResult is what one part of a first boot came to.
type SetupResult struct {
	Name   string    `json:"name"`
	At     time.Time `json:"at"`
	Exit   int       `json:"exit"`
	Output string    `json:"output"`
}
