// Package sshkey makes key pairs for machines, keeps their private halves and
// prints them in the forms that SSH clients read. The private half is never sent
// to a site.
package sshkey

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/plainfile"
)

// Kind is a kind of key pair.
type Kind string

// The kinds that are made. Ed25519 is the one to take where nothing speaks against it.
const (
	Ed25519 Kind = "ed25519"
	RSA3072 Kind = "rsa-3072"
	RSA4096 Kind = "rsa-4096"
)

// Kinds lists the kinds.
var Kinds = []Kind{Ed25519, RSA3072, RSA4096}

// Pair is a key pair.
type Pair struct {
	Public  string // one line as OpenSSH writes it, without a line end
	comment string
	private crypto.PrivateKey // ed25519.PrivateKey or *rsa.PrivateKey
}

// New makes a pair (RFC 8709, RFC 8332). The comment goes into both halves.
func New(kind Kind, comment string) (Pair, error) {
	switch kind {
	case Ed25519:
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return Pair{}, err
		}
		return pairOf(private, comment)
	case RSA3072, RSA4096:
		bits := 3072
		if kind == RSA4096 {
			bits = 4096
		}
		private, err := rsa.GenerateKey(rand.Reader, bits)
		if err != nil {
			return Pair{}, err
		}
		return pairOf(private, comment)
	}
	return Pair{}, fmt.Errorf("there is no kind of key “%s”; they are %s, %s and %s", kind, Ed25519, RSA3072, RSA4096)
}

func pairOf(private crypto.PrivateKey, comment string) (Pair, error) {
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return Pair{}, err
	}
	line := strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(signer.PublicKey())), "\n")
	return Pair{Public: strings.TrimSpace(line + " " + comment), comment: comment, private: private}, nil
}

// ParsePublic reads a public key as OpenSSH writes it and returns it as one line.
func ParsePublic(data []byte) (string, error) {
	key, comment, _, rest, err := ssh.ParseAuthorizedKey(data)
	if err != nil {
		return "", fmt.Errorf("this is no public key; it is one line such as ssh-ed25519 AAAA… comment")
	}
	if strings.TrimSpace(string(rest)) != "" {
		return "", fmt.Errorf("the file holds more than one public key")
	}
	line := strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(key)), "\n")
	return strings.TrimSpace(line + " " + comment), nil
}

// Same reports whether two lines hold the same public key, whatever their comments.
func Same(a, b string) bool {
	x, _, _, _, err1 := ssh.ParseAuthorizedKey([]byte(a))
	y, _, _, _, err2 := ssh.ParseAuthorizedKey([]byte(b))
	return err1 == nil && err2 == nil && string(x.Marshal()) == string(y.Marshal())
}

// Lines lists the keys in a file of authorized keys (sshd(8)), a line each.
func Lines(text string) (list []string) {
	for line := range strings.Lines(text) {
		if _, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil {
			list = append(list, strings.TrimSpace(line))
		}
	}
	return list
}

// Among reports whether a public key is among those in a file of authorized keys.
func Among(text, public string) bool {
	return slices.ContainsFunc(Lines(text), func(line string) bool { return Same(line, public) })
}

// Fingerprint is the SHA-256 fingerprint of a public key's line, as OpenSSH
// prints it; "" where it is none.
func Fingerprint(line string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(key)
}

// LooseError says that others than its owner may read a private key.
type LooseError struct {
	Path string
	Mode fs.FileMode
}

// Error tells the file and its mode.
func (l *LooseError) Error() string {
	return fmt.Sprintf("%s can be read by others (mode %04o), and is not used like that", l.Path, l.Mode)
}

// LockedError says that a private key is locked with a passphrase.
type LockedError struct {
	Path   string
	Public string // its public half; "" where the file does not tell it
}

// Error tells the file.
func (l *LockedError) Error() string { return l.Path + " is locked with a passphrase" }

// ErrPassphrase says that a passphrase is not that of a key.
var ErrPassphrase = errors.New("that is not its passphrase")

// Load reads a private half that only its owner can read. The errors are
// fs.ErrNotExist, a *LooseError, a *LockedError, and others where the file is no private key of a
// kind that is made here.
func Load(path string) (Pair, error) { return LoadLocked(path, "") }

// LoadLocked is Load for one that may be locked with a passphrase; ErrPassphrase where that is
// another.
func LoadLocked(path, passphrase string) (Pair, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Pair{}, err
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return Pair{}, &LooseError{path, mode}
	}
	data, err := plainfile.Read(path, plainfile.Small)
	if err != nil {
		return Pair{}, err
	}
	raw, err := ssh.ParseRawPrivateKey(data)
	if missing, locked := errors.AsType[*ssh.PassphraseMissingError](err); locked && passphrase == "" {
		l := &LockedError{Path: path}
		if missing.PublicKey != nil {
			l.Public = strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(missing.PublicKey)), "\n")
		}
		return Pair{}, l
	} else if locked {
		raw, err = ssh.ParseRawPrivateKeyWithPassphrase(data, []byte(passphrase))
	}
	if errors.Is(err, x509.IncorrectPasswordError) {
		return Pair{}, ErrPassphrase
	}
	if err != nil {
		return Pair{}, fmt.Errorf("%s holds no private key", path)
	}
	comment := filepath.Base(path)
	switch key := raw.(type) {
	case *ed25519.PrivateKey:
		return pairOf(*key, comment)
	case ed25519.PrivateKey:
		return pairOf(key, comment)
	case *rsa.PrivateKey:
		return pairOf(key, comment)
	}
	return Pair{}, fmt.Errorf("%s holds a private key of another kind than Ed25519 and RSA", path)
}

// Signer signs with the private half.
func (p Pair) Signer() (ssh.Signer, error) { return ssh.NewSignerFromKey(p.private) }

// Save writes the private half to a new file that only its owner can read, in
// the form of OpenSSH. A file that is there is never written over: the error is
// fs.ErrExist.
func (p Pair) Save(path string) error {
	data, err := p.Export(OpenSSH, "")
	if err != nil {
		return err
	}
	return WriteNew(path, data)
}

// WriteNew writes a file that only its owner can read. One that is there is never
// written over: the error is fs.ErrExist.
func WriteNew(path string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	beside := path + "." + rand.Text() // linked to its name when it is whole: nobody reads half of a key, and a kill leaves none
	if err := writeNew(beside, data); err != nil {
		return err
	}
	defer os.Remove(beside)
	err := os.Link(beside, path)
	if err == nil || errors.Is(err, fs.ErrExist) {
		return err
	}
	return writeNew(path, data) // a file system without links
}

func writeNew(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		_ = f.Close() // the write's error is the one to tell
		_ = os.Remove(path)
		return err
	}
	return f.Close()
}

func openssh(p Pair, passphrase string) (*pem.Block, error) {
	if passphrase == "" {
		return ssh.MarshalPrivateKey(p.private, p.comment)
	}
	return ssh.MarshalPrivateKeyWithPassphrase(p.private, p.comment, []byte(passphrase))
}
