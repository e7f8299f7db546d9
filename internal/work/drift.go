package work

import (
	"slices"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
)

// Drift is what is not as it was last enacted: what somebody did to the site
// without Ironbark.
type Drift struct {
	Resources []change.Drifted
	Outside   []driver.OutOfBandChange // as the site's own record tells it
	Network   []driver.Alteration      // what else decides about packets and is not as the site makes it
	Exposure  exposure.Difference
	Outward   exposure.Difference            // what machines may call outside
	Enacted   *State                         // with the plan as it was enacted, for names; nil where the tables were not touched
	Since     func(exposure.Entry) time.Time // when a difference came about; zero: not known
}

// IsEmpty reports whether all is as it was enacted.
func (d *Drift) IsEmpty() bool {
	return len(d.Resources)+len(d.Network) == 0 && d.Exposure.IsEmpty() && d.Outward.IsEmpty()
}

// putRight reports whether an enactment changes any of it back: unmanaged resources stay.
func (d *Drift) putRight() bool {
	return len(d.Network) > 0 || !d.Exposure.IsEmpty() || !d.Outward.IsEmpty() || slices.ContainsFunc(d.Resources, func(t change.Drifted) bool { return !t.Resource.Unmanaged })
}

// Drift compares what is installed with what was last enacted. Cost: that of a
// difference where the tables were touched, and otherwise little.
func (w *Work) Drift(st *State) *Drift {
	r := st.Report
	d := &Drift{Resources: change.Drift(r.Resources, r.Gone), Outside: r.Outside, Network: r.Network, Since: func(exposure.Entry) time.Time { return time.Time{} }}
	touched := slices.DeleteFunc(slices.Clone(r.Outside), func(o driver.OutOfBandChange) bool { return len(o.In)+len(o.Out) == 0 })
	if len(touched) == 0 || r.Unfinished != nil { // an enactment on its way cuts the tables down itself
		return d
	}
	plan, err := flow.FromRows(enacted(r.Base(), touched))
	if err != nil { // the record is not whole: what the files come to is the next best
		plan = flow.Compile(st.Estate, assigned(r, r.Resources))
	}
	now := w.Clock.Now()
	was := *st
	was.Plan = withOpenings(plan, r.Openings, now)
	d.Enacted = &was
	d.Exposure = exposure.Compare(exposure.NewView(was.Plan, now), exposure.NewView(st.Plan, now))
	d.Outward = exposure.Compare(exposure.NewView(was.Plan.Calls(), now), exposure.NewView(st.Plan.Calls(), now))
	d.Since = func(e exposure.Entry) time.Time {
		for _, o := range touched {
			for _, row := range o.In {
				if one, err := flow.RowSentence(row); err == nil && one != "" && one == e.Origin.Sentence {
					return o.At
				}
			}
		}
		return touched[0].At
	}
	return d
}

// enacted returns the rows as they were before others touched them.
func enacted(rows []flow.Row, touched []driver.OutOfBandChange) []flow.Row {
	have := map[string]string{}
	for _, r := range rows {
		have[r.Key] = r.Body
	}
	for _, o := range slices.Backward(touched) {
		for _, r := range o.In {
			delete(have, r.Key)
		}
		for _, r := range o.Out {
			have[r.Key] = r.Body
		}
	}
	return flow.SortedRows(have)
}
