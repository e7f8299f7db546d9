package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"ironbark/internal/cli/view"
	"ironbark/internal/driver"
	"ironbark/internal/findings"
	"ironbark/internal/work"
)

// knownFile is the file in which the folders of a person's estates stand, one a line.
func knownFile() (string, error) {
	dir := os.Getenv("XDG_STATE_HOME") // XDG Base Directory Specification 0.8
	if dir == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(dir, "ironbark", "estates"), nil
}

// remember keeps the folder of an estate among those of this person. That it cannot be kept is no reason to do
// anything else less.
func (a *app) remember(dir string) {
	if !a.demo {
		_ = a.changeKnown([]string{dir}, nil)
	}
}

// changeKnown adds and takes out folders.
func (a *app) changeKnown(add, drop []string) error {
	path, err := knownFile()
	if err != nil {
		return err
	}
	changed := func() (list []string, differs bool) {
		had := readKnown(path)
		list = slices.DeleteFunc(slices.Clone(had), func(dir string) bool { return slices.Contains(drop, dir) })
		for _, dir := range add {
			if abs, err := filepath.Abs(dir); err == nil && !strings.Contains(abs, "\n") && !slices.Contains(list, abs) {
				list = append(list, abs)
			}
		}
		return list, !slices.Equal(had, list)
	}
	if _, differs := changed(); !differs {
		return nil // without a lock: so it mostly is
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	lock, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	list, differs := changed() // others may have written meanwhile
	if !differs {
		return nil
	}
	slices.Sort(list)
	return work.WriteFile(path, []byte(strings.Join(list, "\n")+"\n"), 0o600)
}

func readKnown(path string) (list []string) {
	data, _ := os.ReadFile(path)
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); filepath.IsAbs(line) {
			list = append(list, line)
		}
	}
	return list
}

func (a *app) estatesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "estates [DIR…]", Short: "List the estates that are known on this computer: what each costs, has open, and where two claim the same",
		Long: "List the estates in which you have enacted anything on this computer, and those in the folders that are named: machines,\n" +
			"cost, the limit that is nearest, openings and findings of each, and the addresses that two of them claim. One whose\n" +
			"folder is gone is told, and forgotten.",
		Example: "  ironbark estates\n  ironbark estates ~/saltmarsh ~/tides",
		RunE: func(c *cobra.Command, args []string) error {
			path, err := knownFile()
			if err != nil {
				return err
			}
			for _, dir := range args {
				if _, err := work.FolderAt(dir); err != nil {
					return err
				}
			}
			if err := a.changeKnown(args, nil); err != nil && len(args) > 0 {
				return err
			}
			return a.listEstates(c.Context(), readKnown(path))
		},
	}
}

func (a *app) listEstates(ctx context.Context, dirs []string) error {
	var list []view.Estate
	var gone []string
	for _, dir := range dirs {
		folder, err := work.FolderAt(dir)
		if _, none := errors.AsType[*work.NoEstateError](err); none {
			gone = append(gone, dir)
			a.print.NoteWrap("gone  ", dir+": there is no estate any more, and it is forgotten")
			continue
		}
		one := view.Estate{Folder: dir}
		if err == nil {
			err = a.lookAt(ctx, folder, &one)
		}
		if err != nil {
			one.Why = err.Error()
		}
		list = append(list, one)
	}
	_ = a.changeKnown(nil, gone)
	claims := claimedTwice(list)
	if a.json {
		return a.print.JSON(view.EstatesJSON(list, claims))
	}
	a.print.Estates(list, claims)
	return nil
}

// lookAt looks at one of several estates.
func (a *app) lookAt(ctx context.Context, folder work.Folder, e *view.Estate) error {
	one := *a // each has a site of its own
	e.Name = filepath.Base(folder.Dir)
	w, done, err := one.workIn(folder)
	if err != nil {
		return err
	}
	defer done()
	e.Site = folder.SiteName()
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	now := one.clock.Now()
	if st.Estate.Name != "" {
		e.Name = st.Estate.Name
	}
	e.Bill, e.Limits = w.Bill(st), w.Site.Catalogue().LimitsOf(st.Estate)
	e.Open = len(work.Active(st.Report.Openings, now))
	for _, m := range st.Report.Machines {
		if e.Machines++; m.State == driver.Running {
			e.Running++
		}
	}
	e.Found = map[findings.Level]int{}
	for _, f := range findings.Lint(st.Estate, st.Plan, now, st.Listening()) {
		e.Found[f.Level]++
	}
	for _, t := range st.Report.Resources {
		for _, addr := range []netip.Addr{t.Given.Addr4, t.Given.Addr6} {
			if addr.IsValid() {
				e.Claims = append(e.Claims, view.Claim{What: netip.PrefixFrom(addr, addr.BitLen()), By: t.ID()})
			}
		}
	}
	for _, n := range st.Estate.Networks {
		for _, p := range n.Space {
			e.Claims = append(e.Claims, view.Claim{What: p, By: "network " + n.Name})
		}
	}
	for _, l := range st.Estate.Lines {
		for _, p := range l.Range {
			e.Claims = append(e.Claims, view.Claim{What: p, By: "line " + l.Name})
		}
	}
	return nil
}

// claimedTwice tells each address and range that two estates claim.
func claimedTwice(list []view.Estate) (told []view.TwiceClaimed) {
	for i, a := range list {
		for _, b := range list[i+1:] {
			for _, x := range a.Claims {
				for _, y := range b.Claims {
					if !x.What.Overlaps(y.What) {
						continue
					}
					narrow := x.What
					if y.What.Bits() > narrow.Bits() {
						narrow = y.What
					}
					told = append(told, view.TwiceClaimed{What: narrow, First: a.Name, FirstAt: a.Folder, FirstBy: x.By, Second: b.Name, SecondAt: b.Folder, SecondBy: y.By})
				}
			}
		}
	}
	slices.SortStableFunc(told, func(x, y view.TwiceClaimed) int { return strings.Compare(fmt.Sprint(x.What), fmt.Sprint(y.What)) })
	return slices.Compact(told)
}
