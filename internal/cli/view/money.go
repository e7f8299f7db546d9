package view

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/work"
)

func month(m cost.Money) string { return price(m * cost.HoursAMonth) }

// price prints an amount; what costs anything is never told as nothing.
func price(m cost.Money) string {
	if text := m.String(); m <= 0 || text != "0.00" {
		return text
	}
	return "<0.01"
}

// Cost tells what an estate costs now and after the pending edits.
func (p *Printer) Cost(before, after cost.Bill, prices cost.Prices, outward int, by string) {
	if by != "" {
		p.byTag(before, after, by)
		if outward > 0 {
			p.Line("")
			p.outward(prices, outward, after.Currency)
		}
		return
	}
	now := map[string]cost.Money{}
	for _, l := range before.Lines {
		now[l.Kind+" "+l.Name] = l.Hour
	}
	var rows [][]string
	seen := map[string]bool{}
	for _, l := range after.Lines {
		id := l.Kind + " " + l.Name
		seen[id] = true
		what := l.What
		if l.Stray {
			what += p.Bad(", in no file")
		}
		rows = append(rows, []string{l.Kind, l.Name, what, hourly(l.Hour), month(l.Hour), moved(now[id], l.Hour)})
	}
	for _, l := range before.Lines {
		if !seen[l.Kind+" "+l.Name] {
			rows = append(rows, []string{l.Kind, l.Name, "goes", hourly(0), month(0), moved(l.Hour, 0)})
		}
	}
	rows = append(rows, []string{"", "", "all of it", hourly(after.Hour()), month(after.Hour()), moved(before.Hour(), after.Hour())})
	heads := []string{"KIND", "NAME", "IS", after.Currency + " AN HOUR", "A MONTH", "PENDING"}
	if before.Hour() == after.Hour() && len(seen) == len(before.Lines) {
		heads = heads[:5]
		for i := range rows {
			rows[i] = rows[i][:5]
		}
	}
	p.Table(heads, rows, 3, 4, 5)
	for _, key := range after.TagKeys() {
		p.Line("")
		p.byTag(before, after, key)
	}
	p.Line("")
	p.outward(prices, outward, after.Currency)
}

// hourly prints an hour's price to a hundredth of a cent.
func hourly(m cost.Money) string {
	return fmt.Sprintf("%d.%04d", int64(m)/1_000_000, int64(m)%1_000_000/100)
}

func moved(before, after cost.Money) string {
	switch {
	case after > before:
		return "+" + month(after-before)
	case after < before:
		return "-" + month(before-after)
	}
	return ""
}

// byTag prints what the things of each value of a tag cost after the pending edits, and how that differs from now.
func (p *Printer) byTag(before, after cost.Bill, key string) {
	var values []string
	hours := func(b cost.Bill) map[string]cost.Money {
		sums := map[string]cost.Money{}
		for _, s := range b.ByTag(key) {
			if sums[s.Value] = s.Hour; !slices.Contains(values, s.Value) {
				values = append(values, s.Value)
			}
		}
		return sums
	}
	hour, was := hours(after), hours(before)
	var rows [][]string
	for _, v := range values {
		name := key + "=" + v
		if v == "" {
			name = "without " + key
		}
		rows = append(rows, []string{name, hourly(hour[v]), month(hour[v]), moved(was[v], hour[v])})
	}
	heads := []string{"TAG", after.Currency + " AN HOUR", "A MONTH", "PENDING"}
	if maps.Equal(hour, was) {
		heads = heads[:3]
		for i := range rows {
			rows[i] = rows[i][:3]
		}
	}
	p.Table(heads, rows, 1, 2, 3)
}

func (p *Printer) outward(prices cost.Prices, gb int, currency string) {
	parts, sum := prices.Transfer(gb)
	var rows [][]string
	for _, t := range parts {
		reach := fmt.Sprintf("%d to %d GB", t.From, t.UpTo)
		if t.UpTo == 0 {
			reach = fmt.Sprintf("beyond %d GB", t.From)
		}
		row := []string{reach, hourly(t.Tier.GB)}
		if gb > 0 {
			row = append(row, fmt.Sprint(t.GB), t.Cost.String())
		}
		rows = append(rows, row)
	}
	heads := []string{"TRANSFER OUTWARD A MONTH", currency + " A GB"}
	if gb > 0 {
		heads = append(heads, "GB", currency)
		rows = append(rows, []string{"all of it", "", fmt.Sprint(gb), sum.String()})
	}
	p.Table(heads, rows, 1, 2, 3)
	if gb == 0 {
		p.Note("what some transfer would cost: ironbark cost --transfer GB")
	}
}

// costLine is a part of the document CostDoc.
type costLine struct {
	Kind  string `json:"kind"`
	Name  string `json:"name"`
	What  string `json:"what"`
	Hour  string `json:"hour"`
	Month string `json:"month"`
	Stray bool   `json:"stray"` // it runs, and is in no file
}

// costShare is a part of the document CostDoc.
type costShare struct {
	Tag   string `json:"tag"`
	Value string `json:"value"`
	Month string `json:"month"`
}

// costTier is a part of the document CostDoc.
type costTier struct {
	UpTo  int    `json:"upToGB,omitempty"`
	PerGB string `json:"perGB"`
	GB    int    `json:"gb"`
	Cost  string `json:"cost"`
}

// CostDoc is the document that CostJSON makes.
type CostDoc struct {
	Before BillDoc     `json:"before"`
	After  BillDoc     `json:"after"`
	Lines  []costLine  `json:"lines"`
	ByTag  []costShare `json:"byTag"`
	Tiers  []costTier  `json:"outward"`
}

// CostJSON is the document of what an estate costs.
func CostJSON(before, after cost.Bill, prices cost.Prices, gb int) CostDoc {
	money := func(m cost.Money) string { return m.String() + " " + after.Currency }
	doc := CostDoc{BillJSON(before), BillJSON(after), []costLine{}, []costShare{}, []costTier{}}
	for _, l := range after.Lines {
		doc.Lines = append(doc.Lines, costLine{l.Kind, l.Name, l.What, hourly(l.Hour) + " " + after.Currency, money(l.Hour * cost.HoursAMonth), l.Stray})
	}
	for _, key := range after.TagKeys() {
		for _, s := range after.ByTag(key) {
			doc.ByTag = append(doc.ByTag, costShare{key, s.Value, money(s.Hour * cost.HoursAMonth)})
		}
	}
	parts, _ := prices.Transfer(gb)
	for _, t := range parts {
		doc.Tiers = append(doc.Tiers, costTier{t.UpTo, hourly(t.Tier.GB) + " " + after.Currency, t.GB, money(t.Cost)})
	}
	return doc
}

// holder is a public IPv4 address and what has it.
type holder struct {
	Address string `json:"address"`
	By      string `json:"by"`
}

// holders lists who has the public IPv4 addresses of a site.
func holders(st *work.State) (list []holder) {
	for _, t := range st.Report.Resources {
		if !t.Given.Addr4.IsValid() || t.Kind != change.Address && len(t.Spec.Reserved) > 0 {
			continue
		}
		by := t.ID()
		if t.Kind == change.Address {
			by = "reserved as " + t.Name
			if who := holderOf(t.Name, st); who != "" {
				by += ", leads to " + who
			}
		}
		list = append(list, holder{t.Given.Addr4.String(), by})
	}
	slices.SortFunc(list, func(a, b holder) int { return strings.Compare(a.Address, b.Address) })
	return list
}

// Quota prints what is used of the limits, of each pool of public addresses, and who holds them.
func (p *Printer) Quota(r *work.Review, st *work.State, pools []cost.Pool) {
	before, after := r.Before.Used.Against(r.Limits), r.After.Used.Against(r.Limits)
	var rows [][]string
	for i, q := range after {
		left := fmt.Sprint(q.Limit - q.Used)
		if q.Used > q.Limit {
			left = p.Bad("too much")
		}
		rows = append(rows, []string{q.What, fmt.Sprint(before[i].Used), fmt.Sprint(q.Used), fmt.Sprint(q.Limit), left})
	}
	p.Table([]string{"WHAT", "USED", "AFTER PENDING", "LIMIT", "LEFT"}, rows, 1, 2, 3, 4)
	if rows = poolRows(poolsHeld(st, pools)); len(rows) > 0 {
		p.Line("")
		p.Table([]string{"PUBLIC ADDRESSES", "HELD", "FREE"}, rows, 1, 2)
	}
	list := holders(st)
	if len(list) == 0 {
		return
	}
	p.Line("")
	rows = nil
	for _, h := range list {
		rows = append(rows, []string{h.Address, h.By})
	}
	p.Table([]string{"PUBLIC ADDRESS", "HELD BY"}, rows)
}

// poolDoc is a part of the document QuotaDoc.
type poolDoc struct {
	First string `json:"first"`
	Last  string `json:"last"`
	Held  int    `json:"held"`
	Free  *int   `json:"free"` // of IPv6 it is null: there are always more

	pool cost.Pool
}

// poolsHeld are pools with how many of their addresses somebody holds.
func poolsHeld(st *work.State, pools []cost.Pool) []poolDoc {
	list := []poolDoc{}
	for _, pool := range pools {
		one := poolDoc{First: pool.First.String(), Last: pool.Last.String(), pool: pool}
		for _, t := range st.Report.Resources {
			for _, a := range []netip.Addr{t.Given.Addr4, t.Given.Addr6} {
				if a.IsValid() && pool.Has(a) && (t.Kind == change.Address || len(t.Spec.Reserved) == 0) {
					one.Held++
				}
			}
		}
		if size, ok := pool.Size(); ok {
			free := size - one.Held
			one.Free = &free
		}
		list = append(list, one)
	}
	return list
}

func poolRows(list []poolDoc) (rows [][]string) {
	for _, one := range list {
		free := ""
		if one.Free != nil {
			free = fmt.Sprint(*one.Free)
		}
		rows = append(rows, []string{one.pool.String(), fmt.Sprint(one.Held), free})
	}
	return rows
}

// quotaQuantity is a part of the document QuotaDoc.
type quotaQuantity struct {
	What  string `json:"what"`
	Used  int    `json:"used"`
	After int    `json:"after"`
	Limit int    `json:"limit"`
}

// QuotaDoc is the document that QuotaJSON makes.
type QuotaDoc struct {
	Quota   []quotaQuantity `json:"quota"`
	Pools   []poolDoc       `json:"pools"`
	Holders []holder        `json:"addresses"`
}

// QuotaJSON is the document of the limits.
func QuotaJSON(r *work.Review, st *work.State, pools []cost.Pool) QuotaDoc {
	doc := QuotaDoc{[]quotaQuantity{}, poolsHeld(st, pools), append([]holder{}, holders(st)...)}
	before := r.Before.Used.Against(r.Limits)
	for i, q := range r.After.Used.Against(r.Limits) {
		doc.Quota = append(doc.Quota, quotaQuantity{q.What, before[i].Used, q.Used, q.Limit})
	}
	return doc
}
