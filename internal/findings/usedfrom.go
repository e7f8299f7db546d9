package findings

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// saidIn are the sentences of an estate that let somebody in, or give the right to, as they print; nil: none.
func saidIn(e *estate.Estate) map[string]bool {
	said := map[string]bool{}
	if e != nil {
		for _, st := range e.SentencesOf(sentence.VerbAllow, sentence.VerbForward, sentence.VerbSpread, sentence.VerbPermit) {
			said[st.Sentence.String()] = true
		}
	}
	return said
}

// fewPlaces is in how many places all must be who use a sentence, for that to be told. A place is a prefix of so many bits as networks are mostly
// given out by.
const (
	fewPlaces  = 8
	placeBits4 = 24
	placeBits6 = 64
)

// widerPlaces is how many times as many addresses as those places have a sentence must be for.
const widerPlaces = 256

// usedFrom finds a sentence that has long let in whoever comes from far more addresses outside than it was ever used from.
func (l *looker) usedFrom(s sentence.Sentence, from sentence.Set, before map[string]bool, facts Facts) {
	text := s.String()
	used := facts.From[text]
	if used.IsEmpty() || !before[text] || !flow.Active(sentence.EndOf(s), l.at) {
		return
	}
	places := placesOf(used)
	outside := l.resolve.Source(from).Intersect(l.p.Internet())
	if len(places) > fewPlaces || !slices.ContainsFunc(sentence.Families[:], func(f sentence.Family) bool { return muchWider(outside.Intersect(flow.AllOf(f)), f, places) }) {
		return
	}
	words := make([]string, len(places))
	for i, p := range places {
		words[i] = p.String()
	}
	l.find(Note, WiderThanUsed, text, "name where it is used from: from "+strings.Join(words, ", "),
		"for more than "+sentence.DurationOf(UnusedAfter).String()+" this has been used from hardly any of the addresses that “"+from.String()+"” stands for")
}

// muchWider reports whether a set of addresses of a family lies in many times as many places as those that are of it, or as one.
func muchWider(s flow.Addrs, f sentence.Family, places []netip.Prefix) bool {
	used := uint64(0)
	for _, p := range places {
		if sentence.FamilyOf(p.Addr()) == f {
			used++
		}
	}
	in := uint64(0)
	for _, run := range s.Runs() {
		in += placeNumber(run.Hi.Addr()) - placeNumber(run.Lo.Addr()) // one less for each run, of which there are few
	}
	return !s.IsEmpty() && in >= widerPlaces*max(used, 1)-1
}

// placeNumber numbers the places of a family.
func placeNumber(a netip.Addr) uint64 {
	if a.Is4() {
		b := a.As4()
		return uint64(binary.BigEndian.Uint32(b[:])) >> (32 - placeBits4)
	}
	b := a.As16()
	return binary.BigEndian.Uint64(b[:placeBits6/8])
}

// placeIn is the place in which an address is.
func placeIn(a netip.Addr) netip.Prefix {
	bits := placeBits6
	if a.Is4() {
		bits = placeBits4
	}
	return netip.PrefixFrom(a, bits).Masked()
}

// placesOf returns the places in which addresses are, in order, and one more than are few where there are that many.
func placesOf(s flow.Addrs) (list []netip.Prefix) {
	for _, run := range s.Runs() {
		for a := run.Lo; len(list) <= fewPlaces; {
			place := placeIn(a.Addr())
			if n := len(list); n == 0 || list[n-1] != place {
				list = append(list, place)
			}
			end := flow.PointOf(netipx.PrefixLastIP(place))
			if end.Compare(run.Hi) >= 0 {
				break
			}
			a = end.Next()
		}
	}
	return list
}
