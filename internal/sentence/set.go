package sentence

import (
	"fmt"
	"net/netip"
	"strings"

	"go4.org/netipx"
)

// AtomKind says what an [Atom] is. The zero AtomKind is invalid.
type AtomKind uint8

// The kinds of atom.
const (
	Everywhere AtomKind = iota + 1 // every address
	Internet                       // every address in no network and no line
	All                            // every machine
	Me                             // the caller's own address; only where a person types
	Named                          // a name from the estate
	Pattern                        // machines whose names match, with '*'
	Tagged                         // machines that carry key=value
	Address                        // one address
	Prefix                         // a prefix, without host bits
	Range                          // addresses from one to another, both included
	AtConsole                      // the person at a console: the source of a sentence about consoles, which is not written
)

// Atom is one member of a set: a source or a target. The zero Atom is invalid.
type Atom struct {
	kind   AtomKind
	text   string // the name or the pattern, or a tag's key
	value  string // a tag's value
	lo, hi netip.Addr
	bits   int
	at     Pos
}

var atomWords = map[string]AtomKind{"everywhere": Everywhere, "internet": Internet, "all": All, "me": Me}

// AddressAtom returns the atom of one address.
func AddressAtom(a netip.Addr) Atom { return Atom{kind: Address, lo: a, hi: a} }

// AllAtom returns the atom of every machine.
func AllAtom() Atom { return Atom{kind: All} }

// TagAtom returns the atom of the machines that carry key=value.
func TagAtom(key, value string) Atom { return Atom{kind: Tagged, text: key, value: value} }

// NameAtom returns the atom of a name.
func NameAtom(name string) Atom { return Atom{kind: Named, text: name} }

// ParseAtom reads one atom as sentences write it. IPv6 zones and IPv4-mapped
// IPv6 addresses are refused; a prefix must have no host bits.
func ParseAtom(word string) (Atom, error) {
	if kind, ok := atomWords[word]; ok {
		return Atom{kind: kind}, nil
	}
	if key, value, ok := strings.Cut(word, "="); ok {
		if bad := ValidTag(key, value); bad != nil {
			return Atom{}, fmt.Errorf("%q: %s", word, bad)
		}
		return Atom{kind: Tagged, text: key, value: value}, nil
	}
	switch {
	case strings.Contains(word, "/"):
		return parsePrefixAtom(word)
	case looksLikeAddress(word):
		return parseRangeAtom(word)
	case strings.Contains(word, "*"):
		if !validPattern(word) {
			return Atom{}, fmt.Errorf("%q: a pattern is the characters of a name and '*'", word)
		}
		return Atom{kind: Pattern, text: word}, nil
	}
	if bad := ValidName(word); bad != nil {
		return Atom{}, fmt.Errorf("%q: %s", word, bad)
	}
	return Atom{kind: Named, text: word}, nil
}

// looksLikeAddress tells what was meant as an address: it has a colon, or begins with a digit.
func looksLikeAddress(word string) bool {
	return strings.Contains(word, ":") || word != "" && word[0] >= '0' && word[0] <= '9'
}

// ParseAddress reads an address without zone; IPv4-mapped IPv6 is refused,
// since such an address never stands in a packet on the wire (RFC 4291, 2.5.5.2).
func ParseAddress(word string) (netip.Addr, error) {
	a, err := netip.ParseAddr(word)
	switch {
	case err != nil:
		return netip.Addr{}, fmt.Errorf("%q is not an address", word)
	case a.Zone() != "":
		return netip.Addr{}, fmt.Errorf("%q: an address here has no zone", word)
	case a.Is4In6():
		return netip.Addr{}, fmt.Errorf("%q: write the IPv4 address %s itself", word, a.Unmap())
	}
	return a, nil
}

// ParsePrefix reads a prefix; its host bits must be zero.
func ParsePrefix(word string) (netip.Prefix, error) {
	addr, bits, found := strings.Cut(word, "/")
	a, err := ParseAddress(addr)
	if err != nil {
		return netip.Prefix{}, err
	}
	if !found {
		return netip.Prefix{}, fmt.Errorf("%q lacks its length: write %s/%d for one address, or a shorter length", word, a, a.BitLen())
	}
	p, err := netip.ParsePrefix(word)
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%q: the length after '/' is a number from 0 to %d, not %q", word, a.BitLen(), bits)
	}
	if p != p.Masked() {
		return netip.Prefix{}, fmt.Errorf("%q has host bits: write %s, or %s/%d for the one address", word, p.Masked(), a, a.BitLen())
	}
	return p, nil
}

func parsePrefixAtom(word string) (Atom, error) {
	p, err := ParsePrefix(word)
	if err != nil {
		return Atom{}, err
	}
	return Atom{kind: Prefix, lo: p.Addr(), hi: netipx.PrefixLastIP(p), bits: p.Bits()}, nil
}

func parseRangeAtom(word string) (Atom, error) {
	first, last, ranged := strings.Cut(word, "-")
	lo, err := ParseAddress(first)
	if err != nil {
		return Atom{}, err
	}
	if !ranged {
		return AddressAtom(lo), nil
	}
	hi, err := ParseAddress(last)
	if err != nil {
		return Atom{}, err
	}
	if lo.Is4() != hi.Is4() {
		return Atom{}, fmt.Errorf("%q: both ends of a range are of one family", word)
	}
	if hi.Less(lo) {
		return Atom{}, fmt.Errorf("%q is back to front: write %s-%s", word, hi, lo)
	}
	return Atom{kind: Range, lo: lo, hi: hi}, nil
}

// Kind tells what a is.
func (a Atom) Kind() AtomKind { return a.kind }

// Text returns the name of a Named atom or the pattern of a Pattern atom.
func (a Atom) Text() string { return a.text }

// Tag returns key and value of a Tagged atom.
func (a Atom) Tag() (key, value string) { return a.text, a.value }

// Bounds returns the first and last address of an Address, Prefix or Range atom.
func (a Atom) Bounds() (lo, hi netip.Addr) { return a.lo, a.hi }

// Said returns the word that was typed for everywhere, where another was.
func (a Atom) Said() string {
	if a.kind == Everywhere {
		return a.text
	}
	return ""
}

// Literal reports whether the atom is an address, a prefix or a range, which means the same in every estate.
func (a Atom) Literal() bool { return a.kind == Address || a.kind == Prefix || a.kind == Range }

// At tells where a was read.
func (a Atom) At() Pos { return a.at }

// String prints a as sentences write it; "" for the zero Atom.
func (a Atom) String() string {
	switch a.kind {
	case Everywhere:
		return "everywhere"
	case Internet:
		return "internet"
	case All:
		return "all"
	case Me:
		return "me"
	case Named, Pattern:
		return a.text
	case Tagged:
		return a.text + "=" + a.value
	case Address:
		return a.lo.String()
	case Prefix:
		return fmt.Sprintf("%s/%d", a.lo, a.bits)
	case Range:
		return a.lo.String() + "-" + a.hi.String()
	}
	return ""
}

// Set is a list of atoms less another list. The zero Set has no atoms: it is
// what an absent set is, and never means everything.
type Set struct {
	List   []Atom
	Except []Atom
}

// Of returns the set of the given atoms.
func Of(atoms ...Atom) Set { return Set{List: atoms} }

// ConsoleSource is the source of a sentence about consoles. It prints as nothing.
func ConsoleSource() Set { return Of(Atom{kind: AtConsole}) }

// AtConsole reports whether the set is [ConsoleSource].
func (s Set) AtConsole() bool { return len(s.List) == 1 && s.List[0].kind == AtConsole }

// IsEmpty reports whether no set was written at all.
func (s Set) IsEmpty() bool { return len(s.List) == 0 }

// String prints s as sentences write it.
func (s Set) String() string {
	text := joined(s.List)
	if len(s.Except) > 0 {
		text += " except " + joined(s.Except)
	}
	return text
}

// WithPos returns a as read at a place.
func (a Atom) WithPos(at Pos) Atom {
	a.at = at
	return a
}
