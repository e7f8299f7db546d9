package work

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/change"
	"ironbark/internal/fault"
	"ironbark/internal/sshkey"
)

// Keyring is what of keys lies with the person and not in files that can be read.
type Keyring struct {
	// Agent returns the keys of the person's SSH agent, and what lets it go again. Without an
	// agent there are none.
	Agent func() ([]ssh.Signer, func(), error)
	// Passphrase asks for that of a file; the error is ErrNobodyToAsk where there is nobody.
	Passphrase func(path string) (string, error)
	// Files are where private halves of the person's own may be.
	Files []string
}

// ErrNobodyToAsk says that nobody sits at a terminal.
var ErrNobodyToAsk = errors.New("there is nobody to ask")

// key is the private half by which somebody logs in. The zero key is none.
type key struct {
	path   string // "" where the agent alone has it
	public string // "" where nobody can tell
	agent  bool   // the agent has it
	locked bool
	cert   *ssh.Certificate // with which it is shown; nil: by itself
}

// keyFor finds a private half for a machine: the file of one of its keys or another one that only its
// owner can read and that belongs to the machine, or where that is missing or locked what
// the person's SSH agent has. The error is a *BadKeyError.
func (w *Work) keyFor(st *State, t change.Resource, path string) (key, error) {
	names := t.Spec.Keys()
	if path != "" {
		return w.keyAt(st, t, "", path)
	}
	if len(names) == 0 {
		return key{}, nil
	}
	var first error
	for _, name := range names {
		if until, over := st.Estate.KeyEnded(name); over {
			first = cmp.Or(first, error(&BadKeyError{Why: fmt.Sprintf("the key %s is not to be used any more since %s", name, until.UTC().Format(time.RFC3339)), Try: fault.Say("give the machine another one: ").Run("change", "machine", t.Name, "--key", "NAME")}))
			continue
		}
		found, err := w.keyAt(st, t, name, filepath.Join(w.Folder.Dir, StateDir, "keys", name))
		if err == nil {
			return found, nil
		}
		if first == nil {
			first = err
		}
	}
	return key{}, first
}

// keyAt is keyFor for one file: of a key of the machine's, or with no name one that was given.
func (w *Work) keyAt(st *State, t change.Resource, name, path string) (key, error) {
	inside, given := st.Report.Keys[t.Name], name == ""
	found := key{path: path}
	pair, err := sshkey.Load(path)
	found.public = pair.Public
	if locked, is := errors.AsType[*sshkey.LockedError](err); is {
		found.locked, found.public, err = true, locked.Public, nil
		found.agent = w.agentHas(found.public)
		if held, ok := w.agentHasOne(inside); found.public == "" && ok {
			found.public, found.agent = held, true
		}
	}
	if held, ok := w.agentHasOne(inside); errors.Is(err, fs.ErrNotExist) && !given && ok {
		return key{public: held, agent: true}, nil
	}
	_, loose := errors.AsType[*sshkey.LooseError](err)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return key{}, &BadKeyError{Why: fmt.Sprintf("the private half of key %s is not here: there is no %s", cmp.Or(name, t.Spec.Key), path), Try: fault.Say("say where it is: --key FILE; or add it to your SSH agent. Where it is lost: the machine's serial line with a password (").Run("console").Say("), or a new machine with another key from a snapshot of this one"), Err: err}
	case loose:
		return key{}, &BadKeyError{Why: err.Error(), Try: fault.Say("close it: chmod 600 " + path), Err: err}
	case err != nil:
		return key{}, &BadKeyError{Why: err.Error(), Try: fault.Say("say which it is: --key FILE"), Err: err}
	case inside != "" && found.public != "" && !sshkey.Among(inside, found.public):
		return key{}, &BadKeyError{
			Why: fmt.Sprintf("%s does not belong to machine %s: it is %s, and inside the machine is %s", path, t.Name, sshkey.Fingerprint(found.public), fingerprints(inside)),
			Try: fault.Say("say which key it is: --key FILE"),
		}
	}
	return found, nil
}

func fingerprints(inside string) string {
	var list []string
	for _, line := range sshkey.Lines(inside) {
		list = append(list, sshkey.Fingerprint(line))
	}
	return strings.Join(list, " and ")
}

// agentHasOne finds one of some keys in the person's SSH agent.
func (w *Work) agentHasOne(inside string) (public string, ok bool) {
	for _, line := range sshkey.Lines(inside) {
		if w.agentHas(line) {
			return line, true
		}
	}
	return "", false
}

// agentHas reports whether the person's SSH agent has a key.
func (w *Work) agentHas(public string) bool {
	if public == "" || w.Keyring.Agent == nil {
		return false
	}
	_, done, err := w.agentSigner(public)
	if err == nil {
		done()
	}
	return err == nil
}

var errNotInAgent = errors.New("your SSH agent does not have that key any more")

func (w *Work) agentSigner(public string) (ssh.Signer, func(), error) {
	list, done, err := w.Keyring.Agent()
	if err != nil {
		return nil, nil, err
	}
	i := slices.IndexFunc(list, func(s ssh.Signer) bool { return sshkey.Same(string(ssh.MarshalAuthorizedKey(s.PublicKey())), public) })
	if i < 0 {
		done()
		return nil, nil, errNotInAgent
	}
	return list[i], done, nil
}

// mostPassphrases is how often somebody is asked for a passphrase.
const mostPassphrases = 3

// signer returns what signs with a key, and what lets it go again.
func (w *Work) signer(k key) (ssh.Signer, func(), error) {
	if k.agent {
		return w.agentSigner(k.public)
	}
	pair, err := sshkey.Load(k.path)
	for range mostPassphrases {
		if _, locked := errors.AsType[*sshkey.LockedError](err); !locked && !errors.Is(err, sshkey.ErrPassphrase) {
			break
		}
		passphrase, unasked := w.Keyring.Passphrase(k.path)
		if unasked != nil && !errors.Is(unasked, ErrNobodyToAsk) {
			return nil, nil, unasked
		}
		if unasked != nil {
			return nil, nil, &BadKeyError{Why: k.path + " is locked with a passphrase", Try: fault.Say("add it to your SSH agent: ssh-add " + k.path), Err: unasked}
		}
		pair, err = sshkey.LoadLocked(k.path, passphrase)
	}
	if errors.Is(err, sshkey.ErrPassphrase) {
		err = &BadKeyError{Why: fmt.Sprintf("that is not the passphrase of %s", k.path), Try: fault.Say("say which key it is: --key FILE"), Err: err}
	}
	if err != nil {
		return nil, nil, err
	}
	s, err := pair.Signer()
	if err == nil && k.cert != nil {
		s, err = ssh.NewCertSigner(k.cert, s)
	}
	return s, func() {}, err
}
