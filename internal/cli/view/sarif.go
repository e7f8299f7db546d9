package view

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/sentence"
)

// Findings as SARIF 2.1.0 (OASIS, https://docs.oasis-open.org/sarif/sarif/v2.1.0/sarif-v2.1.0.html), which services for code review show beside the lines of a change.
// Only what is told here is in it: all elements are optional there but for version, runs, tool, name and message.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"` // columns are counted in characters, as errors count them
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID    string       `json:"id"`
		Short sarifMessage `json:"shortDescription"`
		Full  sarifMessage `json:"fullDescription"`
	}
	sarifMessage struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID       string            `json:"ruleId"`
		RuleIndex    int               `json:"ruleIndex"`
		Level        string            `json:"level"`
		Message      sarifMessage      `json:"message"`
		Locations    []sarifLocation   `json:"locations,omitempty"`
		Fingerprints map[string]string `json:"partialFingerprints"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI  string `json:"uri"`
		Base string `json:"uriBaseId"`
	}
	sarifRegion struct {
		Line   int `json:"startLine"`
		Column int `json:"startColumn,omitempty"`
	}
)

// brokenRule is the rule of broken guarantees, which are no findings here.
const brokenRule = "broken-guarantee"

var sarifLevels = map[findings.Level]string{findings.Note: "note", findings.Caution: "warning", findings.Serious: "error"}

// SARIF returns findings and broken guarantees as a SARIF log. folder is where the estate's files stand below the root of the sources, with a slash at its end;
// "" where they stand there.
func SARIF(list []findings.Finding, broken []exposure.Broken, folder, version string) ([]byte, error) {
	driver := sarifDriver{Name: "ironbark", Version: version}
	number := map[string]int{}
	rule := func(id, short, full string) {
		number[id] = len(driver.Rules)
		driver.Rules = append(driver.Rules, sarifRule{id, sarifMessage{short}, sarifMessage{full}})
	}
	for _, k := range findings.Kinds() {
		rule(string(k), k.What(), k.Why())
	}
	rule(brokenRule, "a guarantee is broken", "The estate says that this never is, or always is, and it is not so.")
	results := []sarifResult{}
	add := func(id, level, text, remedy string, at sentence.Pos) {
		sum := sha256.Sum256([]byte(id + "\n" + text)) // the same wherever it stands
		r := sarifResult{
			RuleID: id, RuleIndex: number[id], Level: level, Message: sarifMessage{text}, Locations: sarifPlace(folder, at),
			Fingerprints: map[string]string{"ironbark/v1": hex.EncodeToString(sum[:])},
		}
		if remedy != "" {
			r.Message.Text += "\nTo fix it: " + remedy
		}
		results = append(results, r)
	}
	for _, b := range broken {
		from, to := b.Ends()
		add(brokenRule, "error", fmt.Sprintf("the guarantee is broken: %s\nfor example by %s from %s to %s", b.Guarantee.Sentence, b.Flow.Service, from, to), "", sentence.Pos{File: b.Guarantee.File, Line: b.Guarantee.Line})
	}
	for _, f := range slices.SortedStableFunc(slices.Values(list), func(a, b findings.Finding) int { return int(b.Level) - int(a.Level) }) {
		add(string(f.Kind), sarifLevels[f.Level], f.What(), Advice(f.Remedy), f.At)
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(sarifLog{
		Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", Version: "2.1.0",
		Runs: []sarifRun{{Tool: sarifTool{driver}, ColumnKind: "unicodeCodePoints", Results: results}},
	})
	return b.Bytes(), err
}

// sarifPlace is where something stands; none where that is not known.
func sarifPlace(folder string, at sentence.Pos) []sarifLocation {
	if at.File == "" || at.Line == 0 {
		return nil
	}
	path := (&url.URL{Path: strings.TrimPrefix(folder+at.File, "/")}).EscapedPath()
	return []sarifLocation{{sarifPhysical{sarifArtifact{path, "%SRCROOT%"}, sarifRegion{at.Line, at.Col}}}}
}
