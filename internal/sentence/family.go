package sentence

import "net/netip"

// Family is an address family. What is kept for each of them stands at its number.
type Family uint8

// The families.
const (
	IPv6 Family = iota
	IPv4
)

// Families are both, in the order in which they are told.
var Families = [...]Family{IPv4, IPv6}

// FamilyOf returns the family of a valid address.
func FamilyOf(a netip.Addr) Family {
	if a.Is4() {
		return IPv4
	}
	return IPv6
}

// String names the family.
func (f Family) String() string { return [...]string{"IPv6", "IPv4"}[f] }
