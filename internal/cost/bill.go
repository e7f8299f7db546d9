package cost

import (
	"cmp"
	"fmt"
	"slices"

	"ironbark/internal/estate"
)

// Bill is what an estate costs an hour, by item, and what it uses of the limits.
type Bill struct {
	Currency string
	Lines    []Line
	Used     Amounts
}

// Line is one item of a bill.
type Line struct {
	Kind, Name string
	What       string
	Tags       []estate.Tag // of the machine that it belongs to
	Hour       Money
	Stray      bool // it runs, and is in no file
}

// With returns a bill with what others made and is in no file, told apart.
func (b Bill) With(strays Bill) Bill {
	b.Lines = slices.Clone(b.Lines)
	for _, l := range strays.Lines {
		l.Stray = true
		b.Lines = append(b.Lines, l)
	}
	b.Used.Machines += strays.Used.Machines
	b.Used.CPUs += strays.Used.CPUs
	b.Used.MemoryMiB += strays.Used.MemoryMiB
	b.Used.Addresses += strays.Used.Addresses
	b.Used.DiskGB += strays.Used.DiskGB
	return b
}

// Usage is what the price of an estate hangs on besides its files.
type Usage struct {
	Own     Sizes
	Stopped func(machine string) bool // such a machine costs only its disks; nil: none is
}

// Bill bills an estate. Machines of unknown sizes or images cost nothing;
// [Catalogue.Check] refuses them before.
func (c Catalogue) Bill(e *estate.Estate, meter Usage) Bill {
	b := Bill{Currency: c.Currency}
	if e == nil {
		return b
	}
	for _, m := range e.Machines {
		b.machine(c, m, meter)
	}
	for _, v := range e.Volumes {
		what := fmt.Sprintf("%d GB %s disk", v.GB, v.Speed)
		m, _ := e.Machine(v.Machine)
		b.add(Line{Kind: "volume", Name: v.Name, What: what, Tags: m.Tags, Hour: Money(v.GB) * c.Prices.Disk(v.Speed)})
		b.Used.DiskGB += v.GB
	}
	for _, s := range e.Snapshots {
		b.add(Line{Kind: "snapshot", Name: s.Name, What: fmt.Sprintf("%d GB", meter.Own[s.Name]), Hour: Money(meter.Own[s.Name]) * c.Prices.SnapshotGB})
	}
	for _, i := range e.Images {
		b.add(Line{Kind: "image", Name: i.Name, What: fmt.Sprintf("%d GB", meter.Own[i.Name]), Hour: Money(meter.Own[i.Name]) * c.Prices.SnapshotGB})
	}
	for _, a := range e.Addresses {
		b.add(Line{Kind: "address", Name: a.Name, What: "reserved", Hour: c.Prices.Address})
		if !a.V6 {
			b.Used.Addresses++
		}
	}
	door := func(kind, name string, wish estate.Address, price Money) {
		what := kind
		if wish.Auto || len(wish.Fixed) > 0 {
			what, price = what+", public address", price+c.Prices.Address
			b.Used.Addresses++
		}
		b.add(Line{Kind: kind, Name: name, What: what, Hour: price})
	}
	for _, f := range e.Fronts {
		door("front", f.Name, f.Address, c.Prices.Front)
	}
	for _, s := range e.Bastions {
		door("bastion", s.Name, s.Address, c.Prices.Bastion)
	}
	return b
}

func (b *Bill) machine(c Catalogue, m estate.Machine, meter Usage) {
	size, _ := c.Size(m.Size)
	gb := c.Disk(m, meter.Own)
	if image, ok := c.Image(m.Image); ok && image.Light {
		size, gb = Size{Name: size.Name, Hour: size.Hour}, 0
	}
	hour := Money(gb) * c.Prices.Disk(m.Disk.Speed)
	disk := ", light"
	if m.Boot != "" {
		disk = ", system on volume " + m.Boot
	} else if gb > 0 {
		disk = fmt.Sprintf(", %d GB %s disk", gb, cmp.Or(m.Disk.Speed, estate.Standard))
	}
	what := m.Size + disk
	public := m.Address.Auto || len(m.Address.Fixed) > 0
	if stopped := meter.Stopped != nil && meter.Stopped(m.Name); stopped {
		what = "stopped" + disk
	} else {
		hour += size.Hour
		if public {
			hour += c.Prices.Address
			what += ", public address"
		}
	}
	if public {
		b.Used.Addresses++
	}
	b.add(Line{Kind: "machine", Name: m.Name, What: what, Tags: m.Tags, Hour: hour})
	b.Used.Machines++
	b.Used.CPUs += size.CPUs
	b.Used.MemoryMiB += size.MemoryMiB
	b.Used.DiskGB += gb
}

func (b *Bill) add(l Line) { b.Lines = append(b.Lines, l) }

// Hour is the sum of the lines.
func (b Bill) Hour() (sum Money) {
	for _, l := range b.Lines {
		sum += l.Hour
	}
	return sum
}

// Month is what [HoursAMonth] hours cost.
func (b Bill) Month() Money { return b.Hour() * HoursAMonth }

// Share is what one value of a tag costs an hour.
type Share struct {
	Value string // "" for what has no such tag
	Hour  Money
}

// ByTag splits the bill by the values of a tag, in their order; what has no such
// tag comes last.
func (b Bill) ByTag(key string) []Share {
	sums := map[string]Money{}
	for _, l := range b.Lines {
		value := ""
		for _, t := range l.Tags {
			if t.Key == key {
				value = t.Value
			}
		}
		sums[value] += l.Hour
	}
	var list []Share
	for value, hour := range sums {
		list = append(list, Share{value, hour})
	}
	slices.SortFunc(list, func(a, b Share) int {
		if (a.Value == "") != (b.Value == "") {
			return cmp.Compare(b.Value, a.Value)
		}
		return cmp.Compare(a.Value, b.Value)
	})
	return list
}

// TagKeys lists the keys of the tags that the bill knows, in order.
func (b Bill) TagKeys() (keys []string) {
	for _, l := range b.Lines {
		for _, t := range l.Tags {
			if !slices.Contains(keys, t.Key) {
				keys = append(keys, t.Key)
			}
		}
	}
	slices.Sort(keys)
	return keys
}

// Part is the part of a month's outward transfer that falls into one tier.
type Part struct {
	Tier
	From int // exclusive, in GB
	GB   int
	Cost Money
}

// Transfer tells what some GB of outward transfer a month cost, tier by tier.
// Tiers that are not reached have no GB.
func (p Prices) Transfer(gb int) (parts []Part, sum Money) {
	from := 0
	for _, t := range p.Outward {
		part := Part{Tier: t, From: from, GB: max(gb-from, 0)}
		if t.UpTo > 0 {
			part.GB = min(part.GB, t.UpTo-from)
			from = t.UpTo
		}
		part.Cost = Money(part.GB) * t.GB
		sum += part.Cost
		parts = append(parts, part)
	}
	return parts, sum
}

// Over lists in words each limit that the used amounts exceed.
func (a Amounts) Over(limit Amounts) (list []string) {
	for _, q := range a.Against(limit) {
		if q.Used > q.Limit {
			list = append(list, fmt.Sprintf("%d %s, and the site's limit is %d", q.Used, q.What, q.Limit))
		}
	}
	return list
}

// Quantity is one limited amount.
type Quantity struct {
	What        string
	Used, Limit int
}

// Against pairs each amount with its limit.
func (a Amounts) Against(limit Amounts) []Quantity {
	return []Quantity{
		{"machines", a.Machines, limit.Machines},
		{"vCPU", a.CPUs, limit.CPUs},
		{"GiB of memory", (a.MemoryMiB + 1023) / 1024, limit.MemoryMiB / 1024},
		{"public addresses", a.Addresses, limit.Addresses},
		{"GB of disk", a.DiskGB, limit.DiskGB},
	}
}
