package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	validator "github.com/wagslane/go-password-validator"
	"golang.org/x/crypto/bcrypt"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
)

// StateDir is the folder beside estate.yaml for what no file of the estate holds.
const StateDir = ".ironbark"

// leastEntropy is how many bits a password must hold by its characters.
const leastEntropy = 60

// longest is how many bytes of a password bcrypt looks at.
const longest = 72

// Weak refuses a password that could be guessed, and says why; nil for a good one.
// It must not hold one of the words: the machine's name, the person's …
func Weak(password string, words ...string) error {
	lower := strings.ToLower(password)
	for _, w := range append(words, "password", "passwort", "secret", "ironbark", "welcome", "letmein", "qwerty") {
		if len(w) > 2 && strings.Contains(lower, strings.ToLower(w)) {
			return fmt.Errorf("it holds the word “%s”", w)
		}
	}
	switch {
	case len(password) < 12:
		return errors.New("it has fewer than 12 characters")
	case len(password) > longest:
		return fmt.Errorf("it is longer than %d bytes", longest)
	case validator.GetEntropy(password) < leastEntropy:
		return errors.New("it is too easy to guess: make it longer, or of more kinds of characters")
	}
	return nil
}

// passwordLetters has no letters that look alike.
const passwordLetters = "abcdefghjkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"

// NewPassword makes a password of 20 letters and digits: 115 bits.
func NewPassword() (string, error) {
	out := make([]byte, 0, 20)
	for len(out) < 20 {
		var b [1]byte
		if _, err := rand.Read(b[:]); err != nil {
			return "", err
		}
		if limit := 256 / len(passwordLetters) * len(passwordLetters); int(b[0]) < limit { // no letter is likelier than another
			out = append(out, passwordLetters[int(b[0])%len(passwordLetters)])
		}
	}
	return string(out), nil
}

func (w *Work) passwordPath(machine string) string {
	return filepath.Join(w.Folder.Dir, StateDir, "passwords", machine)
}

// KeepPassword keeps the salted hash (bcrypt) of a machine's password until the
// next enactment hands it to the machine. The password itself is kept nowhere.
func (w *Work) KeepPassword(machine, password string) error {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), 12)
	if err != nil {
		return err
	}
	path := w.passwordPath(machine)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return WriteFile(path, hash, 0o600)
}

// DropPasswords forgets the hashes that wait for machines.
func (w *Work) DropPasswords(machines []string) error {
	var errs []error
	for _, m := range machines {
		if err := os.Remove(w.passwordPath(m)); !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// waiting lists the machines whose passwords wait to be handed over.
func (w *Work) waiting() ([]string, error) {
	entries, err := os.ReadDir(filepath.Dir(w.passwordPath("x")))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, e := range entries {
		if sentence.ValidName(e.Name()) == nil {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// handPasswords hands the hashes that wait to their machines, and returns what failed.
func (w *Work) handPasswords(ctx context.Context, e *estate.Estate) (failed []error) {
	names, err := w.waiting()
	if err != nil {
		return []error{err}
	}
	for _, name := range names {
		path := w.passwordPath(name)
		if m, ok := e.Machine(name); !ok || !m.Password { // nobody is to have it, not even a later machine of that name
			if err := os.Remove(path); err != nil {
				failed = append(failed, err)
			}
			continue
		}
		hash, err := plainfile.Read(path, plainfile.Small)
		if err == nil {
			err = w.Site.SetPasswordHash(ctx, w.Person, name, string(hash))
		}
		if err == nil {
			err = os.Remove(path)
		}
		if err != nil {
			failed = append(failed, fmt.Errorf("the password of machine %s: %w", name, err))
		}
	}
	return failed
}

// notes tells what a person should know of a review besides.
func (w *Work) notes(r *Review) (list []fault.Advice) {
	waiting, _ := w.waiting() // what cannot be read is told when it is handed over
	waiting = append(waiting, w.Chosen...)
	for _, m := range r.Estate.Machines {
		now, there := r.before.Report.Machines[m.Name]
		if m.Password && (!there || now.Locked) && !slices.Contains(waiting, m.Name) {
			list = append(list, fault.Say(m.Name+" takes a password and none is set, so nobody gets in with one: ").Run("change", "machine", m.Name, "--password", "ask"))
		}
	}
	return list
}
