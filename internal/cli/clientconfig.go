package cli

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"ironbark/internal/work"
)

// hostsDir has a file for each machine, with its host key as sshd(8) has known hosts.
const hostsDir = "hosts"

// clientConfig writes a way in as ssh_config(5) has it. The machine's host key is checked by its
// name, whatever address leads there.
func (a *app) clientConfig(ctx context.Context, w *work.Work, machine string, opt *connecting) error {
	way, err := a.way(ctx, w, machine, opt)
	if err != nil {
		return err
	}
	hosts, err := filepath.Abs(filepath.Join(w.Folder.Dir, work.StateDir, hostsDir, machine))
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(hosts), 0o700); err != nil {
		return err
	}
	if err := work.WriteFile(hosts, []byte(machine+" "+strings.TrimSpace(way.HostKey)+"\n"), 0o600); err != nil {
		return err
	}
	a.print.Line("Host %s\n  HostName %s\n  Port %d\n  User %s", machine, way.To.Addr(), way.To.Port(), way.User)
	if way.KeyPath != "" {
		path, err := filepath.Abs(way.KeyPath)
		if err != nil {
			return err
		}
		a.print.Line("  IdentityFile %s\n  IdentitiesOnly yes", quotedPath(path))
	}
	a.print.Line("  HostKeyAlias %s\n  UserKnownHostsFile %s\n  StrictHostKeyChecking yes", machine, quotedPath(hosts))
	if a.sim != nil {
		a.print.Note("on the stand-in cloud no other program gets to this address: ironbark connect does")
	}
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
