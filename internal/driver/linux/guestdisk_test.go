package linux

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/driver/drivertest"
)

// TestAnUploadGoesOnWhereItBrokeOff breaks uploads off, and goes on with the same and with something else.
func TestAnUploadGoesOnWhereItBrokeOff(t *testing.T) {
	needRoot(t)
	s := New(t.TempDir(), drivertest.RealClock())
	t.Cleanup(func() { require.NoError(t, s.RemoveEverything()) })
	data := make([]byte, 3<<20+17)
	for i := range data {
		data[i] = byte(rand.IntN(256))
	}
	other := bytes.Clone(data)
	other[1<<20+3] ^= 1
	shorter := data[:1<<20]
	for _, next := range [][]byte{data, other, shorter} {
		_, err := s.receive("gauge-os", io.MultiReader(bytes.NewReader(data[:2<<20]), iotest.ErrReader(io.ErrUnexpectedEOF)))
		require.Error(t, err)
		assert.NoFileExists(t, s.imagePath("gauge-os"), "what broke off is no image")
		_, err = s.receive("gauge-os", bytes.NewReader(next))
		require.NoError(t, err)
		has, err := os.ReadFile(s.imagePath("gauge-os"))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(next, has), "never from a part of something else")
		require.NoError(t, os.Remove(s.imagePath("gauge-os")))
	}
}

func TestADevicesNameIsAPlace(t *testing.T) {
	for device, slot := range map[string]int{"vdb": 0, "vdc": 1, "vdp": 14} {
		got, ok := slotOf(device)
		assert.True(t, ok)
		assert.Equal(t, slot, got)
	}
	for _, device := range []string{"", "vda", "vdq", "sdb", "vdbb", "vd"} {
		_, ok := slotOf(device)
		assert.False(t, ok, device)
	}
}
