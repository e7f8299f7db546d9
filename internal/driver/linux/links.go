package linux

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"

	"github.com/vishvananda/netlink"
)

// A link of the router's to a machine or a line is known by a name that has the whole name of either: an alternative one, which may be
// longer than the 15 characters of a link's own (ip-link(8)). The kernel gives it to one link alone. A link's own name is drawn, and says
// nothing.

// linkOf names the router's link to a machine or a bastion.
func linkOf(machine string) string { return "machine." + machine }

// tunnelOf names the router's link of a line.
func tunnelOf(line string) string { return "line." + line }

// drawnName is a link's own name.
func drawnName() string {
	var b [6]byte
	_, _ = rand.Read(b[:]) // it does not fail: see crypto/rand
	return "m" + hex.EncodeToString(b[:])
}

// nameLink gives a link the name by which it is known. Where that fails, the link is taken away.
func nameLink(own, known string) error {
	l, err := netlink.LinkByName(own)
	if err != nil {
		return err
	}
	if err := netlink.LinkAddAltName(l, known); err != nil {
		_ = netlink.LinkDel(l)
		return fmt.Errorf("naming the link %s: %w", known, err)
	}
	return nil
}
