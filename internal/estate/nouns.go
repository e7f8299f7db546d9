package estate

import (
	"cmp"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/sentence"
)

// document reads the whole of estate.yaml: each method below reads one kind of noun.
func (r *reader) document(n *yaml.Node) {
	e := r.estate
	r.fields(n, "the estate", map[string]field{
		"estate":   func(v *yaml.Node) { e.Name = r.name(v, "estate") },
		"site":     func(v *yaml.Node) { e.Site, r.site = r.name(v, "site"), v },
		"admin":    func(v *yaml.Node) { e.Admin = r.services(v, "admin") },
		"sources":  func(v *yaml.Node) { r.named(v, "sources", r.source) },
		"services": func(v *yaml.Node) { r.named(v, "services", r.service) },
		"people":   func(v *yaml.Node) { r.named(v, "people", r.person) },
		"keys":     func(v *yaml.Node) { r.named(v, "keys", r.key) },
		"authorities": func(v *yaml.Node) {
			r.named(v, "authorities", func(name string, at sentence.Pos, n *yaml.Node) {
				r.estate.Authorities = append(r.estate.Authorities, Authority{Name: name, Public: r.publicKey(n), At: at})
			})
		},
		"recipients": func(v *yaml.Node) { r.named(v, "recipients", r.recipient) },
		"networks":   func(v *yaml.Node) { r.named(v, "networks", r.network) },
		"uplink":     func(v *yaml.Node) { r.uplink(v) },
		"lines":      func(v *yaml.Node) { r.named(v, "lines", r.line) },
		"machines":   func(v *yaml.Node) { r.machines(v) },
		"fronts":     func(v *yaml.Node) { r.named(v, "fronts", r.front) },
		"bastions":   func(v *yaml.Node) { r.named(v, "bastions", r.bastion) },
		"addresses":  func(v *yaml.Node) { r.named(v, "addresses", r.reserved) },
		"volumes":    func(v *yaml.Node) { r.named(v, "volumes", r.volume) },
		"snapshots":  func(v *yaml.Node) { r.named(v, "snapshots", r.snapshot) },
		"images":     func(v *yaml.Node) { r.named(v, "images", r.image) },
		"limits":     func(v *yaml.Node) { r.limits(v) },
		"edits":      func(v *yaml.Node) { r.edits(v) },
		"stun":       func(v *yaml.Node) { r.stun(v) },
		"repair":     func(v *yaml.Node) { r.repair(v) },
	}, "estate", "site")
}

func (r *reader) source(name string, at sentence.Pos, n *yaml.Node) {
	s := Source{Name: name, At: at, Ranges: r.atoms(n, "a source", sentence.Address, sentence.Prefix, sentence.Range)}
	if len(s.Ranges) == 0 {
		r.fail(at, fmt.Sprintf("source %s has no addresses", name), "")
	}
	r.estate.Sources = append(r.estate.Sources, s)
}

func (r *reader) service(name string, at sentence.Pos, n *yaml.Node) {
	s := Service{Name: name, At: at, Ports: r.services(n, "a service")}
	for _, p := range s.Ports {
		if _, _, _, ported := p.Ports(); !ported {
			r.fail(p.At(), fmt.Sprintf("service %s is made of ports, not of “%s”", name, p), "")
		}
	}
	if name == sentence.AdminName {
		r.fail(at, "“admin” stands for all administrative services, where a service stands", "take another name; what is administrative is listed under admin:")
	}
	if _, shipped := sentence.WellKnown(name); shipped {
		r.fail(at, fmt.Sprintf("“%s” is a service that ships with ironbark and keeps its meaning", name), "take another name")
	}
	r.estate.Services = append(r.estate.Services, s)
}

func (r *reader) person(name string, at sentence.Pos, n *yaml.Node) {
	p := Person{Name: name, At: at}
	if !isNull(n) {
		r.fields(n, "person "+name, map[string]field{
			"groups": func(v *yaml.Node) { p.Groups = r.names(v, "groups") },
			"until":  func(v *yaml.Node) { p.Until = r.moment(v) },
			"keys": func(v *yaml.Node) {
				r.list(v, "keys", func(item *yaml.Node) {
					public, until := r.endingKey(item, "a key of "+name)
					p.Keys = append(p.Keys, public)
					if !until.IsZero() {
						if p.Ends == nil {
							p.Ends = map[string]time.Time{}
						}
						p.Ends[public] = until
					}
				})
			},
		})
	}
	r.estate.People = append(r.estate.People, p)
}

func (r *reader) machines(n *yaml.Node) {
	count := len(n.Content) / 2
	if count > MaxMachines {
		r.errs = append(r.errs, tooMany(r.at(n), count))
		return
	}
	r.estate.Machines = slices.Grow(r.estate.Machines, count)
	r.named(n, "machines", r.readMachine)
}

func (r *reader) key(name string, at sentence.Pos, n *yaml.Node) {
	public, until := r.endingKey(n, "key "+name)
	r.estate.Keys = append(r.estate.Keys, Key{Name: name, Public: public, Until: until, At: at})
}

// publicKey reads a public key in the one-line form of OpenSSH: the algorithm,
// the key in base64 (RFC 4253, section 6.6, begins with the algorithm again), a comment.
func (r *reader) publicKey(n *yaml.Node) string {
	text, ok := r.text(n, "a public key")
	if !ok {
		return ""
	}
	words := strings.Fields(text)
	if len(words) < 2 || strings.ContainsAny(text, "\n\r") {
		r.failAt(n, "this is no public key", "it is one line: ssh-ed25519 AAAA… comment")
		return ""
	}
	blob, err := base64.StdEncoding.DecodeString(words[1])
	var key ssh.PublicKey
	if err == nil {
		key, err = ssh.ParsePublicKey(blob)
	}
	if err != nil || key.Type() != words[0] {
		r.failAt(n, fmt.Sprintf("the public key does not hold a key of the kind %s", words[0]), "copy the whole line again")
		return ""
	}
	return text
}

func (r *reader) network(name string, at sentence.Pos, n *yaml.Node) {
	w := Network{Name: name, At: at}
	outward := ""
	r.fields(n, "network "+name, map[string]field{
		"space":   func(v *yaml.Node) { w.Space = r.prefixes(v, "space") },
		"outside": func(v *yaml.Node) { w.Outside = r.boolean(v, "outside") },
		"outward": func(v *yaml.Node) { outward = r.outward(v) },
		"joins":   func(v *yaml.Node) { w.Joins = r.names(v, "joins") },
		"dns":     func(v *yaml.Node) { w.DNS = r.addrs(v, "dns") },
		"subnets": func(v *yaml.Node) {
			r.named(v, "subnets", func(sub string, at sentence.Pos, n *yaml.Node) {
				w.Subnets = append(w.Subnets, r.subnet(name, sub, at, n))
			})
		},
	}, "space")
	if len(w.Space) == 0 && n.Kind == yaml.MappingNode {
		r.fail(at, fmt.Sprintf("network %s has no address space", name), "for example: space: [10.60.0.0/16]")
	}
	if outward == OutwardOpen && !w.Outside {
		r.fail(at, fmt.Sprintf("network %s is “outward: open”, and has no way outside", name), "write “outside: true” too, or leave outward out")
	}
	w.OpenOutward = w.Outside && outward != OutwardClosed
	r.estate.Networks = append(r.estate.Networks, w)
}

// What a network chooses of calls of its machines to addresses outside: all that no sentence denies, or only what
// sentences allow.
const (
	OutwardOpen   = "open"
	OutwardClosed = "closed"
)

func (r *reader) outward(n *yaml.Node) string {
	text, ok := r.text(n, "outward")
	if ok && text != OutwardOpen && text != OutwardClosed {
		r.failAt(n, fmt.Sprintf("outward is open or closed, not “%s”", text), "closed: machines call outside only what sentences allow, such as: allow https from all to internet")
		return OutwardClosed
	}
	return text
}

func (r *reader) subnet(network, name string, at sentence.Pos, n *yaml.Node) Subnet {
	s := Subnet{Name: name, Network: network, At: at}
	r.fields(n, "subnet "+name, map[string]field{
		"range":    func(v *yaml.Node) { s.Range = r.prefixes(v, "range") },
		"gateway":  func(v *yaml.Node) { s.Gateway = r.addrs(v, "gateway") },
		"dhcp":     func(v *yaml.Node) { s.Static = !r.boolean(v, "dhcp") },
		"allocate": func(v *yaml.Node) { s.Allocate = r.stretches(v, "allocate") },
	}, "range")
	v4 := 0
	for _, p := range s.Range {
		if p.Addr().Is4() {
			v4++
		}
	}
	if v4 > 1 || len(s.Range)-v4 > 1 {
		r.fail(at, fmt.Sprintf("subnet %s has several ranges of one family", name), "make it two subnets")
	}
	return s
}

func (r *reader) line(name string, at sentence.Pos, n *yaml.Node) {
	l := Line{Name: name, At: at}
	r.fields(n, "line "+name, map[string]field{
		"network": func(v *yaml.Node) { l.Network = r.name(v, "network") },
		"range":   func(v *yaml.Node) { l.Range = r.prefixes(v, "range") },
		"port": func(v *yaml.Node) {
			text, _ := r.text(v, "port")
			port, err := strconv.Atoi(text)
			if err != nil || port < 1024 || port > 65535 {
				r.failAt(v, fmt.Sprintf("port is a number from 1024 to 65535, not “%s”", text), "without it the site chooses one from 51820 on")
			}
			l.Port = port
		},
		"endpoint": func(v *yaml.Node) {
			if l.Endpoint, _ = r.text(v, "endpoint"); !hostPort().MatchString(l.Endpoint) {
				r.failAt(v, fmt.Sprintf("“%s” is neither HOST nor HOST:PORT", l.Endpoint), "an IPv6 address with a port stands in brackets: [2001:db8::1]:51820")
			}
		},
		"peers": func(v *yaml.Node) {
			r.named(v, "peers", func(peer string, at sentence.Pos, n *yaml.Node) { l.Peers = append(l.Peers, r.peer(peer, at, n)) })
		},
	}, "network", "range")
	r.estate.Lines = append(r.estate.Lines, l)
}

var hostPort = pattern(`^(\[[0-9a-fA-F:.]+\]|[A-Za-z0-9.-]+)(:[0-9]{1,5})?$|^[0-9a-fA-F:]+$`)

// peer reads a peer of a line. Its addresses are a source of its name.
func (r *reader) peer(name string, at sentence.Pos, n *yaml.Node) Peer {
	p := Peer{Name: name, At: at}
	r.fields(n, "peer "+name, map[string]field{
		"key": func(v *yaml.Node) {
			p.Key, _ = r.text(v, "key")
			if raw, err := base64.StdEncoding.DecodeString(p.Key); err != nil || len(raw) != 32 {
				r.failAt(v, "this is no WireGuard key", "it is 44 letters of base64, the last of them =: the peer's public key")
			}
		},
		"address": func(v *yaml.Node) { p.Addrs = r.addrs(v, "address") },
	}, "key", "address")
	words := make([]string, len(p.Addrs))
	for i, a := range p.Addrs {
		words[i] = a.String()
	}
	if set, err := sentence.ParseSource(strings.Join(words, ", ")); err == nil {
		r.estate.Sources = append(r.estate.Sources, Source{Name: name, At: at, Ranges: set.List})
	}
	return p
}

func (r *reader) uplink(n *yaml.Node) {
	u := &Uplink{At: r.at(n)}
	r.fields(n, "uplink", map[string]field{
		"interface": func(v *yaml.Node) {
			text, ok := r.text(v, "interface")
			if ok && !interfaceName(text) {
				r.failAt(v, fmt.Sprintf("“%s” is no name of an interface", text), "ip link lists those of this host")
			}
			u.Interface = text
		},
		"addresses": func(v *yaml.Node) {
			r.list(v, "addresses", func(item *yaml.Node) {
				text, ok := r.text(item, "an address of the uplink")
				p, err := netip.ParsePrefix(text)
				if ok && err != nil {
					r.failAt(item, fmt.Sprintf("“%s” is no address with the length of its network", text), "for example 192.0.2.20/24")
				}
				u.Addresses = append(u.Addresses, p)
			})
		},
		"gateway": func(v *yaml.Node) { u.Gateway = r.addrs(v, "gateway") },
		"public":  func(v *yaml.Node) { u.Public = r.prefixes(v, "public") },
	}, "public")
	r.estate.Uplink = u
}

// interfaceName reports whether Linux could have a link of a name (dev_valid_name).
func interfaceName(name string) bool {
	return name != "" && len(name) < 16 && name != "." && name != ".." && !strings.ContainsFunc(name, func(c rune) bool { return c <= ' ' || c == '/' || c == ':' || c > '~' })
}

func (r *reader) readMachine(name string, at sentence.Pos, n *yaml.Node) {
	m := &r.machine
	*m = Machine{Name: name, At: at}
	if r.machineFields == nil {
		r.machineFields = map[string]field{
			"image":    func(v *yaml.Node) { m.Image = r.name(v, "image") },
			"boot":     func(v *yaml.Node) { m.Boot = r.name(v, "boot") },
			"size":     func(v *yaml.Node) { m.Size = r.name(v, "size") },
			"at":       func(v *yaml.Node) { m.Subnets = r.names(v, "at") },
			"key":      func(v *yaml.Node) { m.Keys = r.names(v, "key") },
			"tags":     func(v *yaml.Node) { m.Tags = r.tags(v) },
			"address":  func(v *yaml.Node) { m.Address = r.address(v) },
			"password": func(v *yaml.Node) { m.Password = r.boolean(v, "password") },
			"inside":   func(v *yaml.Node) { m.Inside = r.addrs(v, "inside") },
			"disk":     func(v *yaml.Node) { m.Disk = r.disk(v, "disk") },
			"setup":    func(v *yaml.Node) { m.Setup = r.words(v, "setup") },
			"limits":   func(v *yaml.Node) { m.Limits = r.traffic(v, "the limits of machine "+m.Name) },
		}
	}
	r.fields(n, "machine "+name, r.machineFields, "size", "at")
	switch {
	case n.Kind != yaml.MappingNode:
	case m.Image == "" && m.Boot == "":
		r.failAt(n, fmt.Sprintf("machine %s lacks “image”", name), "or boot: VOLUME, where its system is on a volume")
	case m.Image != "" && m.Boot != "":
		r.failAt(n, fmt.Sprintf("machine %s has an image, and boots from a volume, which has its own", name), "keep one of image: and boot:")
	case m.Boot != "" && m.Disk != (Disk{}):
		r.failAt(n, fmt.Sprintf("machine %s boots from a volume, and has no disk of its own", name), "the size is the volume's gb:")
	}
	r.estate.Machines = append(r.estate.Machines, *m)
}

func (r *reader) tags(n *yaml.Node) (tags []Tag) {
	r.entries(n, "tags", func(key, value *yaml.Node) {
		text, _ := r.text(value, "a tag")
		if bad := sentence.ValidTag(key.Value, text); bad != nil {
			r.failAt(value, bad.Error(), "")
		}
		tags = append(tags, Tag{key.Value, text})
	})
	slices.SortFunc(tags, func(a, b Tag) int { return cmp.Compare(a.Key, b.Key) })
	return tags
}

func (r *reader) front(name string, at sentence.Pos, n *yaml.Node) {
	f := Front{Name: name, At: at}
	r.fields(n, "front "+name, map[string]field{
		"network":       func(v *yaml.Node) { f.Network = r.name(v, "network") },
		"address":       func(v *yaml.Node) { f.Address = r.address(v) },
		"test-every":    func(v *yaml.Node) { f.Test.Every = r.testEvery(v) },
		"test-failures": func(v *yaml.Node) { f.Test.Failures = r.testFailures(v) },
	}, "network", "address")
	r.estate.Fronts = append(r.estate.Fronts, f)
}

// testEvery reads the time between two tests of a member.
func (r *reader) testEvery(n *yaml.Node) time.Duration {
	text, ok := r.text(n, "test-every")
	if !ok {
		return 0
	}
	d, err := sentence.ParseDuration(text)
	if err != nil || d.Length() < LeastTestEvery || d.Length() > MostTestEvery {
		r.failAt(n, fmt.Sprintf("test-every is a duration from %s to %s, not “%s”", sentence.DurationOf(LeastTestEvery), sentence.DurationOf(MostTestEvery), text), "for example 2s")
		return 0
	}
	return d.Length()
}

// testFailures reads after how many failed tests in a row a member is taken out.
func (r *reader) testFailures(n *yaml.Node) int {
	text, ok := r.text(n, "test-failures")
	count, err := strconv.Atoi(text)
	if ok && (err != nil || count < 1 || count > MostTestFailures) {
		r.failAt(n, fmt.Sprintf("test-failures is a number from 1 to %d, not “%s”", MostTestFailures, text), "for example 3")
		return 0
	}
	return count
}

// sourceSet reads a source: a list of its members, of which the last may say what it is
// less, as sentences do (everywhere except 192.0.2.0/24).
func (r *reader) sourceSet(n *yaml.Node) (s sentence.Set) {
	var words []string
	less := false
	r.list(n, "from", func(item *yaml.Node) {
		text, _ := r.text(item, "from")
		words = append(words, text)
		less = less || strings.Contains(text, " except ")
	})
	if !less {
		s.List = r.atoms(n, "from", sentence.Everywhere, sentence.Internet, sentence.All, sentence.Named,
			sentence.Pattern, sentence.Tagged, sentence.Address, sentence.Prefix, sentence.Range)
		return s
	}
	s, err := sentence.ParseSource(strings.Join(words, ", "))
	if err != nil {
		problem := err.Error()
		if one, ok := errors.AsType[*sentence.Error](err); ok {
			problem = one.Problem
		}
		r.failAt(n, problem, "write it as: from: [everywhere except 192.0.2.0/24]")
		return sentence.Set{}
	}
	placed := func(list []sentence.Atom) {
		for i := range list {
			list[i] = list[i].WithPos(r.at(n))
		}
	}
	placed(s.List)
	placed(s.Except)
	return s
}

// MaxSessions is the greatest number of sessions that a bastion may carry at once.
const MaxSessions = 10000

func (r *reader) bastion(name string, at sentence.Pos, n *yaml.Node) {
	b := Bastion{Name: name, At: at, Sessions: 10}
	r.fields(n, "bastion "+name, map[string]field{
		"subnet":  func(v *yaml.Node) { b.Subnet = r.name(v, "subnet") },
		"address": func(v *yaml.Node) { b.Address = r.address(v) },
		"from": func(v *yaml.Node) {
			b.From = r.sourceSet(v)
		},
		"sessions": func(v *yaml.Node) {
			text, _ := r.text(v, "sessions")
			count, err := strconv.Atoi(text)
			if err != nil || count < 1 || count > MaxSessions {
				r.failAt(v, fmt.Sprintf("sessions is a number from 1 to %d, not “%s”", MaxSessions, text), "")
			}
			b.Sessions = count
		},
	}, "subnet", "address", "from")
	r.estate.Bastions = append(r.estate.Bastions, b)
}
