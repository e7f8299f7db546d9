package known

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/estate"
)

func TestOnlyTheFilesThatWereKeptAreKnown(t *testing.T) {
	dir := t.TempDir()
	m := In(dir)
	file := func(name, data string) estate.File { return estate.File{Name: name, Data: []byte(data)} }
	kept := []estate.File{file("estate.yaml", "estate: a\n"), file("a.rules", "x")}
	assert.False(t, m.Knows(kept), "nothing was kept")
	m.Keep(kept)
	assert.True(t, In(dir).Knows(kept))
	assert.True(t, m.Knows([]estate.File{kept[1], kept[0]}))
	for _, other := range [][]estate.File{nil, kept[:1], {kept[0], file("a.rules", "y")}, {kept[0], file("b.rules", "x")}, {kept[0], file("a.rulesx", "")}} {
		assert.False(t, m.Knows(other))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "read"), nil, 0o600))
	assert.False(t, m.Knows(nil), "an empty file tells nothing")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1)
	In(filepath.Join(dir, "none")).Keep(kept) // it cannot be kept, and that is all
}
