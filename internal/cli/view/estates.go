package view

import (
	"fmt"
	"net/netip"
	"strings"

	"ironbark/internal/cost"
	"ironbark/internal/findings"
)

// Estate is one of several estates, as a list tells it.
type Estate struct {
	Name, Site, Folder string
	Why                string // it cannot be read; the rest is empty then
	Machines, Running  int
	Bill               cost.Bill
	Limits             cost.Amounts
	Open               int // openings
	Found              map[findings.Level]int
	Claims             []Claim
}

// Claim is an address or a range that an estate claims, and for what.
type Claim struct {
	What netip.Prefix
	By   string
}

// TwiceClaimed is an address or a range that two estates claim.
type TwiceClaimed struct {
	What                       netip.Prefix
	First, FirstAt, FirstBy    string // its name, its folder, and what of it claims it
	Second, SecondAt, SecondBy string
}

func (t TwiceClaimed) what() string {
	if t.What.IsSingleIP() {
		return t.What.Addr().String()
	}
	return t.What.String()
}

// names are those of the two, or their folders where the names are the same.
func (t TwiceClaimed) names() (first, second string) {
	if t.First == t.Second {
		return t.FirstAt, t.SecondAt
	}
	return t.First, t.Second
}

// nearest is the limit that is nearest.
func (e Estate) nearest() string {
	text, share := "", -1.0
	for _, q := range e.Bill.Used.Against(e.Limits) {
		if q.Limit > 0 && float64(q.Used)/float64(q.Limit) > share {
			text, share = fmt.Sprintf("%d of %d %s", q.Used, q.Limit, q.What), float64(q.Used)/float64(q.Limit)
		}
	}
	return text
}

// Estates prints a list of estates, and what two of them claim.
func (p *Printer) Estates(list []Estate, claims []TwiceClaimed) {
	if len(list) == 0 {
		p.Line("No estate is known here yet: ironbark new NAME begins one, and ironbark estates DIR takes one in.")
		return
	}
	var rows [][]string
	for _, e := range list {
		if e.Why != "" {
			rows = append(rows, []string{e.Name, e.Site, p.Bad("cannot be read"), "", "", "", "", e.Folder})
			continue
		}
		var found []string
		for _, level := range []findings.Level{findings.Serious, findings.Caution, findings.Note} {
			if n := e.Found[level]; n > 0 {
				word := Count(n, level.String())
				if level == findings.Serious {
					word = p.Bad(fmt.Sprintf("%d serious", n))
				}
				found = append(found, word)
			}
		}
		open := "nothing"
		if e.Open > 0 {
			open = p.Open(Count(e.Open, "opening"))
		}
		rows = append(rows, []string{
			e.Name, e.Site, fmt.Sprintf("%d, %d running", e.Machines, e.Running), e.Bill.Currency + " " + e.Bill.Month().String(), e.nearest(), open, strings.Join(found, ", "), e.Folder,
		})
	}
	p.Table([]string{"ESTATE", "SITE", "MACHINES", "A MONTH", "NEAREST LIMIT", "OPEN", "FINDINGS", "FOLDER"}, rows)
	for _, e := range list {
		if e.Why != "" {
			p.Wrap("  "+e.Name+"  ", e.Why)
		}
	}
	if len(claims) == 0 {
		return
	}
	p.Line("")
	p.Head("Claimed by two")
	rows = nil
	for _, c := range claims {
		first, second := c.names()
		rows = append(rows, []string{c.what(), first + ", " + c.FirstBy, second + ", " + c.SecondBy})
	}
	p.TableIn("  ", []string{"ADDRESSES", "BY", "AND BY"}, rows)
	p.Wrap("  ", "each stand-in cloud is a world of its own; on one host, and where lines join them, one of the two has to go")
}

// EstatesDoc is the document of a list of estates.
type EstatesDoc struct {
	Estates []estateDoc `json:"estates"`
	Claimed []claimDoc  `json:"claimed"`
}

type estateDoc struct {
	Name     string         `json:"name"`
	Site     string         `json:"site"`
	Folder   string         `json:"folder"`
	Why      string         `json:"error,omitempty"`
	Machines int            `json:"machines"`
	Running  int            `json:"running"`
	Month    string         `json:"month"`
	Quota    []estateQuota  `json:"quota"`
	Openings int            `json:"openings"`
	Findings map[string]int `json:"findings"`
}

type estateQuota struct {
	What  string `json:"what"`
	Used  int    `json:"used"`
	Limit int    `json:"limit"`
}

type claimDoc struct {
	Addresses string   `json:"addresses"`
	Estates   []string `json:"estates"`
	Folders   []string `json:"folders"` // theirs
	By        []string `json:"by"`
}

// EstatesJSON is the document of a list of estates.
func EstatesJSON(list []Estate, claims []TwiceClaimed) EstatesDoc {
	doc := EstatesDoc{[]estateDoc{}, []claimDoc{}}
	for _, e := range list {
		one := estateDoc{
			e.Name, e.Site, e.Folder, e.Why, e.Machines, e.Running, e.Bill.Month().String() + " " + e.Bill.Currency, []estateQuota{}, e.Open, map[string]int{},
		}
		for _, q := range e.Bill.Used.Against(e.Limits) {
			one.Quota = append(one.Quota, estateQuota{q.What, q.Used, q.Limit})
		}
		for level, n := range e.Found {
			one.Findings[level.String()] = n
		}
		doc.Estates = append(doc.Estates, one)
	}
	for _, c := range claims {
		doc.Claimed = append(doc.Claimed, claimDoc{c.what(), []string{c.First, c.Second}, []string{c.FirstAt, c.SecondAt}, []string{c.FirstBy, c.SecondBy}})
	}
	return doc
}
