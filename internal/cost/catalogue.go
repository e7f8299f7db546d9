// Package cost knows what a site offers and what an estate on it costs.
//
// The package is pure; amounts are whole millionths of a currency unit, so sums
// are exact.
package cost

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"

	"go4.org/netipx"

	"ironbark/internal/estate"
)

// Catalogue is what a site offers: images, sizes, prices and limits.
type Catalogue struct {
	Currency string   `json:"currency"` // ISO 4217
	Images   []Image  `json:"images"`
	Sizes    []Size   `json:"sizes"`
	Prices   Prices   `json:"prices"`
	Limits   Amounts  `json:"limits"`
	Recipes  []Recipe `json:"recipes"`
	Public   []Pool   `json:"-"` // the public addresses that can be asked for by name, where the estate's uplink has none
	Listens  bool     `json:"-"` // a machine's setup may name services, and it listens on them
	Uplinks  bool     `json:"-"` // the site can be joined to its host's network
}

// Recipe is a first-boot script that ships with a site.
type Recipe struct {
	Name   string `json:"name"`
	About  string `json:"about"`
	Script string `json:"script"`
}

// Pool is a run of public addresses of one family, both ends included.
type Pool struct{ First, Last netip.Addr }

// Has reports whether an address is in the pool.
func (p Pool) Has(a netip.Addr) bool { return p.First.Compare(a) <= 0 && a.Compare(p.Last) <= 0 }

// Pools are the runs of public addresses that an estate's site gives.
func (c Catalogue) Pools(e *estate.Estate) []Pool {
	if e.Uplink == nil || !c.Uplinks {
		return c.Public
	}
	return PoolsOf(e.Uplink.Interface == "", e.Uplink.Public)
}

// LimitsOf are the site's limits for an estate: an uplink has as many public IPv4 addresses as its prefixes.
func (c Catalogue) LimitsOf(e *estate.Estate) Amounts {
	limits := c.Limits
	if e == nil || e.Uplink == nil || !c.Uplinks {
		return limits
	}
	limits.Addresses = 0
	for _, p := range c.Pools(e) {
		if n, ok := p.Size(); ok {
			limits.Addresses += n
		}
	}
	return limits
}

// Size is how many addresses an IPv4 pool has; ok is false for IPv6.
func (p Pool) Size() (n int, ok bool) {
	if !p.First.Is4() {
		return 0, false
	}
	first, last := p.First.As4(), p.Last.As4()
	return int(binary.BigEndian.Uint32(last[:])-binary.BigEndian.Uint32(first[:])) + 1, true
}

// String is an address, or FIRST-LAST.
func (p Pool) String() string {
	if p.First == p.Last {
		return p.First.String()
	}
	return p.First.String() + "-" + p.Last.String()
}

// PoolsOf are the runs of public addresses of an uplink. Of a pool that is routed to the
// site the first IPv4 address is the site's own: machines call outward from it. The first
// and the last of an IPv6 prefix are not given.
func PoolsOf(routed bool, public []netip.Prefix) (list []Pool) {
	kept := !routed
	for _, p := range public {
		r := netipx.RangeOfPrefix(p)
		first, last := r.From(), r.To()
		switch {
		case p.Addr().Is6() && p.Bits() < 127:
			first, last = first.Next(), last.Prev()
		case p.Addr().Is4() && !kept:
			if kept = true; p.IsSingleIP() {
				continue
			}
			first = first.Next()
		}
		list = append(list, Pool{first, last})
	}
	return list
}

// Image is a system that a machine can start from.
type Image struct {
	Name    string   `json:"name"`
	About   string   `json:"about"`
	DiskGB  int      `json:"diskGB"`  // the least system disk
	User    string   `json:"user"`    // who logs in with the machine's key
	Listens []string `json:"listens"` // services it listens on once it runs, as sentences write them
	// Light says that a machine of it is no virtual machine: it takes no processors, memory and disk of its own.
	Light bool `json:"light,omitempty"`
}

// Size is how much of a host a machine gets.
type Size struct {
	Name      string `json:"name"`
	CPUs      int    `json:"cpus"`
	MemoryMiB int    `json:"memoryMiB"`
	Hour      Money  `json:"hour"`
}

// Prices are those that do not hang on a size, an hour each.
type Prices struct {
	DiskGB     Money  `json:"diskGBHour"`
	FastGB     Money  `json:"fastGBHour"`     // of a fast disk
	SnapshotGB Money  `json:"snapshotGBHour"` // of a snapshot, or of an image of the estate's own
	Address    Money  `json:"addressHour"`
	Front      Money  `json:"frontHour"`
	Bastion    Money  `json:"bastionHour"`
	Outward    []Tier `json:"outward"` // in order; the last has no end
}

// Tier is a part of a month's outward transfer, and what a GB of it costs.
type Tier struct {
	UpTo int   `json:"upToGB"` // inclusive; 0: no end
	GB   Money `json:"perGB"`
}

// Disk is what a GB of a disk costs an hour.
func (p Prices) Disk(speed estate.Speed) Money {
	if speed == estate.Fast {
		return p.FastGB
	}
	return p.DiskGB
}

// Amounts are quantities that a site limits.
type Amounts struct {
	Machines  int `json:"machines"`
	CPUs      int `json:"cpus"`
	MemoryMiB int `json:"memoryMiB"`
	Addresses int `json:"addresses"` // public IPv4 ones
	DiskGB    int `json:"diskGB"`
}

// Money is an amount in millionths of the catalogue's currency.
type Money int64

// HoursAMonth is the number of hours that a month's price stands for.
const HoursAMonth = 730

// String prints the amount with two decimals, rounded half away from zero.
func (m Money) String() string {
	cents := int64(m) / 10_000
	if rest := int64(m) % 10_000; rest >= 5_000 {
		cents++
	} else if rest <= -5_000 {
		cents--
	}
	sign := ""
	if cents < 0 {
		sign, cents = "-", -cents
	}
	return fmt.Sprintf("%s%d.%02d", sign, cents/100, cents%100)
}

// UnmarshalJSON reads a decimal string such as "0.0085", with at most six decimals.
func (m *Money) UnmarshalJSON(data []byte) error {
	var text string
	if err := json.Unmarshal(data, &text); err != nil {
		return err
	}
	var units, parts int64
	digits, seen := 0, false
	for _, c := range text {
		switch {
		case c == '.' && !seen:
			seen = true
		case c < '0' || c > '9' || digits == 6 || units > 1e9:
			return fmt.Errorf("%q is no amount of money", text)
		case seen:
			parts, digits = parts*10+int64(c-'0'), digits+1
		default:
			units = units*10 + int64(c-'0')
		}
	}
	for ; digits < 6; digits++ {
		parts *= 10
	}
	*m = Money(units*1_000_000 + parts)
	return nil
}

// Image finds an image by name.
func (c Catalogue) Image(name string) (Image, bool) {
	i := slices.IndexFunc(c.Images, func(i Image) bool { return i.Name == name })
	if i < 0 {
		return Image{}, false
	}
	return c.Images[i], true
}

// Size finds a size by name.
func (c Catalogue) Size(name string) (Size, bool) {
	i := slices.IndexFunc(c.Sizes, func(s Size) bool { return s.Name == name })
	if i < 0 {
		return Size{}, false
	}
	return c.Sizes[i], true
}

func names[T any](list []T, name func(T) string) []string {
	out := make([]string, len(list))
	for i, item := range list {
		out[i] = name(item)
	}
	slices.SortFunc(out, cmp.Compare[string])
	return out
}
