// Package syslog writes messages of the syslog protocol (RFC 5424), and frames them for streams (RFC 6587, section 3.4.1: octet counting, which RFC 5425 has for
// TLS too). It is pure.
package syslog

import (
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Severity says how urgent a message is (RFC 5424, section 6.2.1). The zero Severity is the most urgent.
type Severity int

// The severities that are used.
const (
	Alert  Severity = 1
	Notice Severity = 5
	Info   Severity = 6
)

// Audit is the facility “log audit” (RFC 5424, section 6.2.1).
const Audit = 13

// Message is one message. What may not stand in a field of its header is replaced by “_”, and an empty field is “-”.
type Message struct {
	Facility int
	Severity Severity
	At       time.Time
	Host     string
	App      string
	Process  string
	ID       string
	DataID   string  // of the structured data; "": there is none
	Data     []Param // in this order
	Text     string  // UTF-8, in one line
}

// Param is a parameter of structured data.
type Param struct{ Name, Value string }

// mostValue is how long a value of structured data is at most, in bytes.
const mostValue = 256

// Append appends the message in at most so many bytes: a longer text is cut at a character, with “…” at its end. most 0 is no bound; else it must have
// room for the header and the structured data, whose values are cut at 256 bytes.
func (m Message) Append(b []byte, most int) []byte {
	begin := len(b)
	b = append(b, '<')
	b = strconv.AppendInt(b, int64(m.Facility*8)+int64(m.Severity), 10)
	b = append(b, ">1 "...)
	b = m.At.UTC().AppendFormat(b, "2006-01-02T15:04:05.000000Z")
	for _, f := range []struct {
		text string
		most int
	}{{m.Host, 255}, {m.App, 48}, {m.Process, 128}, {m.ID, 32}} { // RFC 5424, section 6
		b = append(append(b, ' '), header(f.text, f.most)...)
	}
	b = append(b, ' ')
	if m.DataID == "" {
		b = append(b, '-')
	} else {
		b = append(append(b, '['), header(m.DataID, 32)...)
		for _, p := range m.Data {
			b = append(append(append(b, ' '), header(p.Name, 32)...), '=', '"')
			b = append(append(b, escaper.Replace(cut(oneLine(p.Value), mostValue))...), '"')
		}
		b = append(b, ']')
	}
	text := oneLine(m.Text)
	if text == "" {
		return b
	}
	b = append(b, " \ufeff"...) // it is UTF-8 (RFC 5424, section 6.4)
	if most > 0 {
		text = cut(text, most-(len(b)-begin))
	}
	return append(b, text...)
}

// cut returns a text in at most so many bytes: a longer one is cut at a character, with “…” at its end.
func cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	end := max(most-len("…"), 0)
	for end > 0 && !utf8.RuneStart(text[end]) {
		end--
	}
	return text[:end] + "…"
}

// Framed returns a message as a stream carries it.
func Framed(message []byte) []byte {
	return append(append(strconv.AppendInt(nil, int64(len(message)), 10), ' '), message...)
}

// escaper writes a value of structured data (RFC 5424, section 6.3.3).
var escaper = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

// header is a field of a header: printable ASCII without spaces, and for names of structured data without =, ] and ".
func header(text string, most int) string {
	if text == "" {
		return "-"
	}
	text = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' || strings.ContainsRune(`="]`, r) {
			return '_'
		}
		return r
	}, text)
	return text[:min(len(text), most)]
}

// oneLine replaces what no line of a log may hold.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "\ufffd"))
}
