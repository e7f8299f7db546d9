package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/sshkey"
)

// Rotation puts a new key into a machine that runs, and takes the old one out once the new one has
// let somebody in.
//
//	log in with the old key ─▶ put the new one beside it ─▶ log in with the new one ─▶ take the old one out
//
// Broken off at any step, at least one of both lets people in, and the same again goes on from there.
type Rotation struct {
	w            *Work
	Machine      string
	Old, New     string // public keys
	before, then Keys
}

// NewRotation returns the rotation of a machine's key to another one of the estate.
func (w *Work) NewRotation(machine, old, now string, keys Keys, path string) *Rotation {
	then := keys
	then.Machine = path
	return &Rotation{w: w, Machine: machine, Old: old, New: now, before: keys, then: then}
}

// authorizedKeys is where sshd(8) reads them, from the home of whoever logs in.
const authorizedKeys = ".ssh/authorized_keys"

// In puts the new key in and tries it. The old one stays.
func (r *Rotation) In(ctx context.Context) error {
	if r.tried(ctx) == nil { // it is inside already
		return nil
	}
	err := r.edit(ctx, r.before, func(text string) string {
		if sshkey.Among(text, r.New) {
			return text
		}
		return strings.TrimRight(text, "\n") + "\n" + strings.TrimSpace(r.New) + "\n"
	})
	if err != nil {
		return fmt.Errorf("the new key cannot be put into %s: %w", r.Machine, err)
	}
	if err := r.tried(ctx); err != nil {
		return fmt.Errorf("the new key does not let anybody into %s, and the old one stays: %w", r.Machine, err)
	}
	return nil
}

// Out takes the old key out, by the new one.
func (r *Rotation) Out(ctx context.Context) error {
	err := r.edit(ctx, r.then, func(text string) string {
		var left strings.Builder
		for line := range strings.Lines(text) {
			if !sshkey.Same(line, r.Old) {
				left.WriteString(line)
			}
		}
		return left.String()
	})
	if err != nil {
		return fmt.Errorf("the old key still lets people into %s: %w", r.Machine, err)
	}
	return nil
}

// tried logs in with the new key.
func (r *Rotation) tried(ctx context.Context) error {
	client, err := r.login(ctx, r.then)
	if err != nil {
		return err
	}
	return client.Close()
}

func (r *Rotation) login(ctx context.Context, keys Keys) (*ssh.Client, error) {
	way, err := r.w.AccessPath(ctx, r.Machine, keys)
	if err != nil {
		return nil, err
	}
	return r.w.Connect(ctx, way, func() (string, error) { return "", ErrNobodyToAsk })
}

// edit rewrites the machine's file of keys, whole or not at all.
func (r *Rotation) edit(ctx context.Context, keys Keys, do func(string) string) (err error) {
	client, err := r.login(ctx, keys)
	if err != nil {
		return err
	}
	defer client.Close()
	there, err := sftp.NewClient(client)
	if err != nil {
		return err
	}
	defer there.Close()
	home, err := there.Getwd()
	if err != nil {
		return err
	}
	if !strings.HasPrefix(home, "/home/") && home != "/root" { // servers that begin elsewhere
		home = path.Join("/home", client.User())
	}
	name := path.Join(home, authorizedKeys)
	f, err := there.Open(name)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	text, err := io.ReadAll(f)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	now := do(string(text))
	if now == string(text) {
		return nil
	}
	part := name + ".ironbark"
	w, err := there.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, now)
	if err = errors.Join(err, w.Close()); err != nil {
		return errors.Join(err, there.Remove(part))
	}
	if err := there.Chmod(part, 0o600); err != nil {
		return err
	}
	return there.PosixRename(part, name)
}
