package flow

import (
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// machineRow reads the row of a machine as [Plan.Rows] writes it, field by field: a plan
// has as many as machines, and a general reader of JSON takes five times as long. It
// reports false for a row in any other form, which may be as good.
func machineRow(body string) (m Machine, ok bool) {
	r := rowText{rest: body, ok: true}
	r.must(`{"name":"`)
	m.Name = r.text()
	if r.may(`,"interfaces":[`) {
		for next := true; next && r.ok; next = r.may(",") {
			r.must(`{"subnet":"`)
			i := Interface{Subnet: r.text()}
			r.must(`,"network":"`)
			i.Network = r.text()
			r.must(`,"addresses":[`)
			for next := true; next && r.ok; next = r.may(",") {
				r.must(`"`)
				i.Addrs = append(i.Addrs, r.addr())
			}
			r.must("]}")
			m.Interfaces = append(m.Interfaces, i)
		}
		r.must("]")
	}
	m.Public.Wants4 = r.may(`,"wants4":true`)
	m.Public.Wants6 = r.may(`,"wants6":true`)
	if r.may(`,"public4":"`) {
		m.Public.Addr4 = r.addr()
	}
	if r.may(`,"public6":"`) {
		m.Public.Addr6 = r.addr()
	}
	r.must("}")
	return m, r.ok && r.rest == ""
}

// ruleRow reads the row of a rule, as machineRow does that of a machine.
func ruleRow(body string) (b rowRule, ok bool) {
	r := rowText{rest: body, ok: true}
	r.must(`{"kind":"`)
	b.Kind = r.text()
	if r.may(`,"from":`) {
		b.From = r.texts()
	}
	r.must(`,"group":"`)
	b.Group = r.text()
	if r.may(`,"services":`) {
		b.Services = r.texts()
	}
	if r.may(`,"begin":"`) {
		b.Begin = r.moment()
	}
	if r.may(`,"until":"`) {
		b.Until = r.moment()
	}
	if r.may(`,"opening":`) {
		b.Opening = int64(r.number())
	}
	r.must(`,"sentence":"`)
	b.Sentence = r.text()
	if r.may(`,"file":"`) {
		b.File = r.text()
	}
	if r.may(`,"line":`) {
		b.Line = r.number()
	}
	r.must("}")
	return b, r.ok && r.rest == ""
}

// rowText reads a text from left to right. ok is false once it was not as expected.
type rowText struct {
	rest string
	ok   bool
}

func (r *rowText) may(prefix string) bool {
	rest, found := strings.CutPrefix(r.rest, prefix)
	r.rest = rest
	return found
}

func (r *rowText) must(prefix string) { r.ok = r.may(prefix) && r.ok }

// text reads up to the closing quotation mark. Whatever JSON would write in another way
// than it reads is not as expected.
func (r *rowText) text() string {
	text, rest, found := strings.Cut(r.rest, `"`)
	for i := range len(text) {
		found = found && text[i] >= ' ' && text[i] < 0x7f && text[i] != '\\'
	}
	r.ok = r.ok && found
	r.rest = rest
	return text
}

func (r *rowText) addr() netip.Addr {
	a, err := netip.ParseAddr(r.text())
	r.ok = r.ok && err == nil
	return a
}

// texts reads a list of texts.
func (r *rowText) texts() (list []string) {
	r.must("[")
	for next := true; next && r.ok; next = r.may(",") {
		r.must(`"`)
		list = append(list, r.text())
	}
	r.must("]")
	return list
}

func (r *rowText) moment() *time.Time {
	t, err := time.Parse(time.RFC3339Nano, r.text())
	r.ok = r.ok && err == nil
	return &t
}

func (r *rowText) number() int {
	digits := r.rest[:len(r.rest)-len(strings.TrimLeft(r.rest, "0123456789"))]
	n, err := strconv.Atoi(digits)
	r.ok = r.ok && err == nil && digits[0] != '0'
	r.rest = r.rest[len(digits):]
	return n
}
