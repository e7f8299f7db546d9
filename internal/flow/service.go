package flow

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Service is one arriving service as a point on a line: the 65,536 ports of TCP,
// those of UDP, echo requests, and everything else together, since no sentence
// can tell the rest apart. A machine's console comes after them. It is not of the network: [AnyService] does
// not have it, no door of the network leads to it, and its only source is [ConsoleSource].
//
//	0 ──tcp── 0xFFFF  0x10000 ──udp── 0x1FFFF  0x20000 ping  0x20001 other  0x20002 console
type Service uint32

// The services that are not ports.
const (
	udpBase Service = 0x10000
	Ping    Service = 0x20000
	Other   Service = 0x20001 // every other protocol
	Console Service = 0x20002 // a machine's console
)

// TCPPort returns the service of a TCP port.
func TCPPort(port uint16) Service { return Service(port) }

// UDPPort returns the service of a UDP port.
func UDPPort(port uint16) Service { return udpBase + Service(port) }

// Port returns the port of a TCP or UDP service; 0 of others.
func (s Service) Port() uint16 {
	if s >= Ping {
		return 0
	}
	return uint16(s)
}

// ServicesAt returns the set of one service.
func ServicesAt(s Service) Services { return span.Of(span.Run[Service]{Lo: s, Hi: s}) }

// Compare orders services along the line.
func (s Service) Compare(o Service) int { return cmp.Compare(s, o) }

// Next returns the service after s on the line.
func (s Service) Next() Service { return s + 1 }

// Prev returns the service before s on the line.
func (s Service) Prev() Service { return s - 1 }

// String prints the service as tcp/443, udp/53, ping, other or console.
func (s Service) String() string {
	switch {
	case s < udpBase:
		return "tcp/" + strconv.Itoa(int(s))
	case s < Ping:
		return "udp/" + strconv.Itoa(int(s-udpBase))
	case s == Ping:
		return "ping"
	case s == Console:
		return sentence.ConsoleName
	}
	return "other"
}

// Services is a set of services.
type Services = span.Set[Service]

// AnyService is the set of every service of the network.
var AnyService = span.Of(span.Run[Service]{Lo: 0, Hi: Other})

// namer looks up the ports behind a service's name.
type namer interface {
	Ports(name string) ([]sentence.Service, bool)
}

// ServicesOf returns the set that a list of services stands for. Unknown names
// add nothing; the estate has refused them before.
func ServicesOf(names namer, s sentence.Services) Services {
	if s.Any {
		return AnyService.Subtract(union(names, s.Except))
	}
	return union(names, s.List)
}

func union(names namer, list []sentence.Service) Services {
	var runs []span.Run[Service]
	for _, s := range list {
		if s.Ping() {
			runs = append(runs, span.Run[Service]{Lo: Ping, Hi: Ping})
			continue
		}
		if s.Console() {
			runs = append(runs, span.Run[Service]{Lo: Console, Hi: Console})
			continue
		}
		ports := []sentence.Service{s}
		if name, named := s.Name(); named {
			ports, _ = names.Ports(name)
		}
		for _, port := range ports {
			if p, lo, hi, ok := port.Ports(); ok {
				runs = append(runs, span.Run[Service]{Lo: point(p, lo), Hi: point(p, hi)})
			}
		}
	}
	return span.Of(runs...)
}

func point(p sentence.Protocol, port uint16) Service {
	if p == sentence.UDP {
		return UDPPort(port)
	}
	return TCPPort(port)
}

// PrintServices prints a set as sentences write it, where they can: "any",
// "any except …", or a list. Names are put in place of ports by the namings
// given, the first that fit exactly.
func PrintServices(s Services, namings []Naming) string {
	if s.Equal(AnyService) {
		return "any"
	}
	if s.Contains(Console) { // it is in neither any nor a name
		if s = s.Intersect(AnyService); s.IsEmpty() {
			return sentence.ConsoleName
		}
		return PrintServices(s, namings) + ", " + sentence.ConsoleName
	}
	missing := AnyService.Subtract(s)
	text := printList(s, namings)
	if other := printList(missing, namings); s.Contains(Other) && len(other) < len(text) {
		return "any except " + other
	}
	return text
}

// NameService names one service: by the first naming that is nothing but that port, over either
// protocol or both, or as tcp/443.
func NameService(s Service, namings []Naming) string {
	for _, n := range namings {
		alone := n.Set.Contains(s)
		for _, r := range n.Set.Runs() {
			alone = alone && r.Lo == r.Hi && r.Lo.Port() == s.Port() && r.Lo < Ping
		}
		if alone {
			return n.Name
		}
	}
	return s.String()
}

// Naming is a name for a set of services.
type Naming struct {
	Name string
	Set  Services
}

// Namings returns the names for services that an estate's listings use: its own
// first, then the one for all that is administrative, then those of each of that, then the other shipped ones.
func Namings(own []string, names namer) []Naming {
	var list []Naming
	add := func(group []string) {
		for _, name := range group {
			if name == "domain" { // the same as dns
				continue
			}
			ports, _ := names.Ports(name)
			list = append(list, Naming{name, union(names, ports)})
		}
	}
	add(own)
	add([]string{sentence.AdminName})
	add(sentence.AdministrativeNames())
	add(sentence.ShippedNames())
	return list
}

// Particular returns namings without the one name for all that is administrative, for words that tell what is.
func Particular(namings []Naming) []Naming {
	return slices.DeleteFunc(slices.Clone(namings), func(n Naming) bool { return n.Name == sentence.AdminName })
}

func printList(s Services, namings []Naming) string {
	var words []string
	rest := s
	for _, n := range namings {
		// A name stands only for whole runs: nobody reads tcp/1-21, ssh, tcp/23-… with ease.
		if !n.Set.IsEmpty() && rest.ContainsAll(n.Set) && wholeRuns(rest, n.Set) {
			words = append(words, n.Name)
			rest = rest.Subtract(n.Set)
		}
	}
	for _, r := range rest.Runs() {
		if names, tiled := tile(r, namings); tiled {
			words = append(words, names...)
			rest = rest.Subtract(span.Of(r))
		}
	}
	return strings.Join(append(words, ServiceRuns(rest)...), ", ")
}

// tile names a whole run by neighbouring names, such as ssh and telnet for tcp/22-23.
func tile(r span.Run[Service], namings []Naming) (names []string, whole bool) {
	for at := r.Lo; at <= r.Hi; {
		i := slices.IndexFunc(namings, func(n Naming) bool {
			runs := n.Set.Runs()
			return len(runs) == 1 && runs[0].Lo == at && runs[0].Hi <= r.Hi
		})
		if i < 0 {
			return nil, false
		}
		names = append(names, namings[i].Name)
		at = namings[i].Set.Runs()[0].Hi + 1
	}
	return names, true
}

func wholeRuns(s, part Services) bool {
	for _, r := range part.Runs() {
		if s.Contains(r.Lo-1) && r.Lo != 0 && r.Lo != udpBase || s.Contains(r.Hi+1) && r.Hi != udpBase-1 && r.Hi != Ping-1 {
			return false
		}
	}
	return true
}

// ServiceRuns prints a set as runs: tcp/22, udp/5000-5010, ping, other.
func ServiceRuns(s Services) []string {
	var words []string
	for _, r := range s.Runs() {
		for _, part := range [][2]Service{{0, udpBase - 1}, {udpBase, Ping - 1}, {Ping, Ping}, {Other, Other}, {Console, Console}} {
			lo, hi := max(r.Lo, part[0]), min(r.Hi, part[1])
			switch {
			case lo > hi:
			case lo == hi:
				words = append(words, lo.String())
			default:
				words = append(words, fmt.Sprintf("%v-%d", lo, hi-part[0]))
			}
		}
	}
	return words
}

// ParseServiceRuns reads what [ServiceRuns] prints.
func ParseServiceRuns(words []string) (Services, error) {
	runs := make([]span.Run[Service], 0, len(words))
	for _, w := range words {
		switch w {
		case "ping":
			runs = append(runs, span.Run[Service]{Lo: Ping, Hi: Ping})
			continue
		case "other":
			runs = append(runs, span.Run[Service]{Lo: Other, Hi: Other})
			continue
		case sentence.ConsoleName:
			runs = append(runs, span.Run[Service]{Lo: Console, Hi: Console})
			continue
		}
		proto, ports, _ := strings.Cut(w, "/")
		first, last, ranged := strings.Cut(ports, "-")
		if !ranged {
			last = first
		}
		lo, err1 := strconv.ParseUint(first, 10, 16)
		hi, err2 := strconv.ParseUint(last, 10, 16)
		var base Service
		if proto == "udp" {
			base = udpBase
		}
		if err1 != nil || err2 != nil || hi < lo || proto != "tcp" && proto != "udp" {
			return Services{}, fmt.Errorf("%q is no run of services", w)
		}
		runs = append(runs, span.Run[Service]{Lo: base + Service(lo), Hi: base + Service(hi)})
	}
	return span.Of(runs...), nil
}
