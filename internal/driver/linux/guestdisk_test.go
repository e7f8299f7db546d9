package linux

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
	"ironbark/internal/estate"
	"ironbark/internal/imagefile"
	"ironbark/internal/qemu"
)

// TestAnUploadGoesOnWhereItBrokeOff breaks uploads off, and goes on with the same and with something else.
func TestAnUploadGoesOnWhereItBrokeOff(t *testing.T) {
	s := siteOf(t)
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

// TestAVolumeGrowsThoughOnlyItsRecordDid breaks an alteration off between its record and its disk, and does it again.
func TestAVolumeGrowsThoughOnlyItsRecordDid(t *testing.T) {
	s := siteOf(t)
	volume := change.Resource{Kind: change.Volume, Name: "charts", Spec: change.Spec{GB: 1}}
	_, err := s.Apply(t.Context(), change.Change{Verb: change.Make, Resource: volume}, nil)
	require.NoError(t, err)
	volume.Spec.GB = 2
	_, err = s.record(t.Context(), volume)
	require.NoError(t, err)
	for range 2 {
		_, err = s.Apply(t.Context(), change.Change{Verb: change.Alter, Resource: volume}, nil)
		require.NoError(t, err)
		f, err := os.Open(s.volumePath("charts"))
		require.NoError(t, err)
		size, err := imagefile.DiskOf(f)
		require.NoError(t, err)
		assert.Equal(t, int64(2*qemu.GB), size)
		require.NoError(t, f.Close())
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

// TestAFullDiskPausesAndLosesNothing fills the host's disk from inside a guest, makes room, and lets it go on.
func TestAFullDiskPausesAndLosesNothing(t *testing.T) {
	needRoot(t)
	require.NoError(t, PrepareTiny(t.Context(), ""))
	s := New(t.TempDir(), drivertest.RealClock())
	require.NoError(t, s.folders())
	require.NoError(t, unix.Mount("tmpfs", s.store(), "tmpfs", 0, "size=12m,mode=0711"))
	t.Cleanup(func() {
		require.NoError(t, s.removeProcesses())
		require.NoError(t, unix.Unmount(s.store(), unix.MNT_DETACH))
		require.NoError(t, s.RemoveEverything())
	})
	files := drivertest.FilesOf(tinyImage, "")
	files[0].Data = bytes.Replace(files[0].Data, []byte("at: landing, address: auto}"), []byte("at: landing, address: auto, setup: [fill.sh]}"), 1)
	script := estate.File{Name: estate.SetupDir + "/fill.sh", Data: []byte("cp /init /srv/a; cp /init /srv/b; sync; cp /init /srv/c; sync; echo filled\n")}
	e, err := estate.Read(files[0], files[1], script)
	require.NoError(t, err)
	wanted, err := change.Desired(e, nil, nil, nil)
	require.NoError(t, err)
	changes, err := change.Diff(nil, wanted, nil)
	require.NoError(t, err)
	for _, c := range changes {
		if c.Resource.Name != "gauge-2" {
			_, err := s.Apply(t.Context(), c, nil)
			require.NoError(t, err)
		}
	}
	becomes := func(state driver.State) {
		require.Eventually(t, func() bool {
			_, m, err := s.look(t.Context(), "gauge-1")
			return err == nil && m.State == state
		}, time.Minute, 50*time.Millisecond, state)
	}
	becomes(driver.Paused)
	require.NoError(t, unix.Mount("tmpfs", s.store(), "tmpfs", unix.MS_REMOUNT, "size=200m"))
	_, happened, err := s.Power(t.Context(), "gauge-1", driver.Power{Do: driver.Start})
	require.NoError(t, err)
	assert.Contains(t, happened, "goes on")
	becomes(driver.Running)
	boot, err := s.Boot(t.Context(), "gauge-1")
	require.NoError(t, err)
	require.Len(t, boot.Setup, 1)
	assert.Equal(t, "filled\n", boot.Setup[0].Output)
	assert.Zero(t, boot.Setup[0].Exit)
}
