package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/fault"
	"ironbark/internal/sshkey"
)

// Rotation gives a machine that runs other keys, and takes old ones out once what stays or is new has let
// somebody in.
//
//	log in with an old key ─▶ put a new one beside it ─▶ log in with the new one ─▶ take an old one out
//
// Broken off at any step, one of them lets people in, and the same again goes on from there.
type Rotation struct {
	w       *Work
	Machine string
	Old     []Half // that are inside
	New     []Half // that come
	Stay    []Half // of the old ones
	Go      []Half
	Own     string // the person's own key, for bastions; "" for one that is found
}

// Half is a key of the estate, with the private half that somebody has of it.
type Half struct {
	Name   string
	Public string
	Path   string // where the private half is, unless an SSH agent has it
}

// NewRotation returns the rotation of a machine's keys, of which none comes or goes yet.
func (w *Work) NewRotation(machine string) *Rotation { return &Rotation{w: w, Machine: machine} }

// authorizedKeys is where sshd(8) reads them, from the home of whoever logs in.
const authorizedKeys = ".ssh/authorized_keys"

// In puts a new key in and tries it. What is inside stays.
func (r *Rotation) In(ctx context.Context, new Half) error {
	if r.tried(ctx, new) == nil { // it is inside already
		return nil
	}
	err := r.edit(ctx, r.Old, func(text string) string {
		if sshkey.Among(text, new.Public) {
			return text
		}
		return strings.TrimRight(text, "\n") + "\n" + strings.TrimSpace(new.Public) + "\n"
	})
	if err != nil {
		return fmt.Errorf("key %s cannot be put into %s: %w", new.Name, r.Machine, err)
	}
	if err := r.tried(ctx, new); err != nil {
		return fmt.Errorf("key %s does not let anybody into %s, and what was inside stays: %w", new.Name, r.Machine, err)
	}
	return nil
}

// Out takes an old key out, by one that stays or is new.
func (r *Rotation) Out(ctx context.Context, old Half) error {
	err := r.edit(ctx, slices.Concat(r.New, r.Stay), func(text string) string {
		var left strings.Builder
		for line := range strings.Lines(text) {
			if !sshkey.Same(line, old.Public) {
				left.WriteString(line)
			}
		}
		return left.String()
	})
	if err != nil {
		return fmt.Errorf("key %s still lets people into %s: %w", old.Name, r.Machine, err)
	}
	return nil
}

// tried logs in with a key.
func (r *Rotation) tried(ctx context.Context, by Half) error {
	client, err := r.login(ctx, by)
	if err != nil {
		return err
	}
	return client.Close()
}

// loginBy logs in with the first of some keys that lets anybody in.
func (r *Rotation) loginBy(ctx context.Context, by []Half) (client *ssh.Client, err error) {
	for _, half := range by {
		one, failed := r.login(ctx, half)
		if failed == nil {
			return one, nil
		}
		err = errors.Join(err, failed)
	}
	return nil, err
}

// login logs in with one key and no other.
func (r *Rotation) login(ctx context.Context, by Half) (*ssh.Client, error) {
	k, err := r.w.privateHalf(by)
	if err != nil {
		return nil, err
	}
	st, t, err := r.w.machine(ctx, r.Machine)
	if err != nil {
		return nil, err
	}
	way, err := r.w.access(ctx, st, t, r.Own)
	if err != nil {
		return nil, err
	}
	way.key = k
	return r.w.Connect(ctx, way, func() (string, error) { return "", ErrNobodyToAsk })
}

// privateHalf finds the private half of a key. The error is a *BadKeyError.
func (w *Work) privateHalf(h Half) (key, error) {
	pair, err := sshkey.Load(h.Path)
	locked, is := errors.AsType[*sshkey.LockedError](err)
	switch {
	case err == nil && sshkey.Same(pair.Public, h.Public):
		return key{path: h.Path, public: h.Public}, nil
	case w.agentHas(h.Public):
		return key{public: h.Public, agent: true}, nil
	case is && (locked.Public == "" || sshkey.Same(locked.Public, h.Public)):
		return key{path: h.Path, public: h.Public, locked: true}, nil
	case err == nil:
		err = fmt.Errorf("%s holds another key", h.Path)
	}
	return key{}, &BadKeyError{Why: fmt.Sprintf("the private half of key %s is not to be had: %v", h.Name, err), Try: fault.Say("put it there, or add it to your SSH agent"), Err: err}
}

// edit rewrites the machine's file of keys, whole or not at all.
func (r *Rotation) edit(ctx context.Context, by []Half, do func(string) string) (err error) {
	client, err := r.loginBy(ctx, by)
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
