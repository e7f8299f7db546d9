package imagefile

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// qcow makes a file of clusters of 64 KiB with a header, altered by edit.
func qcow(edit func(h *header)) []byte {
	h := header{Magic: magic, Version: 3, ClusterBits: 16, Size: 10e9 / 512 * 512, L1Size: 19, L1Offset: 3 << 16, RefOffset: 1 << 16, RefClusters: 1, RefOrder: 4, HeaderLength: 104}
	edit(&h)
	b := &bytes.Buffer{}
	_ = binary.Write(b, binary.BigEndian, h)
	b.Write(make([]byte, 4<<16-b.Len()))
	return b.Bytes()
}

func TestHeadersAreReadAndChecked(t *testing.T) {
	read := func(data []byte) (Image, error) { return Read(bytes.NewReader(data), int64(len(data))) }
	i, err := read(qcow(func(*header) {}))
	require.NoError(t, err)
	assert.Equal(t, "qcow2", i.Format)
	assert.Equal(t, 10, i.GB())
	i, err = read(make([]byte, 2048))
	require.NoError(t, err)
	assert.Equal(t, Image{"raw", 2048, 2048}, i)
	for want, data := range map[string][]byte{
		"the file is empty":                   {},
		"no whole sectors":                    make([]byte, 1000),
		"ends in the middle":                  qcow(func(*header) {})[:80],
		"version 4":                           qcow(func(h *header) { h.Version = 4 }),
		"clusters of 2^30":                    qcow(func(h *header) { h.ClusterBits = 30 }),
		"a disk of 0 bytes":                   qcow(func(h *header) { h.Size = 0 }),
		"rests on another file":               qcow(func(h *header) { h.BackingOffset = 200 }),
		"encrypted":                           qcow(func(h *header) { h.Crypt = 2 }),
		"corrupt":                             qcow(func(h *header) { h.Incompatible = 2 }),
		"not closed properly":                 qcow(func(h *header) { h.Incompatible = 1 }),
		"features that are not known (0x10)":  qcow(func(h *header) { h.Incompatible = 16 }),
		"its first table has 3 entries":       qcow(func(h *header) { h.L1Size = 3 }),
		"its first table lies beyond the end": qcow(func(h *header) { h.L1Offset = 9 << 16 }),
	} {
		_, err := read(data)
		require.ErrorContains(t, err, want)
	}
}

// FuzzRead looks for panics, and for disks that nothing could hold.
func FuzzRead(f *testing.F) {
	f.Add(qcow(func(*header) {}))
	f.Add(qcow(func(h *header) { h.Version = 2 })[:100])
	f.Fuzz(func(t *testing.T, data []byte) {
		if i, err := Read(bytes.NewReader(data), int64(len(data))); err == nil {
			require.Positive(t, i.Disk)
			require.Positive(t, i.GB())
			if size, err := DiskOf(bytes.NewReader(data)); i.Format == "qcow2" {
				require.NoError(t, err)
				require.Equal(t, i.Disk, size)
			}
		}
	})
}
