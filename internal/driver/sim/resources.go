package sim

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"

	"go4.org/netipx"

	"ironbark/internal/change"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// Apply makes, alters or removes one resource. The stand-in keeps the digest and the size of
// an image, and not the bytes.
func (s *Site) Apply(ctx context.Context, c change.Change, content io.Reader) (t change.Resource, err error) {
	if content != nil {
		h := sha256.New()
		if _, err := io.Copy(h, content); err != nil {
			return t, err
		}
		c.Resource.Spec.Digest = hex.EncodeToString(h.Sum(nil))
	}
	err = s.withSetups(ctx, func(runs setups) error {
		return s.commit(ctx, func(tx *sql.Tx, m *meta) (err error) {
			m.Mark++
			if c.Verb == change.Remove {
				t = c.Resource
				_, err = s.remove(ctx, tx, t)
				return err
			}
			t, err = s.put(ctx, tx, c, runs)
			return err
		})
	})
	return t, err
}

// remove takes a resource away and reports whether it was there.
func (s *Site) remove(ctx context.Context, tx *sql.Tx, t change.Resource) (bool, error) {
	if t.Kind == change.Network || t.Kind == change.Subnet {
		if err := nothingInside(ctx, tx, t); err != nil {
			return false, err
		}
	}
	old, err := readResource(tx.QueryRowContext(ctx, `SELECT `+resourceColumns+` FROM resources WHERE kind = ? AND name = ?`, t.Kind, t.Name).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if old.Kind == change.Volume {
		if err := s.detach(ctx, tx, old); err != nil {
			return false, err
		}
	}
	if old.Boots() {
		var machine string
		row := tx.QueryRowContext(ctx, `SELECT name FROM resources WHERE kind = 'machine' AND json_extract(spec, '$.boot') = ?`, old.Name)
		if err := row.Scan(&machine); err == nil {
			return false, fmt.Errorf("machine %s boots from it", machine)
		} else if !errors.Is(err, sql.ErrNoRows) {
			return false, err
		}
	}
	_, err = tx.ExecContext(ctx, `DELETE FROM resources WHERE kind = ? AND name = ?`, t.Kind, t.Name)
	return true, errors.Join(err, s.forget(ctx, tx, old))
}

// nothingInside refuses to take a subnet away in which something stands.
func nothingInside(ctx context.Context, tx *sql.Tx, t change.Resource) error {
	return store.Each(ctx, tx, `SELECT `+resourceColumns+` FROM resources WHERE kind IN ('machine', 'bastion', 'subnet')`, func(scan func(...any) error) error {
		o, err := readResource(scan)
		if err != nil {
			return err
		}
		if slices.Contains(o.Spec.Subnets, t.Name) || t.Kind == change.Network && o.Kind == change.Subnet && o.Spec.Network == t.Name {
			return fmt.Errorf("%s stands in it", o.ID())
		}
		return nil
	})
}

// put makes or alters a resource, or does nothing where it is like that already.
func (s *Site) put(ctx context.Context, tx *sql.Tx, c change.Change, runs setups) (change.Resource, error) {
	t := c.Resource
	given, err := s.address(ctx, tx, t)
	if err != nil {
		return t, err
	}
	spec, err := json.Marshal(t.Spec)
	if err != nil {
		return t, err
	}
	t.Given = given
	gave, err := json.Marshal(given)
	if err != nil {
		return t, err
	}
	var oldSpec, oldGiven string
	switch err := tx.QueryRowContext(ctx, `SELECT spec, given FROM resources WHERE kind = ? AND name = ?`, t.Kind, t.Name).Scan(&oldSpec, &oldGiven); {
	case err == nil && oldSpec == string(spec) && oldGiven == string(gave):
		return t, nil
	case err != nil && !errors.Is(err, sql.ErrNoRows):
		return t, err
	}
	if err := s.initialise(ctx, tx, c, runs); err != nil {
		return t, err
	}
	if t.Kind == change.Volume {
		old, err := findResource(ctx, tx, change.Volume, t.Name)
		if err == nil {
			err = s.attach(ctx, tx, old, t)
		}
		if err != nil {
			return t, err
		}
	}
	if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO resources VALUES (?, ?, ?, ?)`, t.Kind, t.Name, string(spec), string(gave)); err != nil {
		return t, err
	}
	if t.Kind == change.Machine && !t.Spec.Password {
		return t, s.setHash(ctx, tx, t.Name, "")
	}
	return t, nil
}

// address gives a resource the public addresses that it asks for: those that it has
// already, reserved ones, given ones, and otherwise the lowest free ones of the pool.
func (s *Site) address(ctx context.Context, tx *sql.Tx, t change.Resource) (flow.Public, error) {
	if !t.Spec.Auto4 && !t.Spec.Auto6 && len(t.Spec.Fixed)+len(t.Spec.Reserved) == 0 {
		return flow.Public{}, nil
	}
	taken := map[netip.Addr]string{}
	reserved := map[string]change.Resource{}
	var has flow.Public
	err := store.Each(ctx, tx, `SELECT `+resourceColumns+` FROM resources WHERE kind IN ('machine', 'front', 'bastion', 'address')`, func(scan func(...any) error) error {
		o, err := readResource(scan)
		switch {
		case err != nil:
			return err
		case o.ID() == t.ID():
			has = o.Given
			return nil
		case o.Kind == change.Address:
			reserved[o.Name] = o
		}
		for _, a := range []netip.Addr{o.Given.Addr4, o.Given.Addr6} {
			if taken[a] == "" || o.Kind != change.Address { // whoever has a reserved address, rather than its name
				taken[a] = o.ID()
			}
		}
		return nil
	})
	if err != nil {
		return flow.Public{}, err
	}
	delete(taken, netip.Addr{})
	public := flow.Public{}
	set := func(a netip.Addr) {
		if a.Is4() {
			public.Addr4 = a
		} else {
			public.Addr6 = a
		}
	}
	for _, name := range t.Spec.Reserved {
		r, ok := reserved[name]
		if !ok {
			return flow.Public{}, fmt.Errorf("the site has no reserved address %s", name)
		}
		for _, a := range []netip.Addr{r.Given.Addr4, r.Given.Addr6} {
			if holder := taken[a]; holder != "" && holder != r.ID() {
				return flow.Public{}, fmt.Errorf("reserved address %s leads to %s", name, holder)
			}
			if a.IsValid() {
				set(a)
			}
		}
	}
	for _, a := range t.Spec.Fixed {
		if !slices.ContainsFunc(s.pool(a.Is4()), func(r netipx.IPRange) bool { return r.Contains(a) }) {
			return flow.Public{}, fmt.Errorf("%s is not one of this site's public addresses (%s)", a, s.poolWords(a.Is4()))
		}
		if holder, held := taken[a]; held {
			return flow.Public{}, fmt.Errorf("%s is held by %s", a, holder)
		}
		set(a)
	}
	if t.Spec.Auto4 {
		if public.Addr4, err = s.free(true, has.Addr4, taken); err != nil {
			return flow.Public{}, err
		}
	}
	if t.Spec.Auto6 {
		public.Addr6, err = s.free(false, has.Addr6, taken)
	}
	return public, err
}

// free gives the address that was held before, or the lowest free one of the pool.
func (s *Site) free(v4 bool, old netip.Addr, taken map[netip.Addr]string) (netip.Addr, error) {
	if old.IsValid() && taken[old] == "" {
		return old, nil
	}
	for _, r := range s.pool(v4) {
		for a := r.From(); r.Contains(a); a = a.Next() {
			if _, held := taken[a]; !held {
				return a, nil
			}
		}
	}
	return netip.Addr{}, fault.New(fault.Failure, "the site has no public address left: all of "+s.poolWords(v4)+" are held", fault.Run("quota").Say(" tells by whom"))
}
