package sentence

import "strings"

// String prints the sentence in its canonical form.
func (a Allow) String() string {
	return phrase(a.Services.String(), " from ", a.From.String(), " to ", a.To.String(), standing(a.Standing), a.Tail.String()).after("allow ")
}

// String prints the sentence in its canonical form.
func (d Deny) String() string {
	return phrase(d.Services.String(), " from ", d.From.String(), " to ", d.To.String(), d.Tail.String()).after("deny ")
}

// String prints the sentence in its canonical form.
func (f Forward) String() string {
	p := phrase(f.Front.Text, " ", f.Service.String(), " to ", f.To.String(), " on ", f.On.String())
	return (p + phrase(FromWords(f.From), standing(f.Standing), f.Tail.String())).after("forward ")
}

// String prints the sentence in its canonical form.
func (s Spread) String() string {
	p := phrase(s.Front.Text, " ", s.Service.String(), " over ", s.Over.String(), " on ", s.On.String())
	return (p + phrase(FromWords(s.From), s.Tested.String())).after("spread ")
}

// String prints the sentence in its canonical form.
func (r Route) String() string {
	return phrase(r.Services.String(), " to ", r.To.String(), " via ", r.Via.Text, " for ", joined(r.For)).after("route ")
}

// String prints the sentence in its canonical form.
func (m Permit) String() string {
	p := phrase(joined(m.People), " to open ", m.Services.String(), " to ", m.To.String(), FromWords(m.From), " up to ", m.UpTo.String())
	if m.Approvals > 0 {
		word := " approvals from "
		if m.Approvals == 1 {
			word = " approval from "
		}
		p += phrase(" needing ", string(rune('0'+m.Approvals)), word, joined(m.Approvers))
	}
	p += emergency(m.Emergency)
	if !m.Until.IsZero() {
		p += phrase(" until ", printTime(m.Until))
	}
	return p.after("permit ")
}

// String prints the sentence in its canonical form.
func (n Never) String() string {
	return phrase(n.Services.String(), " from ", n.From.String(), " to ", n.To.String(), standing(n.Standing)).after("never ")
}

// String prints the sentence in its canonical form.
func (a Always) String() string {
	return phrase(a.Services.String(), " from ", a.From.String(), " to ", a.To.String()).after("always ")
}

// String prints the sentence in its canonical form.
func (o Open) String() string {
	p := phrase(o.Services.String(), " to ", o.To.String(), FromWords(o.From))
	if !o.Starting.IsZero() {
		p += phrase(" starting ", printTime(o.Starting))
	}
	if !o.For.IsZero() {
		p += phrase(" for ", o.For.String())
	} else {
		p += phrase(" until ", printTime(o.Until))
	}
	return (p + emergency(o.Emergency) + phrase(" because ", Quote(o.Because))).after("open ")
}

// String prints the question in its canonical form.
func (a Ask) String() string {
	if a.Via.Text != "" {
		from := joined(a.For)
		if len(a.For) == 0 {
			from = a.From.String()
		}
		return phrase(a.Services.String(), " from ", from, " via ", a.Via.Text, " to ", a.To.String()).after(a.Verb().String() + " ")
	}
	return phrase(a.Services.String(), FromWords(a.From), " to ", a.To.String()).after(a.Verb().String() + " ")
}

// String prints the tail with a space before it; "" for the zero Tail.
func (t Tail) String() string {
	var b strings.Builder
	if !t.Until.IsZero() {
		b.WriteString(" until " + printTime(t.Until))
	}
	if t.Because != "" {
		b.WriteString(" because " + Quote(t.Because))
	}
	return b.String()
}

// String prints the test with a space before it; "" for none.
func (t Test) String() string {
	switch t.Kind {
	case TestTCP:
		return " tested by tcp"
	case TestHTTP:
		return " tested by http " + t.Path
	}
	return ""
}

// words is a part of a printed sentence.
type words string

func phrase(parts ...string) words { return words(strings.Join(parts, "")) }

func (w words) after(verb string) string { return verb + string(w) }

func standing(is bool) string {
	if is {
		return " standing"
	}
	return ""
}

func emergency(is bool) words {
	if is {
		return " in emergency"
	}
	return ""
}

// FromWords returns a source as a sentence writes it, with “from” and a space before it; "" where the sentence writes none.
func FromWords(s Set) string {
	if s.IsEmpty() || s.AtConsole() {
		return ""
	}
	return " from " + s.String()
}
