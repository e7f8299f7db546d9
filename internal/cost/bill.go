package cost

import (
	"fmt"

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
	Hour       Money
}

// Of bills an estate. Machines of unknown sizes or images cost nothing;
// [Catalogue.Check] refuses them before.
func (c Catalogue) Of(e *estate.Estate) Bill {
	b := Bill{Currency: c.Currency}
	if e == nil {
		return b
	}
	for _, m := range e.Machines {
		size, _ := c.Size(m.Size)
		image, _ := c.Image(m.Image)
		hour := size.Hour + Money(image.DiskGB)*c.Prices.DiskGB
		what := fmt.Sprintf("%s, %d GB disk", m.Size, image.DiskGB)
		if m.Address.Wanted() {
			hour += c.Prices.Address
			what += ", public address"
			b.Used.Addresses++
		}
		b.add("machine", m.Name, what, hour)
		b.Used.Machines++
		b.Used.CPUs += size.CPUs
		b.Used.MemoryMiB += size.MemoryMiB
		b.Used.DiskGB += image.DiskGB
	}
	for _, f := range e.Fronts {
		b.add("front", f.Name, "front, public address", c.Prices.Front+c.Prices.Address)
		b.Used.Addresses++
	}
	for _, s := range e.Bastions {
		b.add("bastion", s.Name, "bastion, public address", c.Prices.Bastion+c.Prices.Address)
		b.Used.Addresses++
	}
	return b
}

func (b *Bill) add(kind, name, what string, hour Money) {
	b.Lines = append(b.Lines, Line{kind, name, what, hour})
}

// Hour is the sum of the lines.
func (b Bill) Hour() (sum Money) {
	for _, l := range b.Lines {
		sum += l.Hour
	}
	return sum
}

// Month is what [HoursAMonth] hours cost.
func (b Bill) Month() Money { return b.Hour() * HoursAMonth }

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
