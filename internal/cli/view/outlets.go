package view

import (
	"fmt"
	"strings"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
)

// outletLines is how many lines about outlets are printed.
const outletLines = 8

// Outlets prints what machines may still call of those who reach them no longer, a line each after an indent.
func (p *Printer) Outlets(indent string, list []exposure.Outlet, ph *Phrasing) {
	for i, o := range list {
		if i == outletLines {
			p.Wrap(indent, fmt.Sprintf("and %d more: --json lists them all", len(list)-i))
			return
		}
		var names []string
		for _, m := range o.Machines {
			names = append(names, ph.plan.Machines[m].Name)
		}
		what := few(strings.Split(ph.names.Plain(o.To), ", "))
		if !o.Services.Equal(flow.AnyService) {
			what += " on " + ph.service(o.Services)
		}
		p.Wrap(indent, fmt.Sprintf("%s may still call %s and receive its answers: %s", few(names), what, sentenceAt(o.By)))
	}
}

// OutletDoc is what machines may still call, as programs read it.
type OutletDoc struct {
	Machines []string `json:"machines"`
	To       []string `json:"to"`
	Service  string   `json:"service"`
	Sentence string   `json:"sentence"`
}

// OutletsJSON are the documents of what machines may still call.
func OutletsJSON(list []exposure.Outlet, plan *flow.Plan) (docs []OutletDoc) {
	for _, o := range list {
		doc := OutletDoc{To: flow.AddrRuns(o.To), Service: strings.Join(flow.ServiceRuns(o.Services), ","), Sentence: o.By.Sentence}
		for _, m := range o.Machines {
			doc.Machines = append(doc.Machines, plan.Machines[m].Name)
		}
		docs = append(docs, doc)
	}
	return docs
}
