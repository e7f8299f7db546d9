package guest

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// Disk is what a volume holds. While it is mounted its files are among those of the machine.
type Disk struct {
	FS    bool     `json:"fs,omitempty"` // it has a file system
	At    string   `json:"at,omitempty"` // where it is mounted; "": nowhere
	Files contents `json:"files,omitempty"`
	Dirs  []string `json:"dirs,omitempty"`
}

func (d *Disk) clone() *Disk {
	return &Disk{d.FS, d.At, maps.Clone(d.Files), slices.Clone(d.Dirs)}
}

// Disk returns what the disk at a device holds, mounted or not, apart from the machine.
func (g *Guest) Disk(device string) *Disk {
	d := g.Disks[device]
	if d == nil {
		return &Disk{}
	}
	n := d.clone()
	if n.At == "" {
		return n
	}
	prefix := n.At + "/"
	n.Files, n.At = contents{}, ""
	for name, text := range g.Files {
		if rest, in := strings.CutPrefix(name, prefix); in {
			n.Files["/"+rest] = text
		}
	}
	for _, dir := range g.Dirs {
		if rest, in := strings.CutPrefix(dir, prefix); in {
			n.Dirs = append(n.Dirs, "/"+rest)
		}
	}
	return n
}

// SetDisk puts a disk in at a device; nil takes the one that is there out, mounted or not.
func (g *Guest) SetDisk(device string, d *Disk) {
	g.unmount(device)
	delete(g.Disks, device)
	if d == nil {
		return
	}
	if g.Disks == nil {
		g.Disks = map[string]*Disk{}
	}
	g.Disks[device] = d
}

// mount mounts the disk at a device.
func (g *Guest) mount(device, at string) error {
	d := g.Disks[device]
	if d == nil {
		d = &Disk{}
	}
	at = path.Clean(at)
	switch {
	case !slices.ContainsFunc(g.Around.Volumes, func(v Volume) bool { return v.Device == device }):
		return fmt.Errorf("/dev/%s: no such device", device)
	case !d.FS:
		return fmt.Errorf("/dev/%s holds no file system: mkfs.ext4 /dev/%s makes one", device, device)
	case d.At != "":
		return fmt.Errorf("/dev/%s is mounted on %s already", device, d.At)
	case at == "/" || !g.isDir(at):
		return fmt.Errorf("%s: no such folder to mount on", at)
	case len(g.List(at)) > 0:
		return fmt.Errorf("%s is not empty, and the stand-in hides no files behind a disk", at)
	}
	for name, text := range d.Files {
		g.Files[at+name] = text
	}
	for _, dir := range d.Dirs {
		g.Dirs = append(g.Dirs, at+dir)
	}
	if !slices.Contains(systemDirs, at) && !slices.Contains(g.Dirs, at) {
		g.Dirs = append(g.Dirs, at)
	}
	d.At, d.Files, d.Dirs = at, nil, nil
	return nil
}

// unmount unmounts the disk at a device, and reports whether it was mounted.
func (g *Guest) unmount(device string) bool {
	d := g.Disks[device]
	if d == nil || d.At == "" {
		return false
	}
	at := d.At
	*d = *g.Disk(device)
	for _, name := range g.List(at) {
		g.Remove(path.Join(at, strings.TrimSuffix(name, "/")))
	}
	if !slices.Contains(systemDirs, at) && !slices.Contains(g.Dirs, at) {
		g.Dirs = append(g.Dirs, at) // the folder stays
	}
	return true
}

// Remount does what a start does: disks are mounted as /etc/fstab says, and no others.
func (g *Guest) Remount() (told []string) {
	for device := range g.Disks {
		g.unmount(device)
	}
	return g.mountAll()
}

// mountAll mounts what /etc/fstab names and is not mounted.
func (g *Guest) mountAll() (failed []string) {
	text, _ := g.Read("/etc/fstab")
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) < 2 || strings.HasPrefix(words[0], "#") || words[1] == "/" {
			continue
		}
		device := strings.TrimPrefix(words[0], "/dev/")
		if d := g.Disks[device]; d != nil && d.At != "" {
			continue
		}
		if err := g.mount(device, words[1]); err != nil {
			failed = append(failed, err.Error())
		}
	}
	return failed
}

// used is how much the files under a disk come to, in bytes; "" for the system disk.
func (g *Guest) used(device string) int {
	if device == "" {
		total := held(g.Files, g.Dirs)
		for other := range g.Disks {
			if g.Disks[other].At != "" {
				total -= g.used(other)
			}
		}
		return total
	}
	d := g.Disk(device)
	return held(d.Files, d.Dirs)
}

func mkfs(c call) int {
	for _, w := range c.words() {
		device := strings.TrimPrefix(w, "/dev/")
		if !slices.ContainsFunc(c.g.Around.Volumes, func(v Volume) bool { return v.Device == device }) {
			return c.fail(1, "mkfs: %s: no such device", w)
		}
		if d := c.g.Disks[device]; d != nil && d.At != "" {
			return c.fail(1, "mkfs: %s is mounted on %s", w, d.At)
		}
		c.g.SetDisk(device, &Disk{FS: true})
	}
	return 0
}

func mountCommand(c call) int {
	w := c.words()
	switch {
	case slices.Contains(c.args, "-a"):
		failed := c.g.mountAll()
		for _, why := range failed {
			c.fail(32, "mount: %s", why)
		}
		return min(len(failed), 1) * 32
	case len(w) == 0:
		fmt.Fprintln(c.out, "/dev/vda on / type ext4")
		for _, v := range c.g.Around.Volumes {
			if d := c.g.Disks[v.Device]; d != nil && d.At != "" {
				fmt.Fprintf(c.out, "/dev/%s on %s type ext4\n", v.Device, d.At)
			}
		}
		return 0
	case len(w) != 2:
		return c.fail(1, "mount: takes a device and a folder")
	}
	if err := c.g.mount(strings.TrimPrefix(w[0], "/dev/"), c.path(w[1])); err != nil {
		return c.fail(32, "mount: %v", err)
	}
	return 0
}

func umountCommand(c call) int {
	for _, w := range c.words() {
		device, done := strings.TrimPrefix(w, "/dev/"), false
		for other, d := range c.g.Disks {
			if other == device || d.At != "" && d.At == c.path(w) {
				done = c.g.unmount(other)
			}
		}
		if !done {
			return c.fail(32, "umount: %s is not mounted", w)
		}
	}
	return 0
}

func df(c call) int {
	row := func(device string, gb, used int, at string) {
		fmt.Fprintf(c.out, "%-10s %7d GB %9d %s\n", device, gb, used, at)
	}
	fmt.Fprintf(c.out, "%-10s %10s %9s %s\n", "DEVICE", "SIZE", "USED", "MOUNTED ON")
	row("/dev/vda", c.g.Around.SystemGB, c.g.used(""), "/")
	for _, v := range c.g.Around.Volumes {
		if d := c.g.Disks[v.Device]; d != nil && d.At != "" {
			row("/dev/"+v.Device, v.GB, c.g.used(v.Device), d.At)
		}
	}
	return 0
}

func lsblk(c call) int {
	row := func(device string, gb int, what string) {
		fmt.Fprintln(c.out, strings.TrimRight(fmt.Sprintf("%s %5d GB  %s", device, gb, what), " "))
	}
	row("vda", c.g.Around.SystemGB, "/")
	for _, v := range c.g.Around.Volumes {
		at := ""
		if d := c.g.Disks[v.Device]; d != nil {
			at = d.At
		}
		row(v.Device, v.GB, at)
	}
	return 0
}
