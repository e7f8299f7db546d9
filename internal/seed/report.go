package seed

import (
	"bytes"
	"encoding/json"
	"time"
)

// ReportPort is the name of the port (virtio-serial) on which a machine tells how it is
// doing, a [Report] a line.
const ReportPort = "ironbark.report"

// MostOutput is how many bytes of what a script wrote are reported: its last ones.
const MostOutput = 64 << 10

// Report is one thing that a machine tells. What it says is a guest's word: it may be anything.
type Report struct {
	Up      bool     `json:"up,omitempty"`      // it has booted
	Listens []string `json:"listens,omitempty"` // on these services, as flow.ServiceRuns writes them; with Up
	Stuck   string   `json:"stuck,omitempty"`   // why it does not get through its boot
	Setup   *Result  `json:"setup,omitempty"`   // a script has ended
	Done    string   `json:"done,omitempty"`    // the setup of this instance is over
}

// Result is what a script of the setup came to.
type Result struct {
	Name   string    `json:"name"`
	At     time.Time `json:"at"`
	Exit   int       `json:"exit"`
	Output []byte    `json:"output"`
}

// Told is all that a machine has told since it was last started.
type Told struct {
	Up      bool
	Listens []string
	Stuck   string
	Setup   []Result
	Done    string // the instance whose setup is over
}

// ReadReports reads what a machine told. Lines that make no sense are passed over.
func ReadReports(text []byte) (t Told) {
	for line := range bytes.Lines(text) {
		var r Report
		if !bytes.HasSuffix(line, []byte("\n")) || json.Unmarshal(line, &r) != nil {
			continue
		}
		switch {
		case r.Setup != nil:
			t.Setup = append(t.Setup, *r.Setup)
		case r.Up:
			t.Up, t.Listens, t.Stuck = true, r.Listens, ""
		case r.Stuck != "":
			t.Stuck = r.Stuck
		case r.Done != "":
			t.Done = r.Done
		}
	}
	return t
}

const (
	runnerPath = "/var/lib/ironbark/runner"
	partsPath  = "/var/lib/ironbark/setup"
)

// runner runs the scripts one after the other until one fails, reports each, and keeps the
// reports, so that they are told again at each boot.
const runner = `#!/bin/sh
port=/dev/virtio-ports/` + ReportPort + `
kept=/var/lib/ironbark/reports
tell() { [ ! -e "$port" ] || cat >"$port"; }
case "$1" in
setup)
	: >"$kept"
	for part in ` + partsPath + `/*; do
		[ -e "$part" ] || continue
		out=$(mktemp)
		(cd / && exec "$part") >"$out" 2>&1
		status=$?
		name=${part##*/}
		printf '{"setup":{"name":"%s","at":"%s","exit":%d,"output":"%s"}}\n' "${name#*-}" \
			"$(date -u +%Y-%m-%dT%H:%M:%SZ)" "$status" "$(tail -c 65536 "$out" | base64 -w0)" >>"$kept"
		rm -f "$out"
		tail -n 1 "$kept" | tell
		[ "$status" = 0 ] || break
	done
	printf '{"done":"%s"}\n' "$(cat /var/lib/cloud/data/instance-id)" | tee -a "$kept" | tell
	;;
boot)
	printf '{"up":true}\n' | tell
	[ ! -e "$kept" ] || tell <"$kept"
	;;
esac
`
