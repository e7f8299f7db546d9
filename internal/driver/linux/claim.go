package linux

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"ironbark/internal/fault"
)

// A site's namespaces, links and files on the host have a short name: a hash of its folder. Two folders may have the same one. So a site
// claims its name with its folder, and one whose name belongs to another folder makes nothing.

// ClaimedError says that the short name of a folder's site belongs to another folder's on this host.
type ClaimedError struct{ Folder, Other string }

// Error names both.
func (e *ClaimedError) Error() string {
	return fmt.Sprintf("the sites in %s and %s have the same short name on this host", e.Folder, e.Other)
}

// Advice says what to do.
func (e *ClaimedError) Advice() fault.Advice {
	return fault.Say("rename " + filepath.Dir(e.Folder))
}

// Kind is that of files and hosts that cannot be used.
func (*ClaimedError) Kind() fault.Kind { return fault.Invalid }

func (s *Site) claimFile() string { return filepath.Join(runRoot, s.prefix+".folder") }

// folder is the site's own, as it is claimed.
func (s *Site) folder() string {
	if abs, err := filepath.Abs(s.dir); err == nil {
		return abs
	}
	return s.dir
}

// claimed reports whether the site's short name is claimed with its folder. The error is a *ClaimedError where it belongs to another folder
// whose site is on the host.
func (s *Site) claimed() (bool, error) {
	other, err := os.ReadFile(s.claimFile())
	switch {
	case errors.Is(err, os.ErrNotExist):
		return false, nil
	case err != nil || string(other) == s.folder():
		return err == nil, err
	case exists(s.prefix):
		return false, &ClaimedError{s.folder(), string(other)}
	}
	return false, nil
}

// claim claims the site's short name. The error is a *ClaimedError.
func (s *Site) claim() error {
	if claimed, err := s.claimed(); claimed || err != nil {
		return err
	}
	return putFile(s.claimFile(), []byte(s.folder()))
}

// putFile puts a file under runRoot in place at one moment: others read it meanwhile.
func putFile(path string, text []byte) error {
	if err := os.MkdirAll(runRoot, 0o755); err != nil {
		return err
	}
	f, err := os.CreateTemp(runRoot, ".new-")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}

// unclaim gives the short name up.
func (s *Site) unclaim() error { return os.RemoveAll(s.claimFile()) }
