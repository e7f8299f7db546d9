package work

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/plainfile"
	"ironbark/internal/sshkey"
)

// ownKey finds a private half by which bastions know the person: of one of their keys, or of one for
// which an authority of the estate made out a certificate. The error is a *BadKeyError.
func (w *Work) ownKey(st *State, path string) (key, error) {
	i := slices.IndexFunc(st.Estate.People, func(p estate.Person) bool { return p.Name == w.Person })
	if i < 0 {
		return key{}, &BadKeyError{Why: "the estate knows no " + w.Person, Try: fault.Say("say who you are: --person NAME")}
	}
	me := st.Estate.People[i]
	if path != "" {
		return w.ownFile(st, me, path, true)
	}
	for _, public := range st.Estate.KeysOf(me) {
		if w.agentHas(public) {
			return key{public: public, agent: true}, nil
		}
	}
	if k, ok := w.agentCertificate(st); ok {
		return k, nil
	}
	var bad error
	for _, path := range w.ownFiles() {
		k, err := w.ownFile(st, me, path, false)
		if err == nil {
			return k, nil
		}
		if _, loose := errors.AsType[*sshkey.LooseError](err); loose {
			bad = err
		}
	}
	switch {
	case bad != nil:
		return key{}, bad
	case len(me.Keys) == 0 && len(st.Estate.Authorities) == 0:
		return key{}, &BadKeyError{
			Why: fmt.Sprintf("bastions know people by their keys, and the estate has none of %s", w.Person), Try: fault.Say("put yours in: ").Run("change", "person", w.Person, "--public-key").Say(" \"$(cat ~/.ssh/id_ed25519.pub)\""),
		}
	}
	return key{}, &BadKeyError{
		Why: fmt.Sprintf("the private half of none of the keys of %s is here", w.Person),
		Try: fault.Say("say where it is: --own-key FILE; or add it to your SSH agent"),
	}
}

// ownFiles lists where private halves of people are kept: with the estate, and where OpenSSH keeps them.
func (w *Work) ownFiles() (list []string) {
	dir := filepath.Join(w.Folder.Dir, StateDir, "keys")
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".pub") {
			list = append(list, filepath.Join(dir, e.Name()))
		}
	}
	return append(list, w.Keyring.Files...)
}

// ownFile looks whether a file holds a private half of the person's. One that is named is told to be
// wrong where it is.
func (w *Work) ownFile(st *State, me estate.Person, path string, named bool) (key, error) {
	k := key{path: path}
	pair, err := sshkey.Load(path)
	k.public = pair.Public
	if locked, is := errors.AsType[*sshkey.LockedError](err); is {
		k.locked, k.public, err = true, locked.Public, nil
	}
	if loose, is := errors.AsType[*sshkey.LooseError](err); is {
		return key{}, &BadKeyError{Why: loose.Error(), Try: fault.Say("close it: chmod 600 " + path), Err: err}
	}
	if err != nil {
		return key{}, &BadKeyError{Why: err.Error(), Try: fault.Say("say which it is: --own-key FILE"), Err: err}
	}
	mine := func(public string) bool { return sshkey.Same(public, k.public) }
	if slices.ContainsFunc(st.Estate.KeysOf(me), mine) || named && k.public == "" {
		return k, nil
	}
	if k.cert = w.certificate(st, path, k.public); k.cert != nil {
		return k, nil
	}
	return key{}, &BadKeyError{
		Why: fmt.Sprintf("%s is none of the keys of %s: it is %s", path, w.Person, sshkey.Fingerprint(k.public)),
		Try: fault.Say("say which it is: --own-key FILE"),
	}
}

// certificate returns the certificate beside a private half (FILE-cert.pub, ssh-keygen(1)), if an authority
// of the estate made it out for the person and it is good now; nil otherwise.
func (w *Work) certificate(st *State, path, public string) *ssh.Certificate {
	data, err := plainfile.Read(path+"-cert.pub", plainfile.Small)
	if err != nil {
		return nil
	}
	parsed, _, _, _, err := ssh.ParseAuthorizedKey(data)
	cert, ok := parsed.(*ssh.Certificate)
	if err != nil || !ok || !sshkey.Same(public, string(ssh.MarshalAuthorizedKey(cert.Key))) || !w.good(st, cert) {
		return nil
	}
	return cert
}

// agentCertificate finds a certificate for the person in their SSH agent.
func (w *Work) agentCertificate(st *State) (key, bool) {
	if w.Keyring.Agent == nil || len(st.Estate.Authorities) == 0 {
		return key{}, false
	}
	list, done, err := w.Keyring.Agent()
	if err != nil {
		return key{}, false
	}
	defer done()
	for _, s := range list {
		if cert, ok := s.PublicKey().(*ssh.Certificate); ok && w.good(st, cert) {
			return key{public: string(ssh.MarshalAuthorizedKey(cert)), agent: true}, true
		}
	}
	return key{}, false
}

// good reports whether an authority of the estate made a certificate out for the person, and it
// is good now.
func (w *Work) good(st *State, cert *ssh.Certificate) bool {
	if !slices.Contains(cert.ValidPrincipals, w.Person) {
		return false
	}
	by := string(ssh.MarshalAuthorizedKey(cert.SignatureKey))
	if !slices.ContainsFunc(st.Estate.Authorities, func(a estate.Authority) bool { return sshkey.Same(a.Public, by) }) {
		return false
	}
	now := w.Clock.Now()
	return !now.Before(time.Unix(int64(min(cert.ValidAfter, 1<<62)), 0)) && (cert.ValidBefore >= 1<<62 || now.Before(time.Unix(int64(cert.ValidBefore), 0)))
}
