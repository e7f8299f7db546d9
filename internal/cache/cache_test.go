package cache

import (
	"os"
	"path/filepath"
	"testing"
	"time"

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

func TestAnAnswerIsKnownForWhatItCameFromAndForAsLongAsItHolds(t *testing.T) {
	dir := t.TempDir()
	a := AnswerIn(dir, "status")
	files := []estate.File{{Name: "estate.yaml", Data: []byte("x")}}
	key := Key(files, []byte("plan"), nil)
	for _, other := range []string{"", Key(nil, []byte("plan"), nil), Key(files, []byte("plan")), Key(files, nil, []byte("plan")), Key(files, []byte("plam"), nil)} {
		assert.NotEqual(t, key, other)
	}
	from, until := time.Date(2026, 4, 1, 9, 0, 0, 0, time.UTC), time.Date(2026, 4, 1, 10, 0, 0, 0, time.UTC)
	var got []int
	assert.False(t, a.Get(key, from, &got), "nothing was kept")
	a.Keep(key, from, until, []int{7})
	for at, known := range map[time.Time]bool{from.Add(-1): false, from: true, until.Add(-1): true, until: false} {
		got = nil
		assert.Equal(t, known, a.Get(key, at, &got), at)
	}
	assert.Equal(t, []int{7}, got)
	assert.False(t, a.Get(Key(nil), from, &got))
	a.Keep(key, from, time.Time{}, []int{8})
	assert.True(t, a.Get(key, until, &got), "what has no end holds")
	a.Keep("", from, time.Time{}, []int{9})
	assert.False(t, a.Get("", from, &got))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "status"), []byte("{"), 0o600))
	assert.False(t, a.Get(key, from, &got), "a damaged one tells nothing")
}
