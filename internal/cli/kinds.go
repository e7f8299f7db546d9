package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

// noun is one kind of noun that add puts in and change alters: its options, and
// the fields that they make.
type noun struct {
	kind    string
	short   string
	example string
	change  string // an example of change
	flags   func(c *cobra.Command, in *nounInput, adding bool)
	path    func(in *nounInput) []string
	fields  func(in *nounInput) (entry, error)
}

// nounInput holds the options of all kinds.
type nounInput struct {
	image, boot, size, network, subnet                               string
	disk, speed, password, machine, device, from, volume             string
	file, family, to, public, ownKey                                 string
	at, space, ranges, joins, groups, keys, dns, gateway, allocation []string
	ports, tags, address, sources, inside, setup                     []string
	outward, until, testEvery, testFailures                          string
	now                                                              func() time.Time
	outside, dhcp                                                    bool
	endpoint                                                         string
	sessions, count, udp                                             int
	given                                                            func(flag string) bool // whether an option was given
}

func top(section string) func(*nounInput) []string {
	return func(*nounInput) []string { return []string{section} }
}

// entry builds the fields that were given. A field whose value is the word none
// is to be taken out.
type entry []estate.Field

const none = "none"

func (e *entry) word(key, value string) {
	if value != "" {
		*e = append(*e, estate.Field{Key: key, Value: estate.Word(value)})
	}
}

// until takes a time, a length from now, or none.
func (e *entry) until(in *nounInput) error {
	text := in.until
	if d, err := sentence.ParseDuration(text); err == nil {
		text = in.now().Add(d.Length()).UTC().Truncate(time.Second).Format(time.RFC3339)
	} else if _, err := time.Parse(time.RFC3339, text); err != nil && text != "" && text != none {
		return usage("--until takes a time such as 2026-12-24T18:00:00Z, a length from now such as 30d, or none, not “%s”", text)
	}
	e.word("until", text)
	return nil
}

func (e *entry) list(key string, values []string, always bool) {
	values = slices.Clone(values)
	for i, v := range values {
		values[i] = strings.TrimSpace(v)
	}
	switch {
	case len(values) == 1 && (!always || values[0] == none):
		e.word(key, values[0])
	case len(values) > 0:
		*e = append(*e, estate.Field{Key: key, Value: estate.List(values...)})
	}
}

func (e *entry) bare(key, value string, yes bool) {
	if yes {
		*e = append(*e, estate.Field{Key: key, Value: estate.Bare(value)})
	}
}

func (e *entry) gb(key, text string) error {
	if text == "" {
		return nil
	}
	gb, err := estate.ParseGB(text)
	if err != nil {
		return usage("--%s: %v", key, err)
	}
	e.bare(key, fmt.Sprint(gb), true)
	return nil
}

var nouns = []noun{
	{
		kind: "machine", short: "a machine", path: top("machines"), flags: machineFlags, fields: machineFields,
		example: "gauge-web-1 --image linux-base --size c1m2 --subnet landing --key ops --address auto", change: "gauge-web-1 --size c2m4 --address none",
	},
	{
		kind: "network", short: "a network", example: "estuary --space 10.60.0.0/16 --outside", change: "estuary --dns 10.60.1.2", path: top("networks"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringSliceVar(&in.space, "space", nil, "its address space: prefixes of one or both families")
			c.Flags().BoolVar(&in.outside, "outside", false, "machines can call outside, and doors from outside can exist")
			c.Flags().StringVar(&in.outward, "outward", "", "what machines may call outside: open (all that no sentence denies), or closed (only what sentences allow)")
			c.Flags().StringSliceVar(&in.joins, "joins", nil, "networks that it reaches and that reach it")
			c.Flags().StringSliceVar(&in.dns, "dns", nil, "the servers that its machines ask for names")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.list("space", in.space, true)
			e.bare("outside", fmt.Sprint(in.outside), in.given("outside"))
			if in.outward != "" && in.outward != estate.OutwardOpen && in.outward != estate.OutwardClosed {
				return e, usage("--outward is open or closed, not “%s”", in.outward)
			}
			e.word("outward", in.outward)
			e.list("joins", in.joins, true)
			e.list("dns", in.dns, true)
			return e, nil
		},
	},
	{
		kind: "subnet", short: "a subnet of a network", example: "landing --network estuary --range 10.60.1.0/24", change: "landing --gateway 10.60.1.254",
		path: func(in *nounInput) []string { return []string{"networks", in.network, "subnets"} },
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.network, "network", "", "the network it is part of")
			c.Flags().StringSliceVar(&in.ranges, "range", nil, "its prefixes, one of a family at most")
			c.Flags().StringSliceVar(&in.gateway, "gateway", nil, "the gateway's addresses (default: the first hosts)")
			c.Flags().BoolVar(&in.dhcp, "dhcp", true, "machines ask for their addresses; =false: they are told at first boot")
			c.Flags().StringSliceVar(&in.allocation, "allocate", nil, "the addresses that are given to machines, A-B (default: all)")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.list("range", in.ranges, true)
			e.list("gateway", in.gateway, true)
			e.bare("dhcp", fmt.Sprint(in.dhcp), in.given("dhcp"))
			e.list("allocate", in.allocation, true)
			return e, nil
		},
	},
	{
		kind: "line", short: "a private line to another place", example: "headland --network estuary --range 172.20.0.0/16", change: "headland --range 172.20.0.0/16,172.21.0.0/16", path: top("lines"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.network, "network", "", "the network that it leads to")
			c.Flags().StringSliceVar(&in.ranges, "range", nil, "the prefixes at its other end")
			c.Flags().StringVar(&in.endpoint, "endpoint", "", "HOST or HOST:PORT by which its peers call (default: the uplink's own address)")
			c.Flags().IntVar(&in.udp, "port", 0, "the UDP port at which its tunnel is heard (default: a free one from 51820 on)")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.word("network", in.network)
			e.list("range", in.ranges, true)
			e.word("endpoint", in.endpoint)
			e.bare("port", fmt.Sprint(in.udp), in.given("port"))
			return e, nil
		},
	},
	{
		kind: "front", short: "a front: a public address whose ports lead to machines", example: "pier --network estuary", change: "pier --address slip", path: top("fronts"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.network, "network", "", "the network that it leads into")
			c.Flags().StringSliceVar(&in.address, "address", nil, "its public addresses: auto (the default), given or reserved ones")
			c.Flags().StringVar(&in.testEvery, "test-every", "", "time between two tests of a machine behind it, from 1s to 1h (default: that of site watch)")
			c.Flags().StringVar(&in.testFailures, "test-failures", "", "failed tests in a row after which a machine gets no new connections (default: 2)")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.word("network", in.network)
			e.list("address", in.address, false)
			e.word("test-every", in.testEvery)
			e.word("test-failures", in.testFailures)
			return e, nil
		},
	},
	{
		kind: "bastion", short: "a bastion, through which people reach machines", example: "beacon --subnet lookout --from everywhere", change: "beacon --sessions 40", path: top("bastions"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.subnet, "subnet", "", "the subnet that it is in")
			c.Flags().StringSliceVar(&in.address, "address", nil, "its public addresses: auto (the default), given or reserved ones")
			c.Flags().StringSliceVar(&in.sources, "from", nil, "the sources that may reach it")
			c.Flags().IntVar(&in.sessions, "sessions", 0, "how many sessions it carries at once")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.word("subnet", in.subnet)
			e.list("address", in.address, false)
			e.list("from", in.sources, true)
			e.bare("sessions", fmt.Sprint(in.sessions), in.given("sessions"))
			return e, nil
		},
	},
	{
		kind: "volume", short: "a volume, which outlives the machine it is attached to", path: top("volumes"),
		example: "charts --gb 100 --machine chart-desk", change: "charts --gb 200",
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.disk, "gb", "", "its size in GB")
			c.Flags().StringVar(&in.speed, "disk-kind", "", "standard (the default) or fast")
			c.Flags().StringVar(&in.machine, "machine", "", "the machine that it is attached to; none detaches it")
			c.Flags().StringVar(&in.device, "device", "", "vdb to vdz (default: the first free one)")
			c.Flags().StringVar(&in.from, "snapshot", "", "the snapshot of a volume that it begins as")
			c.Flags().StringVar(&in.image, "image", "", "the image that it begins as, or a snapshot of a machine: a machine can boot from it")
		},
		fields: func(in *nounInput) (e entry, err error) {
			err = e.gb("gb", in.disk)
			e.word("kind", in.speed)
			e.word("machine", in.machine)
			if in.machine == none && in.device == "" {
				in.device = none
			}
			e.word("device", in.device)
			e.word("from", in.from)
			e.word("image", in.image)
			return e, err
		},
	},
	{
		kind: "snapshot", short: "a snapshot of a volume or of a machine's system disk", example: "before-spring --volume charts", path: top("snapshots"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.volume, "volume", "", "the volume that it is of")
			c.Flags().StringVar(&in.machine, "machine", "", "the machine whose system disk it is of")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.word("volume", in.volume)
			e.word("machine", in.machine)
			return e, nil
		},
	},
	{
		kind: "image", short: "a system image, from a raw or qcow2 file", example: "gauge-os --file gauge-os.qcow2", path: top("images"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.file, "file", "", "the file, which stays where it is and is uploaded")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.word("file", in.file)
			return e, nil
		},
	},
	{
		kind: "address", short: "a public address that is kept, whoever has it", example: "slip", change: "slip --to gauge-web-2", path: top("addresses"),
		flags: func(c *cobra.Command, in *nounInput, adding bool) {
			if !adding {
				c.Flags().StringVar(&in.to, "to", "", "the machine or front that it leads to from now on; none")
				return
			}
			c.Flags().StringVar(&in.family, "which", "ipv4", "ipv4 or ipv6, or the very address")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.word("", in.family)
			return e, nil
		},
	},
	{
		kind: "person", short: "a person", example: "ilse --group ops --group leads", change: "ilse --group ops", path: top("people"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringSliceVar(&in.groups, "group", nil, "the groups that they are in")
			c.Flags().StringSliceVar(&in.keys, "public-key", nil, "their public keys, as OpenSSH writes them")
			c.Flags().StringVar(&in.until, "until", "", "they may do nothing from this time on, or after this length from now; none: there is no such time")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.list("groups", in.groups, true)
			e.list("keys", in.keys, true)
			return e, e.until(in)
		},
	},
	{
		kind: "authority", short: "an authority whose certificates let people log in to gateways", example: "watch --public-key-file watch-ca.pub", change: "watch --public-key-file watch-ca.pub", path: top("authorities"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.public, "public-key-file", "", "the file of its public key, as OpenSSH writes it")
		},
		fields: func(in *nounInput) (entry, error) {
			if in.public == "" {
				return nil, usage("an authority has a public key: --public-key-file FILE")
			}
			line, err := publicKeyIn(in.public)
			return entry{{Value: estate.Word(line)}}, err
		},
	},
	{
		kind: "recipient", short: "a recipient, who is told of entries of the journal", example: "watchroom --syslog tls:log.saltmarsh.example --only open,close", change: "watchroom --only open,extend,close", path: top("recipients"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringVar(&in.to, "syslog", "", "udp:HOST, tcp:HOST:PORT, tls:HOST, or the path of a socket such as /dev/log")
			c.Flags().StringVar(&in.file, "ca", "", "the file in the estate's folder of the authorities that vouch for a server over TLS")
			c.Flags().StringSliceVar(&in.keys, "command", nil, "a program by its absolute path, and its arguments: it gets the entry as JSON on its standard input")
			c.Flags().StringSliceVar(&in.groups, "only", nil, "the kinds of entries (default: all)")
		},
		fields: func(in *nounInput) (e entry, err error) {
			e.word("syslog", in.to)
			e.word("ca", in.file)
			e.list("command", in.keys, true)
			e.list("only", in.groups, true)
			return e, nil
		},
	},
	{
		kind: "source", short: "a name for addresses outside", example: "office --range 203.0.113.64/27", change: "office --range 203.0.113.64/27,2001:db8:40::/48", path: top("sources"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringSliceVar(&in.ranges, "range", nil, "its addresses, prefixes and ranges")
		},
		fields: func(in *nounInput) (entry, error) { return entry{{Value: estate.List(in.ranges...)}}, nil },
	},
	{
		kind: "service", short: "a name for ports", example: "tidefeed --port tcp/7400-7401", change: "tidefeed --port tcp/7400-7402", path: top("services"),
		flags: func(c *cobra.Command, in *nounInput, _ bool) {
			c.Flags().StringSliceVar(&in.ports, "port", nil, "its ports: tcp/443, udp/5000-5010")
		},
		fields: func(in *nounInput) (entry, error) { return entry{{Value: estate.List(in.ports...)}}, nil },
	},
}

func machineFlags(c *cobra.Command, in *nounInput, adding bool) {
	c.Flags().StringVar(&in.image, "image", "", "the system it starts from: an image, or a snapshot of a machine")
	c.Flags().StringVar(&in.boot, "boot", "", "the volume that it boots from, in place of an image and a disk of its own")
	c.Flags().StringVar(&in.size, "size", "", "how much of a host it gets")
	c.Flags().StringSliceVar(&in.at, "subnet", nil, "the subnets it stands in, an interface in each")
	c.Flags().StringSliceVar(&in.inside, "inside", nil, "inside addresses that it asks for (default: free ones)")
	c.Flags().StringSliceVar(&in.keys, "key", nil, "the keys of which any lets administrators in")
	c.Flags().StringVar(&in.password, "password", "", "ask, generate or stdin: its first user may log in with it; none")
	c.Flags().StringSliceVar(&in.address, "address", nil, "its public address: auto, a given or a reserved one; none")
	c.Flags().StringVar(&in.disk, "disk", "", "its system disk in GB (default: as the image needs)")
	c.Flags().StringVar(&in.speed, "disk-kind", "", "standard (the default) or fast")
	c.Flags().StringSliceVar(&in.setup, "setup", nil, "what its first boot runs: recipes, and scripts (files)")
	c.Flags().StringSliceVar(&in.tags, "tag", nil, "labels, KEY=VALUE")
	if adding {
		c.Flags().IntVar(&in.count, "count", 1, "how many: NAME-1, NAME-2 …")
	} else { // by which a bastion lets in who puts another key into it
		ownKeyFlag(c, &in.ownKey)
	}
}

func machineFields(in *nounInput) (e entry, err error) {
	e.word("image", in.image)
	e.word("boot", in.boot)
	e.word("size", in.size)
	e.list("at", in.at, false)
	e.list("inside", in.inside, false)
	e.list("key", in.keys, false)
	e.list("address", in.address, false)
	if in.speed != "" && in.disk == "" {
		e = append(e, estate.Field{Key: "disk", Value: estate.Mapping(estate.Field{Key: "kind", Value: estate.Word(in.speed)})})
	} else if in.disk != "" {
		var disk entry
		if err := disk.gb("gb", in.disk); err != nil {
			return nil, usage("--disk: %v", strings.TrimPrefix(err.Error(), "--gb: "))
		}
		if disk.word("kind", in.speed); in.speed == "" {
			e = append(e, estate.Field{Key: "disk", Value: disk[0].Value})
		} else {
			e = append(e, estate.Field{Key: "disk", Value: estate.Mapping(disk...)})
		}
	}
	e.list("setup", in.setup, false)
	switch in.password {
	case "", none:
		e.word("password", in.password)
	case "ask", "generate", "stdin":
		e.bare("password", "true", true)
	default:
		return nil, usage("--password is ask, generate, stdin or none, and never the password itself: others could read it from the list of processes")
	}
	var tags []estate.Field
	for _, t := range in.tags {
		key, value, _ := strings.Cut(t, "=")
		if bad := sentence.ValidTag(key, value); bad != nil && t != none {
			return nil, usage("--tag %s: %s", t, bad)
		}
		tags = append(tags, estate.Field{Key: key, Value: estate.Word(value)})
	}
	switch {
	case slices.Equal(in.tags, []string{none}):
		e.word("tags", none)
	case len(tags) > 0:
		e = append(e, estate.Field{Key: "tags", Value: estate.Mapping(tags...)})
	}
	return e, nil
}

// split takes the fields that are to be taken out from those that are set.
func (e entry) split() (set []estate.Field, drop []string) {
	for _, f := range e {
		if f.Value.Is(none) {
			drop = append(drop, f.Key)
		} else {
			set = append(set, f)
		}
	}
	return set, drop
}

// value is the fields as an entry's value: a mapping, or the one value without a name.
func (e entry) value() estate.Value {
	if len(e) == 1 && e[0].Key == "" {
		return e[0].Value
	}
	set, _ := e.split()
	return estate.Mapping(set...)
}
