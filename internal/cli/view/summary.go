package view

import (
	"encoding/json"
	"slices"
	"time"

	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// Summary is what a status tells of exposure and findings. It can be kept as JSON where no guarantee is broken.
type Summary struct {
	Rows    []summaryRow // the first of what is reachable
	Total   int
	Levels  map[findings.Level]int // how many findings there are of each
	Serious []findings.Finding
	Broken  []exposure.Broken `json:"-"`
}

// summaryRow is a machine with services that a source reaches.
type summaryRow struct {
	From     flow.Addrs
	Machine  string
	Services flow.Services
	Until    time.Time
}

// Summarise tells what is reachable in a state, and what of it is seldom meant. Cost: that of one machine of each class, and of findings.
func Summarise(st *work.State, reach *exposure.View, found []findings.Finding, broken []exposure.Broken, now time.Time) Summary {
	rows, total := NewPhrasing(st, now).first(reach, most)
	s := Summary{Total: total, Levels: map[findings.Level]int{}, Broken: broken}
	for _, r := range rows {
		s.Rows = append(s.Rows, summaryRow{r.from, r.machine, r.services, r.entry.Until})
	}
	for _, f := range found {
		s.Levels[f.Level]++
		if f.Level == findings.Serious {
			s.Serious = append(s.Serious, f)
		}
	}
	return s
}

// summaryText is a row in JSON.
type summaryText struct {
	From     []string  `json:"from"`
	Machine  string    `json:"machine"`
	Services []string  `json:"services"`
	Until    time.Time `json:"until"`
}

// MarshalJSON writes the row.
func (r summaryRow) MarshalJSON() ([]byte, error) {
	return json.Marshal(summaryText{flow.AddrRuns(r.From), r.Machine, flow.ServiceRuns(r.Services), r.Until})
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (r *summaryRow) UnmarshalJSON(data []byte) (err error) {
	var text summaryText
	if err := json.Unmarshal(data, &text); err != nil {
		return err
	}
	r.Machine, r.Until = text.Machine, text.Until
	if r.From, err = flow.ParseAddrRuns(text.From); err == nil {
		r.Services, err = flow.ParseServiceRuns(text.Services)
	}
	return err
}

// HoldsUntil is the moment before which a summary of a state stays as it is while nobody changes anything; zero: for good.
func HoldsUntil(st *work.State, now time.Time) (until time.Time) {
	turns := st.Plan.Turns(now)
	for _, said := range st.Estate.Sentences() {
		if end := sentence.EndOf(said.Sentence); end.After(now) {
			turns = append(turns, end)
		}
	}
	if len(turns) == 0 {
		return time.Time{}
	}
	return slices.MinFunc(turns, time.Time.Compare)
}
