package work

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Caller finds out from which addresses whoever asks comes: what “me” stands for. It is for
// one command, and not safe for concurrent use.
type Caller struct {
	// Site returns those from which the site sees them. It is called once, where that matters.
	Site    func() ([]netip.Addr, error)
	Session netip.Addr // from which the SSH session that they are in comes; the zero Addr outside of one
	Named   netip.Addr // that they name themselves, in place of all others; the zero Addr where they name none
	// Ask asks a STUN server, where the estate names one.
	Ask func(server string) ([]netip.Addr, error)
	// Tell is called with what “me” stands for before it is used.
	Tell func(text string)

	looked bool
	site   []netip.Addr
	asked  string
	seen   []netip.Addr
	told   bool
}

// atSite returns the addresses from which the site sees the caller.
func (c *Caller) atSite() (_ []netip.Addr, err error) {
	if !c.looked && c.Site != nil {
		if c.site, err = c.Site(); err != nil {
			return nil, err
		}
		c.looked = true
	}
	return c.site, nil
}

// inSession reports whether the site sees the SSH session that the caller is in.
func (c *Caller) inSession() bool { return c.Session.IsValid() && slices.Contains(c.site, c.Session) }

// Addrs returns the addresses: those of the SSH session that the caller is in; otherwise those
// that the estate's STUN server sees; otherwise those that the site sees. A server that does
// not answer is an error, and no other address is taken in its place.
func (c *Caller) Addrs(e *estate.Estate) ([]netip.Addr, error) {
	if c == nil {
		return nil, nil
	}
	if c.Named.IsValid() {
		return []netip.Addr{c.Named}, nil
	}
	site, err := c.atSite()
	if err != nil || e.STUN == "" || c.inSession() {
		return site, err
	}
	if c.asked != e.STUN {
		seen, err := c.Ask(e.STUN)
		if err != nil {
			return nil, err
		}
		c.asked, c.seen = e.STUN, seen
	}
	return c.seen, nil
}

// Known returns the addresses as far as they can be told without a STUN server; none where
// the site cannot tell them.
func (c *Caller) Known() []netip.Addr {
	switch {
	case c == nil:
		return nil
	case c.Named.IsValid():
		return []netip.Addr{c.Named}
	case c.asked != "":
		return c.seen
	}
	site, _ := c.atSite()
	return site
}

// tell tells once what “me” stands for, and who says so.
func (c *Caller) tell(e *estate.Estate, addrs []netip.Addr) {
	if c.told || c.Tell == nil {
		return
	}
	c.told = true
	words := make([]string, len(addrs))
	for i, a := range addrs {
		words[i] = a.String()
	}
	by := "as the site sees you"
	switch {
	case c.Named.IsValid():
		by = "as you say"
	case c.inSession():
		by = "where your SSH session comes from"
	case e.STUN != "":
		by = "as the STUN server " + e.STUN + " sees you"
	}
	c.Tell(fmt.Sprintf("“me” is %s, %s", strings.Join(words, " and "), by))
}

// Untyped returns an error about a sentence that a command made by itself: nobody typed it, so it points at no column.
func Untyped(err error) error {
	wrong, ok := errors.AsType[*sentence.Error](err)
	if !ok {
		return err
	}
	one := *wrong
	one.At, one.Line = sentence.Pos{}, ""
	if one.Problem == noCaller {
		one.Remedy = fault.Say("name it: --from ADDRESS")
	}
	return &one
}

// noCaller is what is wrong where “me” stands for no address.
const noCaller = "the address from which you come is not known here"

// FromMe puts the caller's own addresses in place of “me”, for a group of machines: those of
// the families that their doors have. The error is a *sentence.Error where nobody can tell
// them.
func (w *Work) FromMe(st *State, s sentence.Set, to *flow.Group) (sentence.Set, error) {
	s, used, err := w.fromMe(st, s, to)
	if len(used) > 0 {
		w.Caller.tell(st.Estate, used)
	}
	return s, err
}

// fromMe is FromMe that tells nobody; it returns the addresses that were put in.
func (w *Work) fromMe(st *State, s sentence.Set, to *flow.Group) (_ sentence.Set, used []netip.Addr, err error) {
	all := slices.Concat(s.List, s.Except)
	i := slices.IndexFunc(all, func(a sentence.Atom) bool { return a.Kind() == sentence.Me })
	if i < 0 {
		return s, nil, nil
	}
	callers, err := w.Caller.Addrs(st.Estate)
	if err != nil {
		return s, nil, &sentence.Error{At: all[i].At(), Problem: err.Error(), Remedy: fault.Say("name the address, or try once more")}
	}
	if len(callers) == 0 {
		return s, nil, &sentence.Error{
			At: all[i].At(), Problem: noCaller,
			Remedy: fault.Say("name the address; within an SSH session “me” is where that came from, and a STUN server finds it: change stun HOST"),
		}
	}
	doors := flow.Addrs{}
	for _, m := range to.Machines {
		for _, d := range st.Plan.DoorsTo(m) {
			doors = doors.Union(d.From)
		}
	}
	usable := slices.DeleteFunc(slices.Clone(callers), func(c netip.Addr) bool { return !doors.Contains(flow.PointOf(c)) })
	if len(usable) == 0 { // no door at all: told as such by whoever judges
		usable = callers
	}
	atoms := func(list []sentence.Atom) (out []sentence.Atom) {
		for _, a := range list {
			if a.Kind() != sentence.Me {
				out = append(out, a)
				continue
			}
			for _, c := range usable {
				out = append(out, sentence.AddressAtom(c).WithPos(a.At()))
			}
		}
		return out
	}
	return sentence.Set{List: atoms(s.List), Except: atoms(s.Except)}, usable, nil
}
