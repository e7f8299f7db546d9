package cli

import (
	_ "embed"
	"os"
	"os/signal"
	"path/filepath"
	"time"

	"ironbark/internal/estate"
)

//go:embed saltmarsh/host.yaml
var hostNouns []byte

//go:embed saltmarsh/host.rules
var hostRules []byte

//go:embed saltmarsh/tide.sh
var hostSetup []byte

// hostStory plays on this host. Packets, machines and SSH in it are real ones.
var hostStory = []story{
	step(0, "What this host has and lacks for it. Everything is tried, and taken away again.", "site", "check"),
	step(0, "The system of tiny guests: a kernel out of Debian's package, which is not installed, and one program.", "site", "prepare"),
	step(0, "A key by which administrators get into machines.", "add", "key", "ops", "--draft"),
	step(0, "Two gauges, each a virtual machine with a kernel of its own, and an archive that is light: a network namespace. The review tells who will reach what before anything is made.", "enact", "--yes"),
	step(0, "Who can reach what, as the kernel has it:", "reach"),
	step(0, "A real packet to the web service, through the front: the kernel lets it pass.", "probe", "https", "from", "198.51.100.9", "to", "quay"),
	step(0, "A gauge sends its feed to the archive, over UDP.", "probe", "udp/7400", "from", "10.60.1.2", "to", "tide-archive"),
	step(3, "ssh on a gauge. It is administrative, so the kernel drops it.", "probe", "ssh", "from", "198.51.100.7", "to", "gauge-1"),
	step(0, "Somebody has to look at it. ssh is opened for as long as that takes, the gauge's own SSH server answers, and it is closed again.",
		"connect", "--for", "10m", "--because", "read the gauge", "gauge-1", "uname -sr; hostname; df; cat /srv/www/tide"),
	step(3, "Closed, as before.", "probe", "ssh", "from", "198.51.100.7", "to", "gauge-1"),
	step(0, "ssh is opened to one address, for five seconds.",
		"open", "ssh", "to", "gauge-1", "from", "198.51.100.7", "for", "5s", "because", "read the gauge"),
	step(0, "Now the packet gets through.", "probe", "ssh", "from", "198.51.100.7", "to", "gauge-1"),
	step(3, "And not from next door.", "probe", "ssh", "from", "198.51.100.8", "to", "gauge-1"),
	{tell: "Six seconds later it does not get through. The kernel ended it; no process of ironbark's ran.", args: []string{"probe", "ssh", "from", "198.51.100.7", "to", "gauge-1"}, exit: 3, wait: 6 * time.Second},
	step(0, "Room for charts, plugged in while the gauge runs.", "add", "volume", "charts", "--gb", "2", "--machine", "gauge-1", "--yes"),
	step(0, "A third gauge. It goes on from a saved state, which has no key and no name in it, and runs in about a second.", "add", "machine", "gauge-3", "--image", "tiny", "--size", "c1m256", "--subnet", "landing", "--key", "ops", "--yes"),
	step(0, "One source is kept out, whatever else says yes. It takes effect at once.", "deny", "any", "from", "198.51.100.9", "to", "all", "because", "abuse report 17", "--yes"),
	step(3, "Its packets get through no more.", "probe", "https", "from", "198.51.100.9", "to", "quay"),
	step(0, "Which sentences have let anything in, how much, and when last:", "reach", "--used"),
	step(0, "The estate on one screen:", "status"),
}

var hostEnd = step(0, "All of it is taken away. Nothing stays on the host.", "remove", "--everything", "--name", "saltmarsh")

// demoLinux tells the story that plays on this host. What it made is taken away at the end,
// also where it breaks off.
func (a *app) demoLinux(base string) (err error) {
	dir := filepath.Join(base, "saltmarsh")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, data := range map[string][]byte{estate.FileName: hostNouns, estate.RulesName: hostRules} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			return err
		}
	}
	for name, data := range map[string][]byte{estate.SetupDir + "/tide.sh": hostSetup} {
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			return err
		}
	}
	interrupted := make(chan os.Signal, 1)
	signal.Notify(interrupted, os.Interrupt)
	defer signal.Stop(interrupted)
	for i, s := range hostStory {
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
	if end := a.tellStep(base, len(hostStory)+1, hostEnd); err == nil {
		err = end
	}
	return err
}
