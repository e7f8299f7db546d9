package cli

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"ironbark/internal/work"
)

// hostsDir has a file for each machine, with its host key as sshd(8) has known hosts.
const hostsDir = "hosts"

// clientConfig writes a way in as ssh_config(5) has it, and the way to its bastion before. The hosts' keys
// are checked by their names, whatever addresses lead there.
func (a *app) clientConfig(ctx context.Context, w *work.Work, machine string, opt *connecting) error {
	way, err := a.way(ctx, w, machine, opt)
	if err != nil {
		return err
	}
	to, jump := way.To, ""
	if j := way.Jump; j != nil {
		jump = j.Bastion
		if err := a.hostBlock(w, jump, j.To, j.Person, j.KeyPath, j.HostKey, ""); err != nil {
			return err
		}
	}
	if err := a.hostBlock(w, machine, to, way.User, way.KeyPath, way.HostKey, jump); err != nil {
		return err
	}
	if a.sim != nil {
		a.print.NoteWrap("", "on the stand-in cloud a plain client gets there within: ironbark sim listen -- ssh -F FILE "+machine)
	}
	return nil
}

// hostBlock writes how a plain client gets to one host.
func (a *app) hostBlock(w *work.Work, name string, at netip.AddrPort, user, keyPath, hostKey, jump string) error {
	hosts, err := filepath.Abs(filepath.Join(w.Folder.Dir, work.StateDir, hostsDir, name))
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(hosts), 0o700); err != nil {
		return err
	}
	if err := work.WriteFile(hosts, []byte(name+" "+strings.TrimSpace(hostKey)+"\n"), 0o600); err != nil {
		return err
	}
	a.print.Line("Host %s\n  HostName %s\n  Port %d\n  User %s", name, at.Addr(), at.Port(), user)
	if keyPath != "" {
		path, err := filepath.Abs(keyPath)
		if err != nil {
			return err
		}
		a.print.Line("  IdentityFile %s\n  IdentitiesOnly yes", quotedPath(path))
	}
	if jump != "" {
		a.print.Line("  ProxyJump %s", jump)
	}
	a.print.Line("  HostKeyAlias %s\n  UserKnownHostsFile %s\n  StrictHostKeyChecking yes", name, quotedPath(hosts))
	return nil
}

// quotedPath is a path as ssh_config(5) has it: in quotes where it has spaces, and with its
// percent signs doubled.
func quotedPath(path string) string {
	path = strings.ReplaceAll(path, "%", "%%")
	if strings.ContainsAny(path, " \t#") {
		return strconv.Quote(path)
	}
	return path
}
