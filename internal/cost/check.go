package cost

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// Sizes tells how large, in GB, the estate's own images and its snapshots are.
type Sizes map[string]int

// MinDisk returns the least system disk, in GB, of a machine that starts from an
// image of the site, an image of the estate's own or a snapshot.
func (c Catalogue) MinDisk(image string, own Sizes) int {
	if i, ok := c.Image(image); ok {
		return i.DiskGB
	}
	return max(own[image], 1)
}

// Disk tells how large a machine's system disk is to be: as large as it asks for,
// or as its image needs.
func (c Catalogue) Disk(m estate.Machine, own Sizes) int {
	if m.Boot != "" { // its system is on a volume
		return 0
	}
	if m.Disk.GB > 0 {
		return m.Disk.GB
	}
	return c.MinDisk(m.Image, own)
}

// Recipe finds a recipe by name.
func (c Catalogue) Recipe(name string) (Recipe, bool) {
	i := slices.IndexFunc(c.Recipes, func(r Recipe) bool { return r.Name == name })
	if i < 0 {
		return Recipe{}, false
	}
	return c.Recipes[i], true
}

// Check holds an estate to the catalogue. The error is sentence.Errors, with the
// places in estate.yaml.
func (c Catalogue) Check(e *estate.Estate, own Sizes) error {
	k := checker{c: c, e: e}
	for _, m := range e.Machines {
		k.machine(m, own)
	}
	for _, i := range e.Images {
		if _, taken := c.Image(i.Name); taken {
			k.fail(i.At, fmt.Sprintf("the site has an image “%s” of its own", i.Name), "take another name")
		}
	}
	for _, v := range e.Volumes {
		if least := own[v.From]; v.From != "" && v.GB < least {
			k.fail(v.At, fmt.Sprintf("volume %s: snapshot %s holds %d GB, and %d GB is asked for", v.Name, v.From, least, v.GB), "make it larger")
		}
		if v.Image != "" && k.image(v.At, "volume "+v.Name, v.Image) {
			if i, ok := c.Image(v.Image); ok && i.Light {
				k.fail(v.At, fmt.Sprintf("volume %s: a machine of the image %s is no virtual machine, and boots from no volume", v.Name, v.Image), "take another image")
			} else if least := c.MinDisk(v.Image, own); v.GB < least {
				k.fail(v.At, fmt.Sprintf("volume %s: %s needs %d GB, and %d GB is asked for", v.Name, v.Image, least, v.GB), "make it larger")
			}
		}
	}
	k.addresses()
	if len(k.errs) > 0 {
		return k.errs[:min(len(k.errs), sentence.MostErrors)]
	}
	return nil
}

// MostListens is on how many ports a light machine may be told to listen.
const MostListens = 256

type checker struct {
	c    Catalogue
	e    *estate.Estate
	errs sentence.Errors
}

func (k *checker) fail(at sentence.Pos, problem, remedy string) {
	k.errs = append(k.errs, &sentence.Error{At: at, Problem: problem, Remedy: fault.Say(remedy)})
}

func (k *checker) offer(at sentence.Pos, kind, name string, known []string) {
	remedy := fmt.Sprintf("the site offers: %s", strings.Join(known, ", "))
	if near, ok := sentence.Nearest(name, known); ok {
		remedy = fmt.Sprintf("did you mean “%s”?", near)
	}
	k.fail(at, fmt.Sprintf("the site has no %s “%s”", kind, name), remedy)
}

// image reports whether there is an image, or a snapshot of a machine, of a name: what somebody's system can be.
func (k *checker) image(at sentence.Pos, who, name string) bool {
	if _, ok := k.c.Image(name); ok {
		return true
	}
	if _, mine := k.e.OwnImage(name); mine {
		return true
	}
	if s, mine := k.e.Snapshot(name); mine {
		if s.Machine == "" {
			k.fail(at, fmt.Sprintf("%s: %s is a snapshot of a volume, and no system to start from", who, name), "make a volume from it: from: "+name)
		}
		return s.Machine != ""
	}
	known := names(k.c.Images, func(i Image) string { return i.Name })
	for _, i := range k.e.Images {
		known = append(known, i.Name)
	}
	k.offer(at, "image", name, known)
	return false
}

func (k *checker) machine(m estate.Machine, own Sizes) {
	if m.Boot == "" && k.image(m.At, "machine "+m.Name, m.Image) {
		if least := k.c.MinDisk(m.Image, own); m.Disk.GB > 0 && m.Disk.GB < least {
			k.fail(m.At, fmt.Sprintf("machine %s: %s needs a disk of %d GB, and %d GB is asked for", m.Name, m.Image, least, m.Disk.GB), "leave the size out, or make it larger")
		}
	}
	if _, ok := k.c.Size(m.Size); !ok {
		k.offer(m.At, "size", m.Size, names(k.c.Sizes, func(s Size) string { return s.Name }))
	}
	listens := 0
	for _, word := range m.Setup {
		if ports, ok := k.e.Ports(word); ok && k.c.Listens {
			for _, p := range ports {
				if _, lo, hi, ok := p.Ports(); ok {
					listens += int(hi-lo) + 1
				}
			}
			continue
		}
		if _, ok := k.c.Recipe(word); !ok && !estate.Script(word) {
			if k.c.Listens {
				k.fail(m.At, fmt.Sprintf("machine %s: there is no service “%s” for it to listen on", m.Name, word), "the setup of a light machine names services; services: in estate.yaml makes more")
				continue
			}
			k.offer(m.At, "recipe", word, names(k.c.Recipes, func(r Recipe) string { return r.Name }))
		}
	}
	if listens > MostListens {
		k.fail(m.At, fmt.Sprintf("machine %s is to listen on %d ports; %d are the most", m.Name, listens, MostListens), "a smaller range")
	}
}

// addresses holds given public addresses to the site's pools.
func (k *checker) addresses() {
	public := k.c.Pools(k.e)
	if k.e.Uplink != nil && !k.c.Uplinks {
		k.fail(k.e.Uplink.At, "this site has no host whose network it could be joined to", "leave uplink: out; it belongs to site: linux")
	}
	given := func(at sentence.Pos, what string, list []netip.Addr) {
		for _, a := range list {
			if !slices.ContainsFunc(public, func(p Pool) bool { return p.Has(a) }) {
				var pools []string
				for _, p := range public {
					pools = append(pools, p.First.String()+"-"+p.Last.String())
				}
				k.fail(at, fmt.Sprintf("%s: %s is not one of the site's public addresses", what, a), "they are "+strings.Join(pools, " and ")+"; auto takes a free one")
			}
		}
	}
	for _, m := range k.e.Machines {
		given(m.At, "machine "+m.Name, m.Address.Fixed)
	}
	for _, f := range k.e.Fronts {
		given(f.At, "front "+f.Name, f.Address.Fixed)
	}
	for _, b := range k.e.Bastions {
		given(b.At, "bastion "+b.Name, b.Address.Fixed)
	}
	for _, a := range k.e.Addresses {
		if a.Fixed.IsValid() {
			given(a.At, "address "+a.Name, []netip.Addr{a.Fixed})
		}
	}
}
