package sentence

import (
	"slices"
	"strings"
)

// verbsFor are words that people type for a verb of the grammar.
var verbsFor = map[string]Verb{
	"block": VerbDeny, "reject": VerbDeny, "drop": VerbDeny, "forbid": VerbDeny, "refuse": VerbDeny, "ban": VerbDeny,
	"accept": VerbAllow, "enable": VerbAllow, "let": VerbAllow, "grant": VerbAllow,
	"publish": VerbForward, "expose": VerbForward, "map": VerbForward,
	"can": VerbWhy, "check": VerbWhy, "is": VerbWhy, "explain": VerbWhy, "test": VerbWhy,
}

// Guess returns the sentence that somebody probably means by words that are none, with
// words in capitals for what is missing; "" where too little is understood.
func Guess(words []string) string {
	l, err := lexArgs(words)
	if err != nil {
		return ""
	}
	tokens, _ := natural(l.tokens)
	return guess(tokens)
}

// parts are what was understood of words that are no sentence.
type parts struct {
	services, from, to, length, reason []string
	strange                            int
}

// guess sorts words by what they can be, wherever they stand, and puts them into the order
// of their verb.
func guess(tokens []token) string {
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
	p = sortParts(tokens[1:])
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
	case VerbAllow, VerbDeny, VerbNever, VerbAlways, VerbWhy, VerbProbe:
		return verb.String() + " " + services + " from " + from + " to " + to
	case VerbOpen:
		reason := `because "REASON"`
		if len(p.reason) > 0 {
			reason = "because " + Quote(p.reason[0])
		}
		text := "open " + services + " to " + to
		if len(p.from) > 0 { // otherwise it is the caller's own address
			text += " from " + from
		}
		if len(p.length) > 0 { // otherwise it is an hour
			text += " for " + or(p.length, "")
		}
		return text + " " + reason
	case VerbForward:
		on := services
		if len(p.services) == 2 {
			services, on = p.services[0], p.services[1]
		}
		return "forward FRONT " + services + " to " + to + " on " + on
	case VerbPermit:
		return "permit " + or(who, "PEOPLE") + " to open " + services + " to " + to + " from " + from + " up to " + or(p.length, "LENGTH")
	}
	return ""
}

// sortParts sorts words by what they are, and names by the word before them.
func sortParts(tokens []token) (p parts) {
	before := ""
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
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
		}
		if s, ok := one.naturalPort(); ok {
			p.services = append(p.services, s.String())
			i += one.i - 1
			continue
		}
		switch a, err := ParseAtom(t.text); {
		case slices.Contains([]string{"from", "to", "on", "at", "into", "for", "until", "up", "by", "via", "in", "of"}, t.text):
			before = t.text
		case slices.Contains([]string{"port", "ports", "the", "and", "service", "services", "access", "machine", "traffic", "a", "an", "reach", "open", "with", "can", "is", "does", "do", "what", "who"}, t.text):
		case before == "via": // through what is not guessed
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
		case err != nil:
			p.strange++
		case a.kind == Address || a.kind == Prefix || a.kind == Range || a.kind == Everywhere || a.kind == Internet || a.kind == Me:
			p.from = append(p.from, t.text)
		case before == "from" || before == "by":
			p.from = append(p.from, t.text)
		default:
			p.to = append(p.to, t.text)
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
