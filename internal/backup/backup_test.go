package backup_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/backup"
)

// TestAnArchiveIsWholeOrNothing flips each byte of an archive, and cuts it off at each: it is told, or what comes out is
// what went in.
func TestAnArchiveIsWholeOrNothing(t *testing.T) {
	dir := t.TempDir()
	var sources []backup.Source
	want := map[string]string{"estate.yaml": "estate: tides\n", "a.rules": "", "setup/gauge.sh": "echo tide", ".ironbark/site.db": "ledger", ".ironbark/keys/ops": "secret"}
	for _, name := range []string{"estate.yaml", "a.rules", "setup/gauge.sh", ".ironbark/site.db", ".ironbark/keys/ops"} {
		path := filepath.Join(dir, filepath.Base(name))
		require.NoError(t, os.WriteFile(path, []byte(want[name]), 0o600))
		sources = append(sources, backup.Source{Name: name, Path: path})
	}
	var b bytes.Buffer
	made := backup.Manifest{Estate: "tides", Site: "sim", Made: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	wrote, err := backup.Write(&b, made, sources)
	require.NoError(t, err)
	file := filepath.Join(dir, "archive")
	extract := func(data []byte) error {
		require.NoError(t, os.WriteFile(file, data, 0o600))
		m, err := backup.Check(file)
		if err != nil {
			damaged := &backup.DamagedError{}
			require.ErrorAs(t, err, &damaged)
			return err
		}
		assert.Equal(t, wrote, m)
		to := t.TempDir()
		if _, err := backup.Extract(file, to); err != nil {
			return err
		}
		for name, text := range want {
			data, err := os.ReadFile(filepath.Join(to, name))
			require.NoError(t, err)
			assert.Equal(t, text, string(data))
		}
		info, err := os.Stat(filepath.Join(to, ".ironbark/keys/ops"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		return nil
	}
	require.NoError(t, extract(b.Bytes()))
	told := 0
	for i := range b.Bytes() {
		flipped := bytes.Clone(b.Bytes())
		flipped[i] ^= 0x55
		if extract(flipped) != nil {
			told++
		}
		require.Error(t, extract(b.Bytes()[:i]))
	}
	assert.Greater(t, told, b.Len()-16, "but for a header's date and the like")
}

// TestAnArchiveLeadsNowhereElse writes archives of files that belong to no estate.
func TestAnArchiveLeadsNowhereElse(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	for _, name := range []string{"../estate.yaml", "/etc/passwd", ".ironbark/../x", "notes.txt", ".ironbark/keys/../../x", ".ironbark/opening", "setup/a/b", ""} {
		_, err := backup.Write(&bytes.Buffer{}, backup.Manifest{}, []backup.Source{{Name: name, Path: file}})
		require.Error(t, err, name)
	}
}

// TestAnArchiveNamesNoFolder reads archives whose manifest has something else where a name is due: folders and hints are made of it.
func TestAnArchiveNamesNoFolder(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x")
	for name, good := range map[string]bool{"tides": true, "": true, "../../..": false, "/etc": false, "x; touch pwn; #": false, "tides\x1b[2J": false, "tides\n": false, "a/b": false, "-rf": false} {
		for _, m := range []backup.Manifest{{Estate: name, Site: "sim"}, {Estate: "tides", Site: name}} {
			var b bytes.Buffer
			_, err := backup.Write(&b, m, nil)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
			_, err = backup.Check(file)
			assert.Equal(t, good, err == nil, "%q: %v", name, err)
		}
	}
}

// FuzzCheck reads anything as an archive.
func FuzzCheck(f *testing.F) {
	f.Add([]byte("\x1f\x8b\x08\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file := filepath.Join(t.TempDir(), "x")
		require.NoError(t, os.WriteFile(file, data, 0o600))
		if _, err := backup.Check(file); err == nil {
			_, err = backup.Extract(file, t.TempDir())
			require.NoError(t, err)
		}
	})
}
