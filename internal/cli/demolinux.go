package cli

import (
	_ "embed"
	"os"
	"os/signal"
	"path/filepath"
	"time"

	"ironbark/internal/estate"
)

//go:embed saltmarsh/light.yaml
var lightNouns []byte

//go:embed saltmarsh/light.rules
var lightRules []byte

// lightStory plays on this host. Packets in it are real ones.
var lightStory = []story{
	step(0, "What this host has and lacks for it. Everything is tried, and taken away again.", "site", "check"),
	step(0, "Two gauges and an archive, as network namespaces. The review tells who will reach what before anything is made.", "enact", "--yes"),
	step(0, "Who can reach what, as the kernel has it:", "reach"),
	step(0, "A real packet to the web service, through the front: the kernel lets it pass.", "probe", "https", "from", "198.51.100.9", "to", "quay"),
	step(0, "A gauge sends its feed to the archive, over UDP. The packet starts in the gauge's own namespace.", "probe", "udp/7400", "from", "10.60.1.4", "to", "tide-archive"),
	step(3, "ssh on a gauge. It is administrative, so the kernel drops it.", "probe", "ssh", "from", "198.51.100.7", "to", "gauge-1"),
	step(0, "ssh is opened to one address, for five seconds.",
		"open", "ssh", "to", "gauge-1", "from", "198.51.100.7", "for", "5s", "because", "read the gauge"),
	step(0, "Now the packet gets through.", "probe", "ssh", "from", "198.51.100.7", "to", "gauge-1"),
	step(3, "And not from next door.", "probe", "ssh", "from", "198.51.100.8", "to", "gauge-1"),
	{tell: "Six seconds later it does not get through. The kernel ended it; no process of ironbark's ran.", args: []string{"probe", "ssh", "from", "198.51.100.7", "to", "gauge-1"}, exit: 3, wait: 6 * time.Second},
	step(0, "One source is kept out, whatever else says yes. It takes effect at once.", "deny", "any", "from", "198.51.100.9", "to", "all", "because", "abuse report 17", "--yes"),
	step(3, "Its packets get through no more.", "probe", "https", "from", "198.51.100.9", "to", "quay"),
	step(0, "Which sentences have let anything in, how much, and when last:", "reach", "--used"),
	step(0, "The estate on one screen:", "status"),
}

var lightEnd = step(0, "All of it is taken away. Nothing stays on the host.", "remove", "--everything", "--name", "saltmarsh")

// demoLinux tells the story that plays on this host. What it made is taken away at the end,
// also where it breaks off.
func (a *app) demoLinux(base string) (err error) {
	dir := filepath.Join(base, "saltmarsh")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, data := range map[string][]byte{estate.FileName: lightNouns, estate.RulesName: lightRules} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			return err
		}
	}
	interrupted := make(chan os.Signal, 1)
	signal.Notify(interrupted, os.Interrupt)
	defer signal.Stop(interrupted)
	for i, s := range lightStory {
		if err = a.tellStep(base, i+1, s); err != nil {
			break
		}
		select {
		case <-interrupted:
			err = errNo
		default:
			continue
		}
		break
	}
	if end := a.tellStep(base, len(lightStory)+1, lightEnd); err == nil {
		err = end
	}
	return err
}
