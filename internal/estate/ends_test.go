package estate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/sentence"
)

const (
	keyA = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMi2wGHoWR3+qr79utfNrMDs5TkA8LsCFghgoOPvfSrM mara"
	keyB = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKm+dTbN4e+EXm1X7Ci5pMvW2oVmRjsRnUw74TLkXaSp mara"
)

func TestRightsEndAtTheirMoment(t *testing.T) {
	e, err := Read(File{Name: FileName, Data: []byte(`estate: tides
site: sim
people:
  mara: {groups: [ops], until: 2026-11-23T12:00:00Z, keys: ["` + keyA + `", {public: "` + keyB + `", until: 2026-11-23T10:00:00Z}]}
  ilse: {groups: [ops]}
keys: {spare: {public: "` + keyA + `", until: 2026-11-23T10:00:00Z}, ops: "` + keyB + `"}
`)}, File{Name: RulesName, Data: []byte("permit ops to open ssh to all from 192.0.2.0/24 up to 1h until 2026-11-23T11:00:00Z\npermit mara to open rdp to all from 192.0.2.0/24 up to 1h\n")})
	require.NoError(t, err)
	at := func(hour int) *Estate { return e.AsOf(time.Date(2026, 11, 23, hour, 0, 0, 0, time.UTC)) }
	permits := func(e *Estate, person string) (n int) {
		for range e.PermitsOf(person) {
			n++
		}
		return n
	}
	for hour, want := range map[int]struct {
		keys, sentences, mara, ilse int
		known, ended                bool
		next                        int
	}{
		9:  {2, 2, 2, 1, true, false, 10},
		10: {1, 2, 2, 1, true, true, 11},
		11: {1, 1, 1, 0, true, true, 12},
		12: {0, 1, 0, 0, false, true, 0},
	} {
		then := at(hour)
		assert.Len(t, then.KeysOf(then.People[0]), want.keys, hour)
		assert.Len(t, then.SentencesOf(sentence.VerbPermit), want.sentences, hour)
		assert.Equal(t, want.mara, permits(then, "mara"), hour)
		assert.Equal(t, want.ilse, permits(then, "ilse"), hour)
		assert.Equal(t, want.known, then.PersonKnown("mara"), hour)
		assert.Equal(t, want.known, then.Belongs("mara", "ops"), hour)
		assert.True(t, then.Belongs("ilse", "ops"))
		_, over := then.KeyEnded("spare")
		assert.Equal(t, want.ended, over, hour)
		_, over = then.KeyEnded("ops")
		assert.False(t, over)
		next := 0
		if end := then.NextEnd(); !end.IsZero() {
			next = end.Hour()
		}
		assert.Equal(t, want.next, next, hour)
		assert.Len(t, then.Sentences(), 2, "all of them are still listed")
		assert.Len(t, then.People, 2)
	}
	assert.Equal(t, 12, e.EndOf("mara").Hour())
	assert.True(t, e.EndOf("ilse").IsZero() && e.EndOf("nobody").IsZero())
}
