package sentence

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Protocol is a transport protocol with ports. The zero Protocol is invalid.
type Protocol uint8

// The protocols that sentences name with ports.
const (
	TCP Protocol = iota + 1
	UDP
)

// String returns "tcp" or "udp".
func (p Protocol) String() string {
	switch p {
	case TCP:
		return "tcp"
	case UDP:
		return "udp"
	}
	return fmt.Sprintf("protocol(%d)", uint8(p))
}

type serviceKind uint8

const (
	serviceNamed serviceKind = iota + 1
	servicePorts
	servicePing
	serviceConsole
)

// Service is one word for a service: a name, ports of a protocol, or ping. The
// zero Service is invalid and stands for no service.
type Service struct {
	kind   serviceKind
	name   string
	proto  Protocol
	lo, hi uint16
	at     Pos
}

// Ports returns the service of ports lo to hi, both included, of a protocol.
func Ports(p Protocol, lo, hi uint16) (Service, error) {
	if p != TCP && p != UDP {
		return Service{}, fmt.Errorf("%v has no ports", p)
	}
	if lo == 0 || hi < lo {
		return Service{}, fmt.Errorf("ports %d-%d: ports run from 1 to 65535, the lower first", lo, hi)
	}
	return Service{kind: servicePorts, proto: p, lo: lo, hi: hi}, nil
}

// ParseService reads one service as sentences write it: a name, tcp/443, udp/5000-5010 or ping.
func ParseService(text string) (Service, error) {
	if text == "ping" {
		return Service{kind: servicePing}, nil
	}
	if text == ConsoleName {
		return Service{kind: serviceConsole}, nil
	}
	proto, ports, found := strings.Cut(text, "/")
	if !found {
		// http is a word of the grammar and, where a service stands, a shipped service.
		if _, known := shipped[text]; !known && ValidName(text) != nil {
			return Service{}, fmt.Errorf("%q is no service: write a name, tcp/443, udp/5000-5010 or ping", text)
		}
		return Service{kind: serviceNamed, name: text}, nil
	}
	p := TCP
	switch proto {
	case "tcp":
	case "udp":
		p = UDP
	default:
		return Service{}, fmt.Errorf("%q: the protocol of a port is tcp or udp", text)
	}
	first, last, ranged := strings.Cut(ports, "-")
	if !ranged {
		last = first
	}
	lo, errLo := parsePort(first)
	hi, errHi := parsePort(last)
	if errLo != nil || errHi != nil {
		return Service{}, fmt.Errorf("%q: ports are numbers from 1 to 65535", text)
	}
	if hi < lo {
		return Service{}, fmt.Errorf("%q is back to front: write %s/%d-%d", text, p, hi, lo)
	}
	return Ports(p, lo, hi)
}

func parsePort(s string) (uint16, error) {
	n, err := strconv.ParseUint(s, 10, 16)
	if err != nil || n == 0 || s[0] == '0' || s[0] == '+' {
		return 0, fmt.Errorf("bad port %q", s)
	}
	return uint16(n), nil
}

// Valid reports whether s is a service at all.
func (s Service) Valid() bool { return s.kind != 0 }

// Name returns the name, if s is one.
func (s Service) Name() (string, bool) { return s.name, s.kind == serviceNamed }

// Ports returns protocol and ports, both bounds included, if s is of ports.
func (s Service) Ports() (p Protocol, lo, hi uint16, ok bool) {
	return s.proto, s.lo, s.hi, s.kind == servicePorts
}

// Ping reports whether s is ping (ICMP and ICMPv6 echo).
func (s Service) Ping() bool { return s.kind == servicePing }

// Console reports whether s is a machine's console. It is no service of the network: it has no source.
func (s Service) Console() bool { return s.kind == serviceConsole }

// At tells where s was read.
func (s Service) At() Pos { return s.at }

// String prints s as sentences write it.
func (s Service) String() string {
	switch s.kind {
	case serviceNamed:
		return s.name
	case servicePing:
		return "ping"
	case serviceConsole:
		return ConsoleName
	case servicePorts:
		if s.lo == s.hi {
			return fmt.Sprintf("%s/%d", s.proto, s.lo)
		}
		return fmt.Sprintf("%s/%d-%d", s.proto, s.lo, s.hi)
	}
	return ""
}

// Services is a list of services, or any service except some. The zero Services
// is the empty list.
type Services struct {
	Any    bool
	List   []Service // when Any is false
	Except []Service // when Any is true
}

// Console reports whether the list is the console, which is alone in a sentence.
func (s Services) Console() bool { return !s.Any && len(s.List) == 1 && s.List[0].Console() }

// String prints the list as sentences write it.
func (s Services) String() string {
	if !s.Any {
		return joined(s.List)
	}
	if len(s.Except) == 0 {
		return "any"
	}
	return "any except " + joined(s.Except)
}

func joined[T fmt.Stringer](items []T) string {
	words := make([]string, len(items))
	for i, item := range items {
		words[i] = item.String()
	}
	return strings.Join(words, ", ")
}

// shipped are the names of services known without an estate's help: those of the
// IANA service name registry (RFC 6335) that administrators use, with the
// transport they are in practice served on, and vnc and winrm, which the
// registry has under names that nobody uses.
var shipped = map[string]string{
	"amqp": "tcp/5672", "bgp": "tcp/179", "dns": "tcp/53,udp/53", "domain": "tcp/53,udp/53",
	"ftp": "tcp/21", "git": "tcp/9418", "http": "tcp/80", "http-alt": "tcp/8080", "https": "tcp/443",
	"imap": "tcp/143", "imaps": "tcp/993", "ipp": "tcp/631", "isakmp": "udp/500",
	"kerberos": "tcp/88,udp/88", "ldap": "tcp/389", "ldaps": "tcp/636",
	"microsoft-ds": "tcp/445", "mqtt": "tcp/1883", "mysql": "tcp/3306", "netconf-ssh": "tcp/830",
	"nfs": "tcp/2049,udp/2049", "ntp": "udp/123", "openvpn": "udp/1194", "pop3s": "tcp/995",
	"postgresql": "tcp/5432", "radius": "udp/1812-1813", "rdp": "tcp/3389,udp/3389",
	"redis": "tcp/6379", "rsync": "tcp/873", "rtsp": "tcp/554", "secure-mqtt": "tcp/8883",
	"sip": "tcp/5060,udp/5060", "sips": "tcp/5061", "smtp": "tcp/25", "snmp": "udp/161",
	"snmptrap": "udp/162", "ssh": "tcp/22", "submission": "tcp/587", "submissions": "tcp/465",
	"syslog": "udp/514", "syslog-tls": "tcp/6514", "telnet": "tcp/23", "tftp": "udp/69",
	"vnc": "tcp/5900-5903", "winrm": "tcp/5985-5986",
}

// WellKnown returns the ports behind a name that ships with the language.
func WellKnown(name string) ([]Service, bool) {
	text, ok := shipped[name]
	if !ok {
		return nil, false
	}
	var list []Service
	for part := range strings.SplitSeq(text, ",") {
		s, err := ParseService(part)
		if err != nil {
			panic("sentence: bad shipped service " + name)
		}
		list = append(list, s)
	}
	return list, true
}

// ShippedNames returns the names that [WellKnown] knows, sorted.
func ShippedNames() []string { return slices.Sorted(maps.Keys(shipped)) }

// ConsoleName is the word for a machine's console: a reserved administrative service, in neither any nor admin. Only permits
// and openings cover it, and they take no source with it.
const ConsoleName = "console"

// AdminName is the word for all services that are administrative in an estate. It is one
// where a service stands, and an ordinary name elsewhere.
const AdminName = "admin"

// AdministrativeNames returns the shipped names that always count as administrative.
func AdministrativeNames() []string { return []string{"ssh", "telnet", "rdp", "vnc", "winrm"} }

// WithPos returns s as read at a place.
func (s Service) WithPos(at Pos) Service {
	s.at = at
	return s
}
