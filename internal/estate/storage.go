package estate

import (
	"cmp"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"ironbark/internal/sentence"
)

// SetupDir is the folder beside estate.yaml that holds first-boot scripts.
const SetupDir = "setup"

// Speed is the kind of a disk. The zero Speed is standard.
type Speed string

// The kinds of disk.
const (
	Standard Speed = "standard"
	Fast     Speed = "fast"
)

// MaxGB is the greatest size of one disk, in GB (10⁹ bytes).
const MaxGB = 65536

// Disk is a wish for a system disk. The zero Disk is as large as the image needs.
type Disk struct {
	GB    int
	Speed Speed
}

// Volume is a disk that lives longer than the machine it is attached to.
type Volume struct {
	Name    string
	GB      int
	Speed   Speed
	Machine string // "" where it is attached to none
	Device  string // vdb to vdz; [SystemDevice] where the machine boots from it; "" where it is attached to none
	From    string // the snapshot that it begins as; "" for an empty one
	Image   string // the image that it begins as; "" for an empty one
	At      sentence.Pos
}

// SystemDevice is where a machine finds its system.
const SystemDevice = "vda"

// Boots reports whether a machine boots from the volume.
func (v Volume) Boots() bool { return v.Device == SystemDevice }

// Snapshot is a volume, or a machine's system disk, as it was at one moment.
type Snapshot struct {
	Name    string
	Machine string // one of both
	Volume  string
	At      sentence.Pos
}

// Image is a system image of the estate's own, uploaded from a file.
type Image struct {
	Name string
	File string // raw or qcow2; in the estate's folder
	At   sentence.Pos
}

// The kinds of noun that sentences do not speak of, each with names of its own;
// snapshots and images share theirs, since machines start from both.
const (
	kindAddress  = "address"
	kindVolume   = "volume"
	kindSnapshot = "snapshot"
	kindImage    = "image"
)

func (r *reader) words(n *yaml.Node, what string) (list []string) {
	r.list(n, what, func(item *yaml.Node) {
		if text, ok := r.text(item, what); ok {
			list = append(list, text)
		}
	})
	return list
}

// gigabytes reads a size: 40, or 40GB.
func (r *reader) gigabytes(n *yaml.Node, what string) int {
	text, ok := r.text(n, what)
	if !ok {
		return 0
	}
	gb, err := ParseGB(text)
	if err != nil {
		r.failAt(n, what+": "+err.Error(), "")
	}
	return gb
}

// ParseGB reads the size of a disk: 40, 40GB or 2TB; 1 to [MaxGB] GB.
func ParseGB(text string) (int, error) {
	number, unit := strings.TrimSuffix(text, "GB"), 1
	if t, ok := strings.CutSuffix(text, "TB"); ok {
		number, unit = t, 1000
	}
	gb, err := strconv.Atoi(number)
	if err != nil || gb < 1 || gb > MaxGB/unit {
		return 0, fmt.Errorf("a disk is 1 to %d GB, not “%s”", MaxGB, text)
	}
	return gb * unit, nil
}

func (r *reader) speed(n *yaml.Node, what string) Speed {
	text, ok := r.text(n, what)
	if ok && text != string(Standard) && text != string(Fast) {
		r.failAt(n, fmt.Sprintf("%s is standard or fast, not “%s”", what, text), "")
	}
	return Speed(text)
}

// disk reads a system disk: its size alone, or its size and kind.
func (r *reader) disk(n *yaml.Node, what string) (d Disk) {
	if n.Kind == yaml.ScalarNode {
		d.GB = r.gigabytes(n, what)
		return d
	}
	r.fields(n, what, map[string]field{
		"gb":   func(v *yaml.Node) { d.GB = r.gigabytes(v, "gb") },
		"kind": func(v *yaml.Node) { d.Speed = r.speed(v, "kind") },
	})
	return d
}

func (r *reader) volume(name string, at sentence.Pos, n *yaml.Node) {
	v := Volume{Name: name, Speed: Standard, At: at}
	r.fields(n, "volume "+name, map[string]field{
		"gb":      func(n *yaml.Node) { v.GB = r.gigabytes(n, "gb") },
		"kind":    func(n *yaml.Node) { v.Speed = r.speed(n, "kind") },
		"machine": func(n *yaml.Node) { v.Machine = r.name(n, "machine") },
		"device": func(n *yaml.Node) {
			if v.Device, _ = r.text(n, "device"); !device().MatchString(v.Device) {
				r.failAt(n, fmt.Sprintf("a device is vdb to vdz, not “%s”", v.Device), "vda is the system disk")
			}
		},
		"from":  func(n *yaml.Node) { v.From = r.name(n, "from") },
		"image": func(n *yaml.Node) { v.Image = r.name(n, "image") },
	}, "gb")
	if v.From != "" && v.Image != "" {
		r.fail(at, fmt.Sprintf("volume %s begins as a snapshot and as an image", name), "keep one of from: and image:")
	}
	r.estate.Volumes = append(r.estate.Volumes, v)
}

var device = pattern(`^vd[b-z]$`)

func (r *reader) snapshot(name string, at sentence.Pos, n *yaml.Node) {
	s := Snapshot{Name: name, At: at}
	r.fields(n, "snapshot "+name, map[string]field{
		"machine": func(n *yaml.Node) { s.Machine = r.name(n, "machine") },
		"volume":  func(n *yaml.Node) { s.Volume = r.name(n, "volume") },
	})
	if n.Kind == yaml.MappingNode && (s.Machine == "") == (s.Volume == "") {
		r.fail(at, fmt.Sprintf("snapshot %s is of one machine or of one volume", name), "write machine: NAME, or volume: NAME")
	}
	r.estate.Snapshots = append(r.estate.Snapshots, s)
}

func (r *reader) image(name string, at sentence.Pos, n *yaml.Node) {
	i := Image{Name: name, At: at}
	r.fields(n, "image "+name, map[string]field{
		"file": func(n *yaml.Node) {
			if text, ok := r.text(n, "file"); ok && !filepath.IsLocal(text) {
				r.failAt(n, fmt.Sprintf("the file of image %s, “%s”, is not in the estate's folder", name, text), "copy it there, and name it as it is called there")
			} else {
				i.File = text
			}
		},
	}, "file")
	r.estate.Images = append(r.estate.Images, i)
}

// indexStores fills the names of addresses, volumes, snapshots and images.
func (e *Estate) indexStores() {
	stores := map[string]map[string]int{kindAddress: {}, kindVolume: {}, kindSnapshot: {}, kindImage: {}}
	for i, a := range e.Addresses {
		stores[kindAddress][a.Name] = i
	}
	for i, v := range e.Volumes {
		stores[kindVolume][v.Name] = i
	}
	for i, s := range e.Snapshots {
		stores[kindSnapshot][s.Name] = i
	}
	for i, m := range e.Images {
		stores[kindImage][m.Name] = i
	}
	e.names.stores = stores
}

// Volume finds a volume by name.
func (e *Estate) Volume(name string) (Volume, bool) {
	i, ok := e.names.stores[kindVolume][name]
	if !ok {
		return Volume{}, false
	}
	return e.Volumes[i], true
}

// Snapshot finds a snapshot by name.
func (e *Estate) Snapshot(name string) (Snapshot, bool) {
	i, ok := e.names.stores[kindSnapshot][name]
	if !ok {
		return Snapshot{}, false
	}
	return e.Snapshots[i], true
}

// OwnImage finds an image of the estate's own by name.
func (e *Estate) OwnImage(name string) (Image, bool) {
	i, ok := e.names.stores[kindImage][name]
	if !ok {
		return Image{}, false
	}
	return e.Images[i], true
}

// Attached lists a machine's volumes by device.
func (e *Estate) Attached(machine string) (list []Volume) {
	for _, v := range e.Volumes {
		if v.Machine == machine {
			list = append(list, v)
		}
	}
	slices.SortFunc(list, func(a, b Volume) int { return cmp.Compare(a.Device, b.Device) })
	return list
}

// checkStores checks volumes, snapshots and images, and gives each attached
// volume without a device the first free one of its machine.
func (r *reader) checkStores() {
	e := r.estate
	for _, s := range e.Snapshots {
		if i, twice := e.OwnImage(s.Name); twice {
			r.fail(s.At, fmt.Sprintf("“%s” is already the name of an image (line %d)", s.Name, i.At.Line), "machines start from images and snapshots, so the two share names")
		}
	}
	r.bootVolumes()
	used := map[string]string{} // volume by machine and device
	for _, v := range e.Volumes {
		if v.Machine == "" {
			if v.Device != "" {
				r.fail(v.At, fmt.Sprintf("volume %s has a device and no machine", v.Name), "write machine: NAME, or take the device away")
			}
			continue
		}
		if _, ok := r.noun(v.At, v.Machine, KindMachine); !ok || v.Device == "" {
			continue
		}
		key := v.Machine + " " + v.Device
		if other, twice := used[key]; twice {
			r.fail(v.At, fmt.Sprintf("volume %s: %s of %s is volume %s", v.Name, v.Device, v.Machine, other), "leave the device out, and the first free one is taken")
		}
		used[key] = v.Name
	}
	for i := range e.Volumes {
		v := &e.Volumes[i]
		if v.From != "" {
			s, ok := e.Snapshot(v.From)
			if !ok {
				r.fail(v.At, fmt.Sprintf("volume %s: there is no snapshot “%s”", v.Name, v.From), suggest(v.From, sortedKeys(e.names.stores[kindSnapshot])))
			} else if s.Volume == "" {
				r.fail(v.At, fmt.Sprintf("volume %s begins as snapshot %s, which is of a machine's system disk", v.Name, v.From), "write image: "+v.From+", and a machine can boot from it")
			}
		}
		for c := byte('b'); v.Machine != "" && v.Device == "" && c <= 'z'; c++ {
			if name := "vd" + string(c); used[v.Machine+" "+name] == "" {
				v.Device, used[v.Machine+" "+name] = name, v.Name
			}
		}
		if v.Machine != "" && v.Device == "" {
			r.fail(v.At, fmt.Sprintf("machine %s has no device left for volume %s", v.Machine, v.Name), "a machine takes 25 volumes")
		}
	}
}

// bootVolumes attaches each volume that a machine boots from to that machine, and tells the machine which image it holds.
func (r *reader) bootVolumes() {
	e := r.estate
	for i := range e.Machines {
		m := &e.Machines[i]
		if m.Boot == "" {
			continue
		}
		j, ok := e.names.stores[kindVolume][m.Boot]
		if !ok {
			r.fail(m.At, fmt.Sprintf("machine %s boots from volume “%s”, which is not there", m.Name, m.Boot), suggest(m.Boot, sortedKeys(e.names.stores[kindVolume])))
			continue
		}
		v := &e.Volumes[j]
		switch {
		case v.Boots():
			r.fail(m.At, fmt.Sprintf("machine %s boots from volume %s, as machine %s does", m.Name, v.Name, v.Machine), "a volume for each: add volume NAME --image IMAGE")
			continue
		case v.Machine != "" && v.Machine != m.Name, v.Device != "":
			r.fail(v.At, fmt.Sprintf("volume %s is attached to %s, and machine %s boots from it", v.Name, v.Machine, m.Name), "take machine: and device: of the volume away")
			continue
		}
		image, known := e.SystemOf(*v, nil)
		if known && image == "" {
			r.fail(m.At, fmt.Sprintf("machine %s boots from volume %s, which holds no system", m.Name, v.Name), "a volume that begins with image: IMAGE holds one")
			continue
		}
		v.Machine, v.Device, m.Image = m.Name, SystemDevice, image
	}
	for _, s := range e.Snapshots {
		if m, ok := e.Machine(s.Machine); ok && m.Boot != "" {
			r.fail(s.At, fmt.Sprintf("snapshot %s is of machine %s, which boots from a volume", s.Name, m.Name), "write volume: "+m.Boot)
		}
	}
}

// SystemOf tells which image a volume holds; "" for one that holds no system. held tells the same of a snapshot that was
// taken; nil where nobody knows. Where the volume begins as a snapshot of a volume that is in the files no more, and
// nobody knows of it, known is false.
func (e *Estate) SystemOf(v Volume, held func(snapshot string) string) (image string, known bool) {
	for range len(e.Volumes) + 1 { // a volume and its snapshot may name each other
		if v.From == "" {
			return v.Image, true
		}
		if held != nil && held(v.From) != "" {
			return held(v.From), true
		}
		s, _ := e.Snapshot(v.From)
		of, there := e.Volume(s.Volume)
		if !there {
			return "", false
		}
		v = of
	}
	return "", false
}

// Script reports whether a word of a machine's setup is the name of a script,
// which has an ending, and not that of a shipped recipe.
func Script(word string) bool { return strings.Contains(word, ".") }

// setupKnown checks that the scripts of a machine's setup are there. Recipes are the site's.
func (r *reader) setupKnown(m Machine) {
	for i, word := range m.Setup {
		switch {
		case slices.Contains(m.Setup[:i], word):
			r.fail(m.At, fmt.Sprintf("machine %s runs %s twice in its setup", m.Name, word), "")
		case !Script(word):
			if bad := sentence.ValidName(word); bad != nil {
				r.fail(m.At, fmt.Sprintf("“%s” is no recipe: %s", word, bad), "a script has an ending: gauge.sh in the folder "+SetupDir)
			}
		case path.Base(word) != word:
			r.fail(m.At, fmt.Sprintf("“%s” is no file in the folder %s", word, SetupDir), "write its name alone")
		default:
			if _, there := r.estate.Scripts[word]; !there {
				r.fail(m.At, fmt.Sprintf("machine %s: there is no script %s/%s", m.Name, SetupDir, word), suggest(word, sortedKeys(r.estate.Scripts)))
			}
		}
	}
}
