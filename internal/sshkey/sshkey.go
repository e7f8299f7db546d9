// Package sshkey makes key pairs for machines and prints them in the forms that
// SSH clients read. The private half is never sent to a site.
package sshkey

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Pair is a fresh key pair.
type Pair struct {
	Public  string // one line as OpenSSH writes it, without a line end
	private []byte
}

// New makes an Ed25519 pair (RFC 8709). The comment goes into both halves.
func New(comment string) (Pair, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return Pair{}, err
	}
	half, err := ssh.NewPublicKey(public)
	if err != nil {
		return Pair{}, err
	}
	block, err := ssh.MarshalPrivateKey(private, comment)
	if err != nil {
		return Pair{}, err
	}
	line := strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(half)), "\n")
	return Pair{Public: line + " " + comment, private: pem.EncodeToMemory(block)}, nil
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

// Save writes the private half to a new file that only its owner can read. A
// file that is there is never written over: the error is fs.ErrExist.
func (p Pair) Save(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err := f.Write(p.private); err != nil {
		_ = f.Close() // the write's error is the one to tell
		_ = os.Remove(path)
		return err
	}
	return f.Close()
}
