package quickjson_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/quickjson"
)

type tide struct {
	Name   string    `json:"name"`
	Gauges []string  `json:"gauges"`
	Metres int       `json:"metres"`
	At     time.Time `json:"at"`
}

func read(text string) (v tide, done bool) {
	r := quickjson.Of(text)
	r.Must(`{"name":"`)
	v.Name = r.String()
	r.Must(`,"gauges":`)
	v.Gauges = r.Strings()
	r.Must(`,"metres":`)
	v.Metres = r.Number()
	r.Must(`,"at":"`)
	v.At = r.Moment()
	r.Must("}")
	return v, r.Done()
}

// TestReadsWhatIsWritten writes values and reads them: each that needs no other escapes than those
// of quotation marks and backslashes.
func TestReadsWhatIsWritten(t *testing.T) {
	quick := 0
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.StringMatching(`[a-z "\\]{0,12}`), rapid.String())
		v := tide{text.Draw(t, "name"), rapid.SliceOfN(text, 1, 3).Draw(t, "gauges"), rapid.IntRange(0, 1e9).Draw(t, "metres"), time.Unix(rapid.Int64Range(0, 1e10).Draw(t, "at"), 0).UTC()}
		written, err := json.Marshal(v)
		require.NoError(t, err)
		got, done := read(string(written))
		plain := !strings.ContainsAny(strings.NewReplacer(`\\`, "", `\"`, "").Replace(string(written)), `\`)
		assert.Equal(t, plain, done, "%s", written)
		if done {
			quick++
			assert.Equal(t, v, got)
		}
	})
	require.Positive(t, quick)
}

// FuzzText holds the quick reader to the general one: what it takes means the same to both.
func FuzzText(f *testing.F) {
	for _, text := range []string{
		`{"name":"spring","gauges":["a \"b\"","c\\"],"metres":4,"at":"2026-11-23T09:00:00Z"}`, `{"name":"\u00e9","gauges":["ö"],"metres":04,"at":""}`, `{"name":"\`, `{"name":"a","gauges":[],"metres":`,
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		got, done := read(text)
		if !done {
			return
		}
		var want tide
		require.NoError(t, json.Unmarshal([]byte(text), &want))
		assert.True(t, want.At.Equal(got.At))
		want.At, got.At = time.Time{}, time.Time{}
		assert.Equal(t, want, got)
	})
}
