package guest

import (
	"maps"
	"slices"
)

// Delta is what changed inside a machine, so that what two sessions wrote at once
// can both be kept: a change takes in files and words one by one, and never the whole.
type Delta struct {
	Files    contents         `json:"files,omitempty"` // written
	Gone     []string         `json:"gone,omitempty"`  // files that were removed
	Dirs     words            `json:"dirs,omitzero"`
	Packages words            `json:"packages,omitzero"`
	Stopped  words            `json:"stopped,omitzero"`
	Enabled  words            `json:"enabled,omitzero"`
	Users    words            `json:"users,omitzero"`
	Disks    map[string]*Disk `json:"disks,omitempty"` // as they are now
}

// words is how a list of words changed.
type words struct {
	In  []string `json:"in,omitempty"`
	Out []string `json:"out,omitempty"`
}

// IsZero reports whether nothing changed.
func (w words) IsZero() bool { return len(w.In)+len(w.Out) == 0 }

func compare(a, b []string) (w words) {
	for _, x := range b {
		if !slices.Contains(a, x) {
			w.In = append(w.In, x)
		}
	}
	for _, x := range a {
		if !slices.Contains(b, x) {
			w.Out = append(w.Out, x)
		}
	}
	return w
}

func (w words) on(list []string) []string {
	list = slices.DeleteFunc(slices.Clone(list), func(x string) bool { return slices.Contains(w.Out, x) })
	for _, x := range w.In {
		if !slices.Contains(list, x) {
			list = append(list, x)
		}
	}
	return list
}

// diff tells what changed between two states of a machine.
func diff(a, b *Guest) Delta {
	d := Delta{
		Files: map[string]string{}, Dirs: compare(a.Dirs, b.Dirs), Packages: compare(a.Packages, b.Packages),
		Stopped: compare(a.Stopped, b.Stopped), Enabled: compare(a.Enabled, b.Enabled), Users: compare(a.Users, b.Users),
	}
	for name, text := range b.Files {
		if was, ok := a.Files[name]; !ok || was != text {
			d.Files[name] = text
		}
	}
	for name := range a.Files {
		if _, ok := b.Files[name]; !ok {
			d.Gone = append(d.Gone, name)
		}
	}
	slices.Sort(d.Gone)
	for device, disk := range b.Disks {
		if was := a.Disks[device]; was == nil || was.FS != disk.FS || was.At != disk.At || !maps.Equal(was.Files, disk.Files) || !slices.Equal(was.Dirs, disk.Dirs) {
			if d.Disks == nil {
				d.Disks = map[string]*Disk{}
			}
			d.Disks[device] = disk
		}
	}
	return d
}

// Apply applies what changed to a machine as it is now. Of a file that two
// sessions wrote the later one counts. A machine that would hold too much keeps
// what it had, and the error says so.
func (g *Guest) Apply(d Delta) error {
	n := g.clone()
	for _, name := range d.Gone {
		delete(n.Files, name)
	}
	maps.Copy(n.Files, d.Files)
	n.Dirs = d.Dirs.on(n.Dirs)
	for device, disk := range d.Disks {
		if n.Disks == nil {
			n.Disks = map[string]*Disk{}
		}
		n.Disks[device] = disk.clone()
	}
	if n.held() > MaxFiles {
		return ErrFull
	}
	g.Files, g.Dirs, g.Disks = n.Files, n.Dirs, n.Disks
	g.Packages, g.Stopped, g.Enabled, g.Users = d.Packages.on(g.Packages), d.Stopped.on(g.Stopped), d.Enabled.on(g.Enabled), d.Users.on(g.Users)
	return nil
}

// clone returns a machine that shares nothing with g that changes.
func (g *Guest) clone() *Guest {
	n := &Guest{
		Name: g.Name, Files: maps.Clone(g.Files), Dirs: slices.Clone(g.Dirs), Packages: slices.Clone(g.Packages),
		Stopped: slices.Clone(g.Stopped), Enabled: slices.Clone(g.Enabled), Users: slices.Clone(g.Users), Around: g.Around,
	}
	for device, d := range g.Disks {
		if n.Disks == nil {
			n.Disks = map[string]*Disk{}
		}
		n.Disks[device] = d.clone()
	}
	if n.Files == nil {
		n.Files = map[string]string{}
	}
	return n
}

// held is how much a machine holds: its files, and those on disks that are not mounted.
func (g *Guest) held() int {
	total := held(g.Files, g.Dirs)
	for _, d := range g.Disks {
		total += held(d.Files, d.Dirs)
	}
	return total
}

// held is how much files and folders come to, names counted.
func held(files map[string]string, dirs []string) int {
	total := 0
	for name, text := range files {
		total += len(name) + len(text) + entrySize
	}
	for _, d := range dirs {
		total += len(d) + entrySize
	}
	return total
}

// entrySize is what a file or a folder takes besides its name and contents, so that
// many empty ones are not free.
const entrySize = 64
