package journal_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	. "ironbark/internal/journal"
	"ironbark/internal/syslog"
)

// TestAnchorsAreReadWhereNobodysWordsAre draws messages whose every text looks like something else: the anchor is that of the structured data.
func TestAnchorsAreReadWhereNobodysWordsAre(t *testing.T) {
	a := Anchor{strings.Repeat("0a", 16), Head{Seq: 12, Hash: strings.Repeat("9f", 32)}}
	forged := Anchor{strings.Repeat("0a", 16), Head{Seq: 3, Hash: strings.Repeat("8e", 32)}}.String()
	data := fmt.Sprintf(`[%s %s="%s"]`, DataID, AnchorParam, forged)
	rapid.Check(t, func(t *rapid.T) {
		text := func(label string) string {
			return strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{forged, data, " ", `"`, `\`, "]", "[", "=", "<110>1 2026-11-23T09:00:00Z h a p i ", `{"anchor":"`, "mara", "\n"}), 0, 6).Draw(t, label), "")
		}
		m := syslog.Message{
			Facility: syslog.Audit, Severity: syslog.Notice, At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), Host: text("host"), App: "ironbark", Process: text("name"), ID: "open",
			DataID: DataID, Data: []syslog.Param{{Name: "person", Value: text("person")}, {Name: AnchorParam, Value: a.String()}}, Text: text("reason"),
		}
		most := rapid.SampledFrom([]int{0, 480, 2048}).Draw(t, "most")
		line := string(m.Append(nil, most))
		for _, form := range []string{line, fmt.Sprintf("%d %s", len(line), line), line[strings.Index(line, "2026"):]} {
			got, found := AnchorIn(form)
			require.True(t, found, form)
			require.Equal(t, a, got, form)
		}
		m.Data = nil
		m.DataID = ""
		_, found := AnchorIn(string(m.Append(nil, most)))
		require.False(t, found, "a message without one")
	})
	got, found := AnchorIn(`{"text":"` + forged + `","anchor":"` + a.String() + `"}`)
	assert.True(t, found)
	assert.Equal(t, a, got)
}

func TestFieldsHaveLengths(t *testing.T) {
	person, text := Bound(strings.Repeat("ä", 70_000), strings.Repeat("ö", 70_000))
	assert.Equal(t, strings.Repeat("ä", 31), person)
	assert.LessOrEqual(t, len(text), MostText)
	assert.Contains(t, text, "ö… (cut; it had 140000 bytes)")
	person, text = Bound("mara", "short")
	assert.Equal(t, []string{"mara", "short"}, []string{person, text})
}
