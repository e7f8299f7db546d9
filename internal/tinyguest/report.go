package tinyguest

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"time"

	"ironbark/internal/seed"
)

// reportsPath keeps what the setup came to, so that it is told again at each boot.
const reportsPath = "/var/lib/tiny/reports"

// report tells the host something.
func (m *machine) report(r seed.Report) {
	line, err := json.Marshal(r)
	if err != nil || m.port == nil {
		return
	}
	_, _ = m.port.Write(append(line, '\n'))
}

// setup runs the scripts of the setup one after the other, until one fails, where this
// is the first boot of the instance.
func (m *machine) setup(fresh bool) {
	if !fresh {
		m.tellAgain()
		return
	}
	_ = os.MkdirAll(filepath.Dir(reportsPath), 0o755)
	var all []seed.Report
	for _, part := range m.seed.Setup {
		say("setup %s begins", part.Name)
		var out bytes.Buffer
		status := runScript(part.Name, part.Script, nil, &out, m.home())
		text := out.Bytes()
		text = text[max(0, len(text)-seed.MostOutput):]
		_, _ = os.Stdout.Write(text)
		say("setup %s ended with %d", part.Name, status)
		all = append(all, seed.Report{Setup: &seed.Result{Name: part.Name, At: time.Now().UTC(), Exit: status, Output: text}})
		if status != 0 {
			break
		}
	}
	all = append(all, seed.Report{Done: m.seed.Instance})
	body, err := json.Marshal(all)
	if err := errors.Join(err, os.WriteFile(reportsPath, body, 0o644), os.WriteFile(markPath, []byte(m.seed.Instance), 0o644)); err != nil {
		say("what the setup came to is not kept: %v", err)
	}
	for _, r := range all {
		m.report(r)
	}
}

func (m *machine) tellAgain() {
	var all []seed.Report
	body, err := os.ReadFile(reportsPath)
	if err := errors.Join(err, json.Unmarshal(body, &all)); err != nil {
		say("what the setup came to cannot be read: %v", err)
	}
	for _, r := range all {
		m.report(r)
	}
}
