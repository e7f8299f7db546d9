package sentence

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/fault"
)

// ParseTyped is [ParseArgs] for words as people type them first: where they have one
// meaning they are understood, and printed canonically. read says whether anything was
// understood that is not of the grammar, so that the reader can be told. An error
// carries the sentence that was probably meant, where there is one.
//
// Understood are anywhere, anyone and the internet; and between members of a list; capital
// letters; 443, port 443, 443/tcp and tcp 443; 2 hours, 60min and an hour; for in place of
// up to; and parts in any order.
func ParseTyped(args []string, now time.Time) (s Sentence, read bool, err error) {
	l, lexed := lexArgs(args)
	if lexed != nil {
		return nil, false, lexed
	}
	p := parserOf(l, now)
	p.natural = true
	p.tokens, p.read = natural(p.tokens)
	s = p.whole()
	if p.err != nil {
		if probably := guess(p.tokens, now); probably != "" && parses(probably, now) && !p.near {
			p.err.Remedy = fault.Join("; ", p.err.Remedy, fault.Say("perhaps you mean: "+probably))
		}
		return nil, false, p.err
	}
	return s, p.read, nil
}

// parses reports whether a guess is a sentence, once something is in the place of its words in capitals.
// An opening may lack what it has by itself.
func parses(guess string, now time.Time) bool {
	if strings.HasPrefix(guess, "open ") {
		return true
	}
	for word, with := range map[string]string{"SERVICES": "any", "SOURCE": "everywhere", "TARGET": "all", "PEOPLE": "ops", "LENGTH": "1h", "FRONT": "pier"} {
		guess = strings.ReplaceAll(guess, word, with)
	}
	_, err := ParseArgs([]string{guess}, now)
	return err == nil
}

// everywhereWords are what people say for everywhere.
var everywhereWords = []string{"anywhere", "anyone", "anybody", "everyone", "everybody"}

// natural puts the words of the grammar in place of others that mean the same wherever
// they stand, and reports whether there were any.
func natural(tokens []token) (out []token, read bool) {
	at := func(i int) token {
		if i < 0 || i >= len(tokens) {
			return token{}
		}
		return tokens[i]
	}
	member := func(t token) bool { return t.kind == tokenWord && !grammatical(t.text) }
	for i, t := range tokens {
		if t.kind != tokenWord {
			out = append(out, t)
			continue
		}
		if lower := strings.ToLower(t.text); lower != t.text && isNameShape(lower) {
			t.text, read = lower, true
		}
		switch next := at(i + 1); {
		case t.text == "and" && member(at(i-1)) && member(next):
			t, read = token{kind: tokenComma, at: t.at}, true
		case t.text == "and" && at(i-1).kind == tokenComma && member(next):
			read = true
			continue
		case t.text == "the" && strings.EqualFold(next.text, "internet"):
			read = true
			continue
		}
		out = append(out, t)
	}
	return out, read
}

// grammatical are the words that part one list from the next.
func grammatical(word string) bool {
	return slices.Contains([]string{"from", "to", "over", "on", "via", "for", "until", "because", "except", "up", "needing", "standing", "in"}, word)
}

// anyWords are what people say for any service.
var anyWords = []string{"all", "everything", "anything"}

// naturalAny takes what people say for any service.
func (p *parser) naturalAny() bool {
	if t := p.peek(); !p.natural || p.err != nil || t.kind != tokenWord || !slices.Contains(anyWords, t.text) {
		return false
	}
	p.advance()
	p.read = true
	return true
}

// naturalPort reads a port as people write it: 443, 443/tcp, port 443, tcp 443.
func (p *parser) naturalPort() (Service, bool) {
	if !p.natural || p.err != nil {
		return Service{}, false
	}
	t, next := p.peek(), token{}
	if p.i+1 < len(p.tokens) {
		next = p.tokens[p.i+1]
	}
	proto, ports, used := "tcp", t.text, 1
	switch {
	case next.kind == tokenWord && isPorts(next.text) && slices.Contains([]string{"port", "ports", "tcp", "udp"}, t.text):
		if ports, used = next.text, 2; t.text == "udp" {
			proto = "udp"
		}
	case strings.HasSuffix(t.text, "/tcp"), strings.HasSuffix(t.text, "/udp"):
		ports, proto = t.text[:len(t.text)-4], t.text[len(t.text)-3:]
	}
	if t.kind != tokenWord || !isPorts(ports) {
		return Service{}, false
	}
	s, err := ParseService(proto + "/" + ports)
	if err != nil {
		return Service{}, false
	}
	s.at = t.at
	for range used {
		p.advance()
	}
	p.read = true
	return s, true
}

func isPorts(text string) bool {
	return text != "" && strings.Trim(text, "0123456789-") == "" && text[0] != '-'
}

// units are the words for units of time, by the letter of the grammar.
var units = map[string]byte{
	"s": 's', "sec": 's', "secs": 's', "second": 's', "seconds": 's', "m": 'm', "min": 'm', "mins": 'm', "minute": 'm', "minutes": 'm',
	"h": 'h', "hr": 'h', "hrs": 'h', "hour": 'h', "hours": 'h', "d": 'd', "day": 'd', "days": 'd',
}

// naturalDuration reads a length of time as people write it: 2 hours, 60min, an hour.
func (p *parser) naturalDuration() (Duration, bool) {
	if !p.natural || p.err != nil || p.peek().kind != tokenWord {
		return Duration{}, false
	}
	var text strings.Builder
	used := 0
	for p.i+used < len(p.tokens) && p.tokens[p.i+used].kind == tokenWord {
		word := p.tokens[p.i+used].text
		number := strings.TrimRight(word, "abcdefghijklmnopqrstuvwxyz")
		unit := word[len(number):]
		if number == "" && (unit == "a" || unit == "an" || unit == "one") {
			number, unit = "1", ""
		}
		steps := 1
		if unit == "" && number != "" && p.i+used+1 < len(p.tokens) && p.tokens[p.i+used+1].kind == tokenWord {
			unit, steps = p.tokens[p.i+used+1].text, 2
		}
		letter, known := units[unit]
		if !known || number == "" || strings.Trim(number, "0123456789") != "" {
			break
		}
		fmt.Fprintf(&text, "%s%c", number, letter)
		used += steps
	}
	d, err := ParseDuration(text.String())
	if used == 0 || err != nil {
		return Duration{}, false
	}
	if used > 1 || p.peek().text != text.String() {
		p.read = true
	}
	for range used {
		p.advance()
	}
	return d, true
}

// MeansEverywhere reports whether people say a word for everywhere.
func MeansEverywhere(word string) bool { return slices.Contains(everywhereWords, word) }

// naturalAtom reads what people say for everywhere.
func (p *parser) naturalAtom() (Atom, bool) {
	if !p.natural || p.err != nil || p.peek().kind != tokenWord || !slices.Contains(everywhereWords, p.peek().text) {
		return Atom{}, false
	}
	t := p.advance()
	p.read = true
	return Atom{kind: Everywhere, text: t.text, at: t.at}, true
}
