package sshkey

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOtherProgramsTakeTheKeys has each form read by a program that others use,
// and compares the public half that it finds.
func TestOtherProgramsTakeTheKeys(t *testing.T) {
	run := func(name string, args ...string) string {
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
		return string(out)
	}
	for _, kind := range Kinds {
		t.Run(string(kind), func(t *testing.T) {
			p, err := New(kind, "ops")
			require.NoError(t, err)
			dir := t.TempDir()
			file := func(form Form, passphrase string) string {
				data, err := p.Export(form, passphrase)
				require.NoError(t, err)
				path := filepath.Join(dir, string(form)+passphrase)
				require.NoError(t, WriteNew(path, data))
				return path
			}
			assert.True(t, Same(p.Public, run("ssh-keygen", "-y", "-f", file(OpenSSH, ""))))
			assert.True(t, Same(p.Public, run("ssh-keygen", "-y", "-P", "tide", "-f", file(OpenSSH, "tide"))))
			assert.True(t, Same(p.Public, run("puttygen", "-O", "public-openssh", file(PPK, ""))))
			secret := filepath.Join(dir, "secret")
			require.NoError(t, os.WriteFile(secret, []byte("tide\n"), 0o600))
			back := filepath.Join(dir, "back")
			run("puttygen", file(PPK, "tide"), "--old-passphrase", secret, "--new-passphrase", os.DevNull, "-O", "private-openssh-new", "-o", back)
			again, err := Load(back)
			require.NoError(t, err)
			assert.True(t, Same(p.Public, again.Public))
			pkcs8 := file(PKCS8, "")
			run("openssl", "pkey", "-in", pkcs8, "-check", "-noout")
			again, err = Load(pkcs8)
			require.NoError(t, err)
			assert.True(t, Same(p.Public, again.Public))
		})
	}
}

func TestPrivateHalvesAreKeptClosed(t *testing.T) {
	p, err := New(Ed25519, "ops")
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "keys", "ops")
	require.NoError(t, p.Save(path))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.ErrorIs(t, p.Save(path), os.ErrExist, "never written over")
	again, err := Load(path)
	require.NoError(t, err)
	assert.Equal(t, p.Public, again.Public)
	require.NoError(t, os.Chmod(path, 0o640))
	_, err = Load(path)
	loose := &LooseError{}
	require.ErrorAs(t, err, &loose)
	assert.Contains(t, err.Error(), "mode 0640")
	require.NoError(t, os.WriteFile(path, []byte("no key"), 0o600))
	require.NoError(t, os.Chmod(path, 0o600))
	_, err = Load(path)
	require.ErrorContains(t, err, "holds no private key")
	_, err = ParsePublic([]byte(p.Public + "\n" + p.Public))
	require.ErrorContains(t, err, "more than one")
	_, err = p.Export(PKCS8, "tide")
	require.ErrorContains(t, err, "without a passphrase")
	assert.True(t, strings.HasPrefix(Fingerprint(p.Public), "SHA256:"))
}
