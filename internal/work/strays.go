package work

import (
	"slices"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/site"
)

// strays bills what is on the site and not in an estate's files, and is not to be taken away. What the files adopt is in them.
func (w *Work) strays(files *estate.Estate, r *site.Report, own cost.Sizes) cost.Bill {
	e := &estate.Estate{}
	for _, t := range r.Resources {
		if !t.Unmanaged || w.Discard[t.ID()] || slices.Contains(files.NamesOf(string(t.Kind)), t.Name) {
			continue
		}
		address := estate.Address{Auto: t.Spec.Auto4, Fixed: t.Spec.Fixed}
		switch t.Kind {
		case change.Machine:
			m := estate.Machine{Name: t.Name, Size: t.Spec.Size, Image: t.Spec.Image, Boot: t.Spec.Boot, Address: address}
			m.Disk.GB, m.Disk.Speed = t.Spec.GB, t.Spec.Speed
			e.Machines = append(e.Machines, m)
		case change.Volume:
			e.Volumes = append(e.Volumes, estate.Volume{Name: t.Name, GB: t.Spec.GB, Speed: t.Spec.Speed})
		case change.Snapshot:
			e.Snapshots = append(e.Snapshots, estate.Snapshot{Name: t.Name})
		case change.Image:
			e.Images = append(e.Images, estate.Image{Name: t.Name})
		case change.Address:
			e.Addresses = append(e.Addresses, estate.Reserved{Name: t.Name, V6: t.Spec.V6})
		case change.Front:
			e.Fronts = append(e.Fronts, estate.Front{Name: t.Name, Address: address})
		case change.Bastion:
			e.Bastions = append(e.Bastions, estate.Bastion{Name: t.Name, Address: address})
		}
	}
	return w.Site.Catalogue().Bill(e, meter(r, own))
}
