package estate

import (
	"fmt"
	"net/netip"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"ironbark/internal/journal"
	"ironbark/internal/sentence"
)

// Recipient is told of entries of the journal: a syslog server, or a command. One of Syslog and Command is set.
type Recipient struct {
	Name    string
	Syslog  Syslog
	Command []string // the program by its absolute path, and its arguments
	Only    []string // kinds of entries; none: all
	At      sentence.Pos
}

// Wants reports whether the recipient is to be told of entries of a kind.
func (t Recipient) Wants(kind string) bool { return len(t.Only) == 0 || slices.Contains(t.Only, kind) }

// To tells in words where what is told goes.
func (t Recipient) To() string {
	if len(t.Command) > 0 {
		return "command " + strings.Join(t.Command, " ")
	}
	return "syslog " + t.Syslog.String()
}

// Syslog is where messages are sent: a socket of this computer, or a server. The zero Syslog is none.
type Syslog struct {
	Transport string // socket, udp, tcp or tls
	Address   string // a path, or HOST:PORT
	CA        string // the file of the authorities that vouch for a server over TLS, in the estate's folder; "": those of the system
}

// String prints a destination as files have it.
func (s Syslog) String() string {
	if s.Transport == syslogSocket {
		return s.Address
	}
	return s.Transport + ":" + s.Address
}

const syslogSocket = "socket"

// syslogPorts are where servers listen: RFC 5426 (UDP), RFC 6587 (TCP) and RFC 5425 (TLS).
var syslogPorts = map[string]int{"udp": 514, "tcp": 601, "tls": 6514}

// ParseSyslog reads a destination: a path, or udp:HOST, tcp:HOST:PORT, tls:HOST:PORT.
func ParseSyslog(text string) (s Syslog, err error) {
	if path.IsAbs(text) {
		if path.Clean(text) != text || len(text) > 107 { // sun_path, unix(7)
			return s, fmt.Errorf("%q is no path of a socket", text)
		}
		return Syslog{Transport: syslogSocket, Address: text}, nil
	}
	transport, rest, found := strings.Cut(text, ":")
	port, known := syslogPorts[transport]
	if !found || !known {
		return s, fmt.Errorf("%q is no syslog destination: write udp:HOST, tcp:HOST:PORT, tls:HOST or the path of a socket such as /dev/log", text)
	}
	host, given := rest, ""
	if a, err := netip.ParseAddr(rest); err == nil {
		host = a.String()
	} else if at, err := netip.ParseAddrPort(rest); err == nil {
		host, given = at.Addr().String(), strconv.Itoa(int(at.Port()))
	} else if host, given, found = strings.Cut(rest, ":"); found && given == "" || len(host) > 253 || !hostName().MatchString(host) {
		return s, fmt.Errorf("%q is no host: write HOST or HOST:PORT, an IPv6 address with a port in brackets", rest)
	}
	if given != "" {
		n, err := strconv.ParseUint(given, 10, 16)
		if err != nil || n == 0 {
			return s, fmt.Errorf("%q is no port", given)
		}
		port = int(n)
	}
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return Syslog{Transport: transport, Address: host + ":" + strconv.Itoa(port)}, nil
}

func (r *reader) recipient(name string, at sentence.Pos, n *yaml.Node) {
	t := Recipient{Name: name, At: at}
	ca, ways := "", 0
	before := len(r.errs)
	r.fields(n, "recipient "+name, map[string]field{
		"syslog": func(v *yaml.Node) {
			ways++
			if text, ok := r.text(v, "syslog"); ok {
				s, err := ParseSyslog(text)
				if err != nil {
					r.failAt(v, err.Error(), "")
				}
				t.Syslog = s
			}
		},
		"ca": func(v *yaml.Node) {
			text, ok := r.text(v, "ca")
			if ok && (path.IsAbs(text) || !filepath.IsLocal(text)) {
				r.failAt(v, fmt.Sprintf("“%s” is not in the estate's folder", text), "copy the authorities' certificates there")
			}
			ca = text
		},
		"command": func(v *yaml.Node) {
			ways++
			r.list(v, "command", func(item *yaml.Node) {
				if word, ok := r.text(item, "a word of the command"); ok {
					t.Command = append(t.Command, word)
				}
			})
			if len(t.Command) > 0 && (!path.IsAbs(t.Command[0]) || path.Clean(t.Command[0]) != t.Command[0]) {
				r.failAt(v, fmt.Sprintf("“%s” is no absolute path of a program", t.Command[0]), "write command: [/usr/local/bin/PROGRAM, ARGUMENT…]; no shell reads it")
			}
		},
		"only": func(v *yaml.Node) {
			r.list(v, "only", func(item *yaml.Node) {
				kind, ok := r.text(item, "a kind of entry")
				if !ok {
					return
				}
				if !slices.Contains(journal.Kinds, kind) {
					remedy := "they are: " + strings.Join(journal.Kinds, ", ")
					if near, ok := sentence.Nearest(kind, journal.Kinds); ok {
						remedy = fmt.Sprintf("did you mean “%s”?", near)
					}
					r.failAt(item, fmt.Sprintf("the journal has no entries of the kind “%s”", kind), remedy)
				}
				t.Only = append(t.Only, kind)
			})
		},
	})
	switch {
	case len(r.errs) > before:
	case ways != 1 || len(t.Command) == 0 && t.Syslog == Syslog{}:
		r.fail(at, fmt.Sprintf("recipient %s has to have one of syslog and command", name), "")
	case ca != "" && t.Syslog.Transport != "tls":
		r.fail(at, fmt.Sprintf("recipient %s has a ca, which is for TLS", name), "write syslog: tls:HOST")
	}
	t.Syslog.CA = ca
	r.estate.Recipients = append(r.estate.Recipients, t)
}
