package view

import (
	"iter"
	"net/netip"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
)

// addressed is an entry with all addresses by which a machine's clients come in so: a machine has one for each of its interfaces.
type addressed struct {
	exposure.Entry
	addresses []netip.Addr
}

// alone is an entry with its own address.
func alone(e exposure.Entry) addressed {
	if e.Door.Address.IsValid() {
		return addressed{e, []netip.Addr{e.Door.Address}}
	}
	return addressed{Entry: e}
}

// byAddress joins the entries of a machine that differ in the door's address alone. Entries come machine by machine.
func byAddress(list iter.Seq[exposure.Entry]) iter.Seq[addressed] {
	return func(yield func(addressed) bool) {
		var one []addressed
		alike := exposure.Buckets[likeness]{} // in one
		flush := func() bool {
			clear(alike)
			for _, e := range one {
				if !yield(e) {
					return false
				}
			}
			one = one[:0]
			return true
		}
		for e := range list {
			if len(one) > 0 && (one[0].Door.Machine != e.Door.Machine || e.Door.Machine < 0) && !flush() {
				return
			}
			if i, found := alike.Place(likenessOf(e), len(one), func(i int) bool { return sameButAddress(one[i].Entry, e) }); found {
				one[i].addresses = append(one[i].addresses, e.Door.Address)
				continue
			}
			one = append(one, alone(e))
		}
		flush()
	}
}

// sameButAddress reports whether two entries of a machine differ in nothing but the door's address.
func sameButAddress(a, b exposure.Entry) bool {
	x, y := a.Door, b.Door
	return x.Address != y.Address && x.Kind == y.Kind && x.Family == y.Family && x.Via == y.Via && x.Service == y.Service &&
		a.Cause.Same(b.Cause) && a.Services.Equal(b.Services) && a.From.Equal(b.From)
}

// reachList is a list of entries as programs read it.
func reachList(list iter.Seq[exposure.Entry], ph *Phrasing) []reachJSON {
	out := []reachJSON{}
	for e := range byAddress(list) {
		out = append(out, e.json(ph))
	}
	return out
}

// callList is a list of entries of calls as programs read it.
func callList(list iter.Seq[exposure.Entry], ph *Phrasing) []callJSON {
	out := []callJSON{}
	for e := range byAddress(list) {
		out = append(out, e.call(ph))
	}
	return out
}

// addressWords are the addresses in words.
func (e addressed) addressWords() []string {
	words := make([]string, len(e.addresses))
	for i, a := range e.addresses {
		words[i] = a.String()
	}
	return words
}

// via names the front with its port, the bastion or the line of a door; it is empty where a door is the machine's own.
func via(d flow.Door) string {
	if d.Translated() || d.Kind == flow.DoorBastion {
		return d.Via + " " + d.Service.String()
	}
	return d.Via
}
