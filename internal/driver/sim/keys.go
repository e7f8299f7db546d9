package sim

import (
	"path"
	"strings"

	"ironbark/internal/driver/sim/guest"
)

// authorizedKeys has the keys that let people in, as sshd(8) reads them.
const authorizedKeys = "/home/" + guest.User + "/.ssh/authorized_keys"

// letIn puts the key that a machine was made with into it, once: from then on what is inside counts, and a
// key that somebody took out there stays out.
func (in *machineState) letIn() error {
	if in.power.Keyed || in.power.Key == "" {
		return nil
	}
	in.power.Keyed = true
	if err := in.guest.Mkdir(path.Dir(authorizedKeys)); err != nil {
		return err
	}
	return in.guest.Write(authorizedKeys, strings.TrimSpace(in.power.Key)+"\n")
}
