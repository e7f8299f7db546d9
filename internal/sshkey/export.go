package sshkey

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/ssh"
)

// Form is a file format of private keys.
type Form string

// The forms that are written.
const (
	OpenSSH Form = "openssh" // openssh-key-v1, OpenSSH's PROTOCOL.key
	PKCS8   Form = "pkcs8"   // RFC 5958 in PEM (RFC 7468)
	PPK     Form = "ppk"     // version 3, as the appendix on PPK files of the PuTTY manual tells it
)

// Forms lists the forms.
var Forms = []Form{OpenSSH, PKCS8, PPK}

// Export writes the private half in a form, locked with a passphrase where one
// is given; PKCS#8 is written without one only.
func (p Pair) Export(form Form, passphrase string) ([]byte, error) {
	switch form {
	case OpenSSH:
		block, err := openssh(p, passphrase)
		if err != nil {
			return nil, err
		}
		return pem.EncodeToMemory(block), nil
	case PKCS8:
		if passphrase != "" {
			return nil, errors.New("pkcs8 is written without a passphrase; openssh and ppk take one")
		}
		der, err := x509.MarshalPKCS8PrivateKey(p.private)
		if err != nil {
			return nil, err
		}
		return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
	case PPK:
		return p.ppk(passphrase)
	}
	return nil, fmt.Errorf("there is no form “%s”; the forms are %v", form, Forms)
}

// The Argon2 settings of a locked PPK file: memory in KiB, passes, lanes.
const (
	argonMemory = 8192
	argonPasses = 21
	argonLanes  = 1
)

// ppk writes a PPK file of version 3. The code for authentication covers the
// names of the algorithms, the comment and both halves; its key is empty where
// there is no passphrase.
func (p Pair) ppk(passphrase string) ([]byte, error) {
	signer, err := p.Signer()
	if err != nil {
		return nil, err
	}
	public, private := signer.PublicKey().Marshal(), p.ppkPrivate()
	algorithm, encryption := signer.PublicKey().Type(), "none"
	b := &bytes.Buffer{}
	var macKey []byte
	stored := private
	derivation := ""
	if passphrase != "" {
		encryption = "aes256-cbc"
		salt := make([]byte, 16)
		pad := make([]byte, (aes.BlockSize-len(private)%aes.BlockSize)%aes.BlockSize)
		if _, err := rand.Read(salt); err != nil {
			return nil, err
		}
		if _, err := rand.Read(pad); err != nil {
			return nil, err
		}
		private = append(private, pad...)
		keys := argon2.IDKey([]byte(passphrase), salt, argonPasses, argonMemory, argonLanes, 32+16+32)
		block, err := aes.NewCipher(keys[:32])
		if err != nil {
			return nil, err
		}
		stored = make([]byte, len(private))
		cipher.NewCBCEncrypter(block, keys[32:48]).CryptBlocks(stored, private)
		macKey = keys[48:]
		derivation = fmt.Sprintf("Key-Derivation: Argon2id\r\nArgon2-Memory: %d\r\nArgon2-Passes: %d\r\nArgon2-Parallelism: %d\r\nArgon2-Salt: %x\r\n", argonMemory, argonPasses, argonLanes, salt)
	}
	fmt.Fprintf(b, "PuTTY-User-Key-File-3: %s\r\nEncryption: %s\r\nComment: %s\r\n", algorithm, encryption, p.comment)
	lines(b, "Public-Lines", public)
	b.WriteString(derivation)
	lines(b, "Private-Lines", stored)
	mac := hmac.New(sha256.New, macKey)
	mac.Write(ssh.Marshal(struct {
		Algorithm, Encryption, Comment string
		Public, Private                []byte
	}{algorithm, encryption, p.comment, public, private}))
	fmt.Fprintf(b, "Private-MAC: %x\r\n", mac.Sum(nil))
	return b.Bytes(), nil
}

// ppkPrivate is the private half as PPK files hold it.
func (p Pair) ppkPrivate() []byte {
	switch key := p.private.(type) {
	case ed25519.PrivateKey:
		return ssh.Marshal(struct{ Seed []byte }{key.Seed()})
	case *rsa.PrivateKey:
		key.Precompute()
		return ssh.Marshal(struct{ D, P, Q, Inverse *big.Int }{key.D, key.Primes[0], key.Primes[1], key.Precomputed.Qinv})
	}
	panic(fmt.Sprintf("sshkey: a pair of %T", p.private))
}

// lines writes bytes in base64, 64 characters a line, after their number of lines.
func lines(b *bytes.Buffer, name string, data []byte) {
	text := base64.StdEncoding.EncodeToString(data)
	fmt.Fprintf(b, "%s: %d\r\n", name, (len(text)+63)/64)
	for len(text) > 0 {
		n := min(64, len(text))
		b.WriteString(text[:n] + "\r\n")
		text = text[n:]
	}
}
