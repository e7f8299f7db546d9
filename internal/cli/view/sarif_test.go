package view

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xeipuuv/gojsonschema"

	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// TestFindingsAreSARIF writes a finding of each kind, with awkward words and places, and holds the log to the standard's schema.
func TestFindingsAreSARIF(t *testing.T) {
	text, err := os.ReadFile("testdata/sarif-schema-2.1.0.json") // of OASIS
	require.NoError(t, err)
	schema, err := gojsonschema.NewSchema(gojsonschema.NewBytesLoader(text))
	require.NoError(t, err)
	rank := map[string]int{"error": 1, "warning": 2, "note": 3}
	var list []findings.Finding
	for i, k := range findings.Kinds() {
		assert.NotEmpty(t, k.What(), k)
		assert.NotEmpty(t, k.Why(), k)
		f := findings.Finding{Level: findings.Level(1 + i%3), Kind: k, Problem: "what <is> wrong & “why”\x1b[1m", Subject: "allow https from everywhere to all"}
		switch i % 3 {
		case 0:
			f.At, f.Remedy = sentence.Pos{File: "more rules%.rules", Line: 7}, fault.Say("retract it")
		case 1:
			f.At = sentence.Pos{File: "estate.yaml", Line: 3, Col: 5}
		}
		list = append(list, f)
	}
	broken := []exposure.Broken{{Guarantee: flow.Origin{Sentence: "never ssh from internet to all", File: "estate.rules", Line: 2}, Target: "gauge-1", Flow: exposure.Flow{Service: flow.TCPPort(22)}}}
	for _, what := range []struct {
		list   []findings.Finding
		broken []exposure.Broken
	}{{list, broken}, {}} {
		data, err := SARIF(what.list, what.broken, "tides/saltmarsh/", "0.1.0")
		require.NoError(t, err)
		result, err := schema.Validate(gojsonschema.NewBytesLoader(data))
		require.NoError(t, err)
		assert.True(t, result.Valid(), "%v", result.Errors())
		var log sarifLog
		require.NoError(t, json.Unmarshal(data, &log))
		run := log.Runs[0]
		require.Len(t, run.Results, len(what.list)+len(what.broken))
		seen := map[string]bool{}
		for _, r := range run.Results {
			assert.Equal(t, r.RuleID, run.Tool.Driver.Rules[r.RuleIndex].ID)
			assert.False(t, seen[r.Fingerprints["ironbark/v1"]], "each has a fingerprint of its own")
			seen[r.Fingerprints["ironbark/v1"]] = true
			if len(r.Locations) > 0 && r.Locations[0].Physical.Region.Line == 7 {
				assert.Equal(t, "tides/saltmarsh/more%20rules%25.rules", r.Locations[0].Physical.Artifact.URI)
			}
		}
		for i := 1; i < len(run.Results); i++ {
			assert.LessOrEqual(t, rank[run.Results[i-1].Level], rank[run.Results[i].Level], "the grave ones first")
		}
	}
}
