package linux

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"slices"

	"ironbark/internal/change"
	"ironbark/internal/seed"
)

// guestUser is who logs in to guests.
const guestUser = "keeper"

// seedOf is what a guest is told.
func (s *Site) seedOf(t change.Resource, g *guest, hash string, list []change.Resource) (seed.Seed, error) {
	if !t.Spec.Password {
		hash = ""
	}
	entropy := make([]byte, 64)
	if _, err := rand.Read(entropy); err != nil {
		return seed.Seed{}, err
	}
	told := seed.Seed{
		Instance: g.Instance, Host: t.Name, User: guestUser, Hash: hash, Passwords: t.Spec.Password && hash != "", HostKey: ed25519.NewKeyFromSeed(g.Host), MAC: guestMAC,
		Entropy: entropy, Now: s.clock.Now().UTC(),
	}
	keys := map[string]string{}
	for _, o := range list {
		if o.Kind == change.Key {
			keys[o.Name] = o.Spec.Public
		}
	}
	for _, name := range t.Spec.Keys() {
		told.Keys = append(told.Keys, keys[name])
	}
	for _, part := range t.Spec.Setup {
		script := part.Script
		if r, ok := s.offer.Recipe(part.Name); ok && script == "" {
			script = r.Script
		}
		if len(part.Listens) > 0 {
			told.Listens = append(told.Listens, part.Listens...)
			continue
		}
		told.Setup = append(told.Setup, seed.Part{Name: part.Name, Script: script})
	}
	for _, at := range t.Spec.Subnets {
		subnet, _ := change.Find(list, change.Subnet, at)
		network, _ := change.Find(list, change.Network, subnet.Spec.Network)
		told.DNS = append(told.DNS, network.Spec.DNS...)
		for _, a := range t.Spec.Inside[at] {
			prefix, via := netip.PrefixFrom(a, a.BitLen()), routerV6
			if a.Is4() {
				prefix, via = subnetOf(a, subnet)
			}
			told.Addresses = append(told.Addresses, prefix)
			if !slices.ContainsFunc(told.Gateways, func(o netip.Addr) bool { return o.Is4() == via.Is4() }) {
				told.Gateways = append(told.Gateways, via)
			}
		}
	}
	return told, nil
}

// subnetOf is an IPv4 address with its subnet's length, and the gateway there, for which the router
// answers.
func subnetOf(a netip.Addr, subnet change.Resource) (netip.Prefix, netip.Addr) {
	for _, r := range subnet.Spec.Ranges {
		if r.Contains(a) {
			via := r.Masked().Addr().Next()
			for _, g := range subnet.Spec.Gateway {
				if g.Is4() {
					via = g
				}
			}
			return netip.PrefixFrom(a, r.Bits()), via
		}
	}
	return netip.PrefixFrom(a, 24), a.Prev()
}

// writeSeed writes a guest's seed disk, whole or not at all.
func (s *Site) writeSeed(t change.Resource, g *guest, hash string, list []change.Resource) error {
	told, err := s.seedOf(t, g, hash, list)
	if err != nil {
		return err
	}
	disk, err := told.Disk()
	if err != nil {
		return err
	}
	return writeFor(filepath.Join(s.machineDir(t.Name), "seed"), disk, g.UID)
}

// writeFor writes a file that one user alone may read.
func writeFor(path string, data []byte, uid int) error {
	tmp := path + ".new"
	_ = os.Remove(tmp)
	f, err := os.OpenFile(tmp, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Chown(uid, uid), f.Close())
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		_ = os.Remove(tmp)
	}
	return err
}
