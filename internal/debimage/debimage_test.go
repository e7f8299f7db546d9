package debimage

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestADiskHasOnePartitionFromWhichItBoots(t *testing.T) {
	boot := make([]byte, sector)
	for i := range boot {
		boot[i] = 0xcc
	}
	b := withTable(boot, 4096)
	assert.Equal(t, boot[:446], b[:446], "the loader's code stays")
	assert.Equal(t, []byte{0x55, 0xaa}, b[510:])
	assert.Equal(t, byte(0x80), b[446])
	assert.Equal(t, uint32(first/sector), binary.LittleEndian.Uint32(b[454:]))
	assert.Equal(t, uint32(4096), binary.LittleEndian.Uint32(b[458:]))
	assert.Equal(t, make([]byte, 48), b[462:510])
}

func TestWhatNoTwoMachinesMayShareIsDropped(t *testing.T) {
	root := t.TempDir()
	for _, name := range []string{"etc/ssh/ssh_host_ed25519_key", "etc/resolv.conf", "var/lib/systemd/random-seed"} {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("x"), 0o600))
	}
	require.NoError(t, settle(root))
	assert.NoFileExists(t, filepath.Join(root, "etc/ssh/ssh_host_ed25519_key"))
	assert.NoFileExists(t, filepath.Join(root, "var/lib/systemd/random-seed"))
	text, err := os.ReadFile(filepath.Join(root, "etc/machine-id"))
	require.NoError(t, err)
	assert.Empty(t, text)
	to, err := os.Readlink(filepath.Join(root, "etc/systemd/system/getty.target.wants/serial-getty@ttyS0.service"))
	require.NoError(t, err)
	assert.Equal(t, "/lib/systemd/system/serial-getty@.service", to)
}

func TestEmptyBlocksTakeNoRoom(t *testing.T) {
	dir := t.TempDir()
	from, to := filepath.Join(dir, "fs"), filepath.Join(dir, "disk")
	data := make([]byte, 3<<20+5)
	copy(data[2<<20:], "tide")
	data[len(data)-1] = 1
	require.NoError(t, os.WriteFile(from, data, 0o600))
	f, err := os.Create(to)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, copySparse(f, from, first))
	back, err := os.ReadFile(to)
	require.NoError(t, err)
	assert.Equal(t, data, back[first:])
}
