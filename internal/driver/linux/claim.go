package linux

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// A site's namespaces, links and files on the host have a short name: a hash of its folder. Two folders may have the same one. So a site
// claims its name with its folder, and one whose name belongs to another folder makes nothing.

// ClaimedError says that the short name of a folder's site belongs to another folder's on this host.
type ClaimedError struct{ Folder, Other string }

// Error names both.
func (e *ClaimedError) Error() string {
	return fmt.Sprintf("the sites in %s and %s have the same short name on this host", e.Folder, e.Other)
}

// Remedy tells what to do.
func (e *ClaimedError) Remedy() string { return "rename " + filepath.Dir(e.Folder) }

// ExitStatus is that of files and hosts that cannot be used.
func (*ClaimedError) ExitStatus() int { return 2 }

func (s *Site) claimFile() string { return filepath.Join(runRoot, s.prefix+".folder") }

// folder is the site's own, as it is claimed.
func (s *Site) folder() string {
	if abs, err := filepath.Abs(s.dir); err == nil {
		return abs
	}
	return s.dir
}

// mine returns a *ClaimedError where the site's short name belongs to another folder whose site is on the host.
func (s *Site) mine() error {
	other, err := os.ReadFile(s.claimFile())
	if errors.Is(err, os.ErrNotExist) || err == nil && string(other) == s.folder() {
		return nil
	}
	if err == nil && exists(s.prefix) {
		return &ClaimedError{s.folder(), string(other)}
	}
	return err
}

// claim claims the site's short name. The error is a *ClaimedError.
func (s *Site) claim() error {
	if err := s.mine(); err != nil {
		return err
	}
	if err := os.MkdirAll(runRoot, 0o755); err != nil {
		return err
	}
	return os.WriteFile(s.claimFile(), []byte(s.folder()), 0o600)
}

// unclaim gives the short name up.
func (s *Site) unclaim() error {
	if err := os.Remove(s.claimFile()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}
