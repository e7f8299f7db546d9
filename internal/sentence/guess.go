package sentence

import (
	"slices"
	"strings"
	"time"
)

// verbsFor are words that people type for a verb of the grammar.
var verbsFor = map[string]Verb{
	"block": VerbDeny, "reject": VerbDeny, "drop": VerbDeny, "forbid": VerbDeny, "refuse": VerbDeny, "ban": VerbDeny,
	"accept": VerbAllow, "enable": VerbAllow, "let": VerbAllow, "grant": VerbAllow,
	"publish": VerbForward, "expose": VerbForward, "map": VerbForward,
	"can": VerbWhy, "check": VerbWhy, "is": VerbWhy, "explain": VerbWhy, "test": VerbWhy,
}

// Guess returns the sentence that somebody probably means by words that are none, with
// words in capitals for what is missing; "" where too little is understood. It is never for more than what was typed: each limit is in it. now is
// what lengths of time count from.
func Guess(words []string, now time.Time) string {
	l, err := lexArgs(words)
	if err != nil {
		return ""
	}
	tokens, _ := natural(l.tokens)
	return guess(tokens, now)
}

// parts are what was understood of words that are no sentence.
type parts struct {
	services, from, to, length, until, reason []string
	strange                                   int
}

// guess sorts words by what they can be, wherever they stand, and puts them into the order
// of their verb.
func guess(tokens []token, now time.Time) string {
	if len(tokens) == 0 || tokens[0].kind != tokenWord {
		return ""
	}
	verb := Verb(0)
	for v := VerbAllow; v <= VerbProbe; v++ {
		if v.String() == tokens[0].text {
			verb = v
		}
	}
	if v, known := verbsFor[tokens[0].text]; known && verb == 0 {
		verb = v
	}
	if verb == 0 {
		return ""
	}
	p, who := parts{}, []string{}
	if verb == VerbPermit { // people stand before all else
		for len(tokens) > 1 && tokens[1].kind != tokenEnd && !isService(tokens[1].text) && tokens[1].text != "to" {
			if tokens[1].kind == tokenWord {
				who = append(who, tokens[1].text)
			}
			tokens = tokens[1:]
		}
	}
	p = sortParts(tokens[1:], now)
	front := "FRONT"
	if verb == VerbForward {
		to := slices.ContainsFunc(tokens, func(t token) bool { return t.text == "to" })
		if (to || len(p.to) > 1) && len(p.to) > 0 && p.to[0] == tokens[1].text && ValidName(p.to[0]) == nil { // the front is before all else
			front, p.to = p.to[0], p.to[1:]
		}
		if len(p.to) > 1 { // it leads to one
			return ""
		}
	}
	if n := len(p.services) + len(p.from) + len(p.to); n < 2 && !(verb == VerbDeny && n > 0) || p.strange > 0 {
		return ""
	}
	or := func(list []string, word string) string {
		if len(list) == 0 {
			return word
		}
		return strings.Join(list, ", ")
	}
	services, from, to := or(p.services, "SERVICES"), or(p.from, "SOURCE"), or(p.to, "TARGET")
	if verb == VerbDeny { // who is kept out is kept out of all
		services, to = or(p.services, "any"), or(p.to, "all")
	}
	switch verb {
	case VerbNever, VerbAlways, VerbWhy, VerbProbe:
		if len(p.length)+len(p.until) > 0 { // they take no end
			return ""
		}
		return verb.String() + " " + services + " from " + from + " to " + to
	case VerbAllow, VerbDeny:
		return verb.String() + " " + services + " from " + from + " to " + to + p.tail(now)
	case VerbOpen:
		reason := `because "REASON"`
		if len(p.reason) > 0 {
			reason = "because " + Quote(p.reason[0])
		}
		text := "open " + services + " to " + to
		if len(p.from) > 0 { // otherwise it is the caller's own address
			text += " from " + from
		}
		switch { // otherwise it is an hour
		case len(p.until) > 0:
			text += " until " + p.until[0]
		case len(p.length) > 0:
			text += " for " + or(p.length, "")
		}
		return text + " " + reason
	case VerbForward:
		on := services
		if len(p.services) == 2 {
			services, on = p.services[0], p.services[1]
		}
		return "forward " + front + " " + services + " to " + to + " on " + on + p.tail(now)
	case VerbPermit:
		return "permit " + or(who, "PEOPLE") + " to open " + services + " to " + to + " from " + from + " up to " + or(p.length, "LENGTH") + parts{until: p.until}.tail(now)
	}
	return ""
}

// tail is the end and the reason that were understood, as allow, deny and forward have them.
func (p parts) tail(now time.Time) (text string) {
	switch {
	case len(p.until) > 0:
		text = " until " + p.until[0]
	case len(p.length) > 0:
		d, err := ParseDuration(p.length[0])
		if err != nil {
			return ""
		}
		text = " until " + now.Add(d.Length()).UTC().Format(time.RFC3339)
	}
	if len(p.reason) > 0 {
		text += " because " + Quote(p.reason[0])
	}
	return text
}

// endOf reads when something is to end, as people type it; tomorrow is when that day begins.
func endOf(text string, now time.Time) (string, bool) {
	if text == "tomorrow" {
		y, m, d := now.UTC().AddDate(0, 0, 1).Date()
		return time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Format(time.RFC3339), true
	}
	t, err := parseTime(text, true, now)
	return t.UTC().Format(time.RFC3339), err == nil
}

// sortParts sorts words by what they are, and names by the word before them.
func sortParts(tokens []token, now time.Time) (p parts) {
	before, named := "", false // a preposition, and whether it has what it names
	for i := 0; i < len(tokens); i++ {
		t, comma := tokens[i], i > 0 && tokens[i-1].kind == tokenComma
		if t.kind == tokenComma || t.kind == tokenEnd {
			continue
		}
		if t.kind == tokenString {
			p.reason = append(p.reason, t.text)
			continue
		}
		one := &parser{lex: &lexer{}, tokens: append(slices.Clone(tokens[i:]), token{}), natural: true, typed: true}
		if before == "for" || before == "up" || before == "until" {
			if d, ok := one.naturalDuration(); ok {
				p.length = append(p.length, d.String())
				i += one.i - 1
				continue
			}
			if end, ok := endOf(t.text, now); ok {
				p.until, before = append(p.until, end), ""
				continue
			}
			if before != "for" {
				p.strange++
			}
		}
		if s, ok := one.naturalPort(); ok {
			p.services = append(p.services, s.String())
			i += one.i - 1
			continue
		}
		switch a, err := ParseAtom(t.text); {
		case slices.Contains([]string{"from", "to", "on", "at", "into", "for", "until", "up", "by", "via", "in", "of"}, t.text):
			before, named = t.text, false
		case slices.Contains([]string{"port", "ports", "the", "and", "service", "services", "access", "machine", "traffic", "a", "an", "reach", "open", "with", "can", "is", "does", "do", "what", "who"}, t.text):
		case before == "via" || t.text == "emergency": // by what is not guessed, and without it the sentence would be another
			p.strange++
		case t.text == "any" && (before == "from" || before == "by"):
			p.from = append(p.from, "everywhere")
		case t.text == "any" && before == "to":
			p.to = append(p.to, "all")
		case isService(t.text):
			if _, err := ParseService(t.text); err != nil && t.text != "any" {
				p.strange++
				continue
			}
			p.services = append(p.services, t.text)
		case slices.Contains(anyWords, t.text) && len(p.services) == 0 && before == "":
			p.services = append(p.services, "any")
		case slices.Contains(everywhereWords, t.text):
			p.from = append(p.from, "everywhere")
		case err != nil, before == "for" && a.kind != Me, named && !comma: // a word after the one that a preposition names
			p.strange++
		case a.kind == Address || a.kind == Prefix || a.kind == Range || a.kind == Everywhere || a.kind == Internet || a.kind == Me:
			p.from = append(p.from, t.text)
		case before == "from" || before == "by":
			p.from, named = append(p.from, t.text), true
		default:
			p.to, named = append(p.to, t.text), before != ""
		}
	}
	return p
}

// isService reports whether a word can be nothing but a service.
func isService(word string) bool {
	if _, known := shipped[word]; known || word == "any" || word == "ping" || word == AdminName {
		return true
	}
	return strings.HasPrefix(word, "tcp/") || strings.HasPrefix(word, "udp/")
}
