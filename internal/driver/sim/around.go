package sim

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"ironbark/internal/change"
	"ironbark/internal/driver/sim/guest"
	"ironbark/internal/estate"
	"ironbark/internal/store"
)

// around tells what a machine has around it: its links with their gateways, its name servers and its disks.
func (s *Site) around(ctx context.Context, tx *sql.Tx, t change.Resource) (a guest.Around, err error) {
	a.SystemGB = t.Spec.GB
	for i, at := range t.Spec.Subnets {
		subnet, err := findResource(ctx, tx, change.Subnet, at)
		if err != nil {
			return a, err
		}
		l := guest.Link{Name: fmt.Sprintf("eth%d", i)}
		for _, addr := range t.Spec.Inside[at] {
			for _, p := range subnet.Spec.Ranges {
				if p.Contains(addr) {
					l.Addrs = append(l.Addrs, netip.PrefixFrom(addr, p.Bits()))
					l.Gateways = append(l.Gateways, estate.Subnet{Range: subnet.Spec.Ranges, Gateway: subnet.Spec.Gateway}.GatewayOf(p))
				}
			}
		}
		a.Links = append(a.Links, l)
		network, err := findResource(ctx, tx, change.Network, subnet.Spec.Network)
		if err != nil {
			return a, err
		}
		for _, d := range network.Spec.DNS {
			if !slices.Contains(a.DNS, d.String()) {
				a.DNS = append(a.DNS, d.String())
			}
		}
	}
	err = store.Each(ctx, tx, `SELECT `+resourceColumns+` FROM resources WHERE kind = 'volume' AND json_extract(spec, '$.machine') = ?`, func(scan func(...any) error) error {
		v, err := readResource(scan)
		if v.Boots() {
			a.SystemGB = v.Spec.GB
		} else {
			a.Volumes = append(a.Volumes, guest.Volume{Device: v.Spec.Device, Name: v.Name, GB: v.Spec.GB})
		}
		return err
	}, t.Name)
	slices.SortFunc(a.Volumes, func(x, y guest.Volume) int { return slices.Compare([]string{x.Device}, []string{y.Device}) })
	return a, err
}

// findResource reads a resource by its name; the zero Resource where there is none.
func findResource(ctx context.Context, tx *sql.Tx, kind change.Kind, name string) (change.Resource, error) {
	t, err := readResource(tx.QueryRowContext(ctx, `SELECT `+resourceColumns+` FROM resources WHERE kind = ? AND name = ?`, kind, name).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return change.Resource{}, nil
	}
	return t, err
}
