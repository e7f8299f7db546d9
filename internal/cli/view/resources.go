package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/sentence"
	"ironbark/internal/sshkey"
	"ironbark/internal/work"
)

// Resources lists the things of one kind on the site, or with "" those of all kinds.
func (p *Printer) Resources(st *work.State, kind change.Kind, ph *Phrasing) {
	told := 0
	for _, k := range change.Kinds {
		var list []change.Resource
		for _, t := range st.Report.Resources {
			if t.Kind == k && (kind == "" || kind == k) {
				list = append(list, t)
			}
		}
		if len(list) == 0 {
			continue
		}
		slices.SortFunc(list, func(a, b change.Resource) int { return sentence.CompareNames(a.Name, b.Name) })
		if told++; told > 1 {
			p.Line("")
		}
		if k == change.Machine {
			p.TableIn("", machineHeads, machineRows(st, list, ph))
			continue
		}
		var rows [][]string
		for _, t := range list {
			rows = append(rows, []string{t.Name, t.Describe(), resourceState(t, st)})
		}
		p.Table([]string{strings.ToUpper(string(k)), "IS", "STATE"}, rows)
	}
	switch {
	case told == 0 && kind == "":
		p.Line("There is nothing on the site.")
	case told == 0:
		p.Line("There is no %s on the site.", kind)
	}
}

// resourceState tells what a resource is used for, and whether it is as it was enacted.
func resourceState(t change.Resource, st *work.State) string {
	var words []string
	add := func(text string) { words = append(words, text) }
	switch t.Kind {
	case change.Address:
		if holder := holderOf(t.Name, st); holder != "" {
			add(publicOf(t) + " leads to " + holder)
		} else {
			add(publicOf(t) + " leads nowhere")
		}
	case change.Front, change.Bastion:
		add(publicOf(t))
	case change.Volume:
		if t.Spec.Machine == "" {
			add("attached to none")
		}
	case change.Subnet:
		add(fmt.Sprintf("%d in it", inside(t.Name, st)))
	case change.Key:
		add(sshkey.Fingerprint(t.Spec.Public))
		switch until, over := st.Estate.KeyEnded(t.Name); {
		case over:
			add("ended " + until.UTC().Format(time.RFC3339))
		case !until.IsZero():
			add("ends " + until.UTC().Format(time.RFC3339))
		}
	}
	switch {
	case t.Unmanaged:
		add("in no file")
	case t.LastEnacted != nil:
		add("altered, and not by an enactment")
	}
	return strings.Join(words, "; ")
}

func publicOf(t change.Resource) string {
	var words []string
	if t.Given.Addr4.IsValid() {
		words = append(words, t.Given.Addr4.String())
	}
	if t.Given.Addr6.IsValid() {
		words = append(words, t.Given.Addr6.String())
	}
	if len(words) == 0 {
		return "no address"
	}
	return strings.Join(words, " and ")
}

// holderOf names what a reserved address leads to.
func holderOf(name string, st *work.State) string {
	for _, t := range st.Report.Resources {
		if slices.Contains(t.Spec.Reserved, name) {
			return t.ID()
		}
	}
	return ""
}

func inside(subnet string, st *work.State) (n int) {
	for _, t := range st.Report.Resources {
		if slices.Contains(t.Spec.Subnets, subnet) {
			n++
		}
	}
	return n
}

// Resource shows one resource.
func (p *Printer) Resource(t change.Resource, st *work.State) {
	p.Head(t.ID())
	p.Wrap("  is       ", t.Describe())
	if state := resourceState(t, st); state != "" {
		p.Wrap("  state    ", state)
	}
	if t.Kind == change.Subnet {
		if s, ok := st.Estate.Subnet(t.Name); ok {
			for _, r := range s.Range {
				p.Wrap("  gateway  ", fmt.Sprintf("%s in %s", s.GatewayOf(r), r))
			}
		}
		for _, o := range st.Report.Resources {
			if list := o.Spec.Inside[t.Name]; len(list) > 0 {
				words := make([]string, len(list))
				for i, a := range list {
					words[i] = a.String()
				}
				p.Wrap("  holds    ", o.ID()+" "+strings.Join(words, " "))
			}
		}
	}
	if t.Spec.Digest != "" {
		p.Wrap("  SHA-256  ", t.Spec.Digest)
	}
	if d := change.Drift([]change.Resource{t}, nil); len(d) > 0 {
		p.Wrap("  drift    ", d[0].String())
	}
}

// ResourceDoc is the document that ResourceJSON makes.
type ResourceDoc struct {
	Kind   string      `json:"kind"`
	Name   string      `json:"name"`
	What   string      `json:"what"`
	State  string      `json:"state"`
	Public []string    `json:"public"`
	Stray  bool        `json:"stray"`
	Drift  bool        `json:"altered"`
	Asked  change.Spec `json:"spec"`
}

// ResourceJSON is the document of a resource.
func ResourceJSON(t change.Resource, st *work.State) ResourceDoc {
	return ResourceDoc{string(t.Kind), t.Name, t.Describe(), resourceState(t, st), publicWords(t), t.Unmanaged, t.LastEnacted != nil, t.Spec}
}

func publicWords(t change.Resource) []string {
	if text := publicOf(t); text != "no address" {
		return strings.Split(text, " and ")
	}
	return []string{}
}

// Offer lists what a site offers.
func (p *Printer) Offer(c cost.Catalogue) {
	month := func(m cost.Money) string { return (m * cost.HoursAMonth).String() }
	var rows [][]string
	for _, i := range c.Images {
		rows = append(rows, []string{i.Name, fmt.Sprintf("%d GB", i.DiskGB), i.About})
	}
	p.Table([]string{"IMAGE", "DISK", "IS"}, rows)
	p.Line("")
	rows = nil
	for _, s := range c.Sizes {
		rows = append(rows, []string{s.Name, fmt.Sprint(s.CPUs), fmt.Sprintf("%d MiB", s.MemoryMiB), month(s.Hour)})
	}
	p.Table([]string{"SIZE", "VCPU", "MEMORY", c.Currency + " A MONTH"}, rows, 1, 2, 3)
	p.Line("")
	rows = nil
	for _, r := range c.Recipes {
		rows = append(rows, []string{r.Name, r.About})
	}
	p.Table([]string{"RECIPE", "MAKES"}, rows)
	p.Line("")
	p.Table([]string{"BESIDES", c.Currency + " A MONTH"}, [][]string{
		{"100 GB of a standard disk", month(100 * c.Prices.DiskGB)},
		{"100 GB of a fast disk", month(100 * c.Prices.FastGB)},
		{"100 GB of a snapshot or an own image", month(100 * c.Prices.SnapshotGB)},
		{"public address", month(c.Prices.Address)},
		{"front", month(c.Prices.Front)},
		{"bastion", month(c.Prices.Bastion)},
	}, 1)
}

// offerPriced is a part of the document OfferDoc.
type offerPriced struct {
	Name      string `json:"name"`
	CPUs      int    `json:"cpus"`
	MemoryMiB int    `json:"memoryMiB"`
	Month     string `json:"month"`
}

// OfferDoc is the document of what a site offers.
type OfferDoc struct {
	Images  []cost.Image  `json:"images"`
	Sizes   []offerPriced `json:"sizes"`
	Recipes []cost.Recipe `json:"recipes"`
	Limits  cost.Amounts  `json:"limits"`
}

// OfferJSON is the document of what a site offers.
func OfferJSON(c cost.Catalogue) OfferDoc {
	sizes := []offerPriced{}
	for _, s := range c.Sizes {
		sizes = append(sizes, offerPriced{s.Name, s.CPUs, s.MemoryMiB, (s.Hour * cost.HoursAMonth).String() + " " + c.Currency})
	}
	return OfferDoc{c.Images, sizes, c.Recipes, c.Limits}
}
