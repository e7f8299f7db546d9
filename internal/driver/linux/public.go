package linux

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
)

// Several estates may have their uplinks on one interface of the host. Each answers there for its own public addresses, so no two may have
// the same one: what each has is written down on the host, and whoever comes second is refused.

// onInterface is what a site has on an interface of the host's.
type onInterface struct {
	Folder    string       `json:"folder"`
	Network   string       `json:"network"` // the namespace in which the interface is
	Interface string       `json:"interface"`
	Addresses []netip.Addr `json:"addresses"`
}

const publicEnd = ".public" // of the files' names, after a site's short name

// TakenError says that a public address on an interface belongs to another estate of this host.
type TakenError struct {
	Address           netip.Addr
	Interface, Folder string // whose it is
}

// Error names the address and whose it is.
func (t *TakenError) Error() string {
	return fmt.Sprintf("%s on %s belongs to the estate in %s", t.Address, t.Interface, filepath.Dir(t.Folder))
}

// Advice says what to do.
func (t *TakenError) Advice() fault.Advice {
	return fault.Say("give the two estates public addresses that do not overlap (uplink: public: in estate.yaml)")
}

// claimPublic writes down which addresses the resources have on the uplink's interface. The error is a *TakenError where another site on
// the host has one of them. A site without such an interface has none.
func (s *Site) claimPublic(list []change.Resource) error {
	up, ok := change.Find(list, change.Uplink, estate.UplinkName)
	if !ok || up.Spec.Link == "" {
		return s.unclaimPublic()
	}
	network, err := os.Readlink("/proc/self/ns/net") // the program's own is the host's
	if err != nil {
		return err
	}
	mine := onInterface{Folder: s.folder(), Network: network, Interface: up.Spec.Link}
	for _, p := range up.Spec.Own {
		mine.Addresses = append(mine.Addresses, p.Addr())
	}
	for _, t := range list {
		for _, a := range []netip.Addr{t.Given.Addr4, t.Given.Addr6} {
			if a.IsValid() && !slices.Contains(mine.Addresses, a) {
				mine.Addresses = append(mine.Addresses, a)
			}
		}
	}
	if err := os.MkdirAll(runRoot, 0o755); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(runRoot, "public.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	others, err := filepath.Glob(filepath.Join(runRoot, "*"+publicEnd))
	if err != nil {
		return err
	}
	for _, path := range others {
		prefix := strings.TrimSuffix(filepath.Base(path), publicEnd)
		if prefix == s.prefix || !exists(prefix) {
			continue
		}
		var other onInterface
		text, err := os.ReadFile(path)
		if err == nil {
			err = json.Unmarshal(text, &other)
		}
		if err != nil {
			return fmt.Errorf("the addresses of another estate cannot be read: %w", err)
		}
		for _, a := range other.Addresses {
			if other.Network == mine.Network && other.Interface == mine.Interface && slices.Contains(mine.Addresses, a) {
				return &TakenError{a, mine.Interface, other.Folder}
			}
		}
	}
	text, err := json.Marshal(mine)
	if err != nil {
		return err
	}
	return putFile(s.publicFile(), text)
}

func (s *Site) publicFile() string { return filepath.Join(runRoot, s.prefix+publicEnd) }

// unclaimPublic gives up what the site has on an interface.
func (s *Site) unclaimPublic() error { return os.RemoveAll(s.publicFile()) }
