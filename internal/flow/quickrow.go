package flow

import "ironbark/internal/quickjson"

// machineRow reads the row of a machine as [Plan.Rows] writes it,: a plan
// has as many as machines. It reports false for a row in any other form, which may be as good.
func machineRow(body string) (m Machine, ok bool) {
	r := quickjson.Of(body)
	r.Must(`{"name":"`)
	m.Name = r.String()
	if r.May(`,"interfaces":[`) {
		for next := true; next && r.OK(); next = r.May(",") {
			r.Must(`{"subnet":"`)
			i := Interface{Subnet: r.String()}
			r.Must(`,"network":"`)
			i.Network = r.String()
			r.Must(`,"addresses":[`)
			for next := true; next && r.OK(); next = r.May(",") {
				r.Must(`"`)
				i.Addrs = append(i.Addrs, r.Addr())
			}
			r.Must("]}")
			m.Interfaces = append(m.Interfaces, i)
		}
		r.Must("]")
	}
	m.Public.Wants4 = r.May(`,"wants4":true`)
	m.Public.Wants6 = r.May(`,"wants6":true`)
	if r.May(`,"public4":"`) {
		m.Public.Addr4 = r.Addr()
	}
	if r.May(`,"public6":"`) {
		m.Public.Addr6 = r.Addr()
	}
	r.Must("}")
	return m, r.Done()
}

// groupRow reads the row of a group of machines, as machineRow does that of a machine.
func groupRow(body string) (n rowNoun, ok bool) {
	r := quickjson.Of(body)
	r.Must(`{"name":"`)
	n.Name = r.String()
	if r.May(`,"machines":`) {
		n.Machines = r.Strings()
	}
	r.Must("}")
	return n, r.Done()
}

// ruleRow reads the row of a rule or a door, as machineRow does that of a machine.
func ruleRow(body string) (b rowRule, ok bool) {
	r := quickjson.Of(body)
	r.Must(`{"kind":"`)
	b.Kind = r.String()
	if r.May(`,"from":`) {
		b.From = r.Strings()
	}
	r.Must(`,"group":"`)
	b.Group = r.String()
	if r.May(`,"services":`) {
		b.Services = r.Strings()
	}
	if r.May(`,"front":"`) {
		b.Front = r.String()
	}
	if r.May(`,"service":"`) {
		b.Service = r.String()
	}
	if r.May(`,"on":"`) {
		b.On = r.String()
	}
	b.Standing = r.May(`,"standing":true`)
	if r.May(`,"begin":"`) {
		b.Begin = moment(r.Moment())
	}
	if r.May(`,"until":"`) {
		b.Until = moment(r.Moment())
	}
	if r.May(`,"opening":`) {
		b.Opening = int64(r.Number())
	}
	r.Must(`,"sentence":"`)
	b.Sentence = r.String()
	if r.May(`,"file":"`) {
		b.File = r.String()
	}
	if r.May(`,"line":`) {
		b.Line = r.Number()
	}
	r.Must("}")
	return b, r.Done()
}
