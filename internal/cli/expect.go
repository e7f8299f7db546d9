package cli

import (
	"encoding/xml"
	"fmt"

	"ironbark/internal/cli/view"
	"ironbark/internal/work"
)

// expectationDoc is one expectation and whether it is met.
type expectationDoc struct {
	Expect   string   `json:"expect"` // open or closed; "": nothing
	Question string   `json:"question"`
	File     string   `json:"file"`
	Line     int      `json:"line"`
	Verdict  string   `json:"verdict"`
	Met      bool     `json:"met"`
	Against  []string `json:"against"` // what speaks against it
}

type expectationsDoc struct {
	Expectations []expectationDoc `json:"expectations"`
	NotMet       int              `json:"notMet"`
}

// expectations tells which expectations are not met.
func (a *app) expectations(asks []asked, answers []answered, ph *view.Phrasing, to string) error {
	doc, expected := expectationsDoc{Expectations: []expectationDoc{}}, 0
	for i, q := range asks {
		answer := answers[i]
		one := expectationDoc{
			Expect: q.expect, Question: answer.question(), File: q.At.File, Line: q.At.Line, Verdict: answer.verdict(),
			Met: q.expect == "" || q.expect == answer.verdict(), Against: []string{},
		}
		if !one.Met {
			doc.NotMet++
			one.Against = mostOf(answer.against(q.expect == "open", ph))
		}
		if q.expect != "" {
			expected++
		}
		doc.Expectations = append(doc.Expectations, one)
	}
	if to != "" {
		if err := writeJUnit(to, doc); err != nil {
			return err
		}
	}
	if a.json {
		if err := a.print.JSON(doc); err != nil {
			return err
		}
	} else {
		for _, e := range doc.Expectations {
			if e.Met {
				continue
			}
			a.print.Wrap(a.print.Bad("not met")+"  ", fmt.Sprintf("%s: %s  (%s:%d)", e.Expect, e.Question, e.File, e.Line))
			for _, text := range e.Against {
				a.print.Wrap("         ", text)
			}
		}
		a.print.Line("%d of %d met", expected-doc.NotMet, expected)
	}
	if doc.NotMet > 0 {
		return errNo
	}
	return nil
}

// The elements of JUnit XML that its readers have in common.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		File    string        `xml:"file,attr"`
		Line    int           `xml:"line,attr"`
		Failure *junitFailure `xml:"failure"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// writeJUnit writes expectations to a file, whole or not at all.
func writeJUnit(name string, doc expectationsDoc) error {
	suite := junitSuite{Name: "exposure"}
	for _, e := range doc.Expectations {
		if e.Expect == "" {
			continue
		}
		c := junitCase{Class: "exposure", Name: e.Expect + ": " + e.Question, File: e.File, Line: e.Line}
		if !e.Met {
			c.Failure = &junitFailure{Message: "it is " + map[string]string{"some": "open in part"}[e.Verdict] + map[string]string{"open": "open", "closed": "closed"}[e.Verdict]}
			for _, text := range e.Against {
				c.Failure.Text += text + "\n"
			}
			suite.Failures++
		}
		suite.Cases = append(suite.Cases, c)
	}
	suite.Tests = len(suite.Cases)
	data, err := xml.MarshalIndent(junitSuites{Tests: suite.Tests, Failures: suite.Failures, Suites: []junitSuite{suite}}, "", "  ")
	if err != nil {
		return err
	}
	return work.WriteFile(name, append([]byte(xml.Header), append(data, '\n')...), 0o644)
}
