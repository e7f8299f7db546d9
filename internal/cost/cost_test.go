package cost

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/estate"
)

func TestMoneyReadsAndPrints(t *testing.T) {
	for text, want := range map[string]string{
		`"0"`: "0.00", `"1"`: "1.00", `"0.0085"`: "0.01", `"0.005"`: "0.01", `"0.004999"`: "0.00", `"12.345678"`: "12.35", `"999999999.99"`: "999999999.99",
	} {
		var m Money
		require.NoError(t, json.Unmarshal([]byte(text), &m), text)
		assert.Equal(t, want, m.String(), text)
	}
	assert.Equal(t, "-0.01", Money(-5_000).String(), "half a cent is rounded away from zero")
	for _, bad := range []string{`"1.2.3"`, `"-1"`, `"1e3"`, `"0.0000001"`, `1.5`, `"99999999999"`} {
		var m Money
		assert.Error(t, json.Unmarshal([]byte(bad), &m), bad)
	}
}

func TestABillIsTheSumOfItsLines(t *testing.T) {
	c := Catalogue{
		Currency: "EUR", Images: []Image{{Name: "linux", DiskGB: 10}}, Sizes: []Size{{Name: "c1", CPUs: 1, MemoryMiB: 1024, Hour: 9_000}},
		Prices: Prices{DiskGB: 100, Address: 4_000, Front: 8_000, Bastion: 12_000}, Limits: Amounts{Machines: 1, CPUs: 9, MemoryMiB: 9000, Addresses: 3, DiskGB: 100},
	}
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(`estate: a
site: sim
networks: {n: {space: [10.0.0.0/16], outside: true, subnets: {s: {range: [10.0.1.0/24]}}}}
machines: {m: {image: linux, size: c1, at: s, address: auto}, o: {image: linux, size: c1, at: s}}
addresses: {slip: ipv4}
fronts: {f: {network: n, address: auto}, g: {network: n, address: slip}}
`)})
	require.NoError(t, err)
	require.NoError(t, c.Check(e, nil))
	b := c.Bill(e, Usage{})
	assert.Equal(t, Money(9_000+1_000+4_000+9_000+1_000+8_000+4_000+8_000+4_000), b.Hour(), "a reserved address is paid for once")
	assert.Equal(t, "35.04", b.Month().String())
	assert.Equal(t, Amounts{Machines: 2, CPUs: 2, MemoryMiB: 2048, Addresses: 3, DiskGB: 20}, b.Used)
	assert.Equal(t, []string{"2 machines, and the site's limit is 1"}, b.Used.Over(c.Limits))
	assert.Zero(t, c.Bill(nil, Usage{}).Hour())
	c.Images[0].Name = "linus"
	require.ErrorContains(t, c.Check(e, nil), "the site has no image “linux”")
}

func TestDisksTagsAndTransferArePriced(t *testing.T) {
	c := Catalogue{
		Images: []Image{{Name: "linux", DiskGB: 10}}, Sizes: []Size{{Name: "c1", CPUs: 1, MemoryMiB: 1024, Hour: 9_000}},
		Prices: Prices{DiskGB: 100, FastGB: 300, SnapshotGB: 50, Address: 4_000, Outward: []Tier{{100, 0}, {1000, 20_000}, {0, 8_000}}},
	}
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(`estate: a
site: sim
networks: {n: {space: [10.0.0.0/16], outside: true, subnets: {s: {range: [10.0.1.0/24]}}}}
addresses: {slip: ipv4}
machines: {m: {image: linux, size: c1, at: s, address: slip, tags: {role: web}, disk: {gb: 20, kind: fast}}, o: {image: snap, size: c1, at: s, address: auto, tags: {role: db}}}
snapshots: {snap: {machine: m}}
volumes: {v: {gb: 10, machine: m}, w: {gb: 5, kind: fast}}
`)})
	require.NoError(t, err)
	meter := Usage{Own: Sizes{"snap": 20}, Stopped: func(m string) bool { return m == "o" }}
	require.NoError(t, c.Check(e, meter.Own))
	b := c.Bill(e, meter)
	assert.Equal(t, Money(9_000+20*300+20*100+10*100+5*300+20*50+4_000), b.Hour(), "a stopped machine costs only its disk")
	assert.Equal(t, []Share{{"db", 2_000}, {"web", 9_000 + 6_000 + 1_000}, {"", 1_500 + 1_000 + 4_000}}, b.ByTag("role"))
	assert.Equal(t, 20+20+10+5, b.Used.DiskGB)
	assert.Equal(t, 2, b.Used.Addresses)
	for gb, want := range map[int]Money{0: 0, 100: 0, 101: 20_000, 1000: 900 * 20_000, 1001: 900*20_000 + 8_000} {
		_, sum := c.Prices.Transfer(gb)
		assert.Equal(t, want, sum, "%d GB", gb)
	}
}

// TestTheCatalogueIsHeldToAtItsEdges asks for just enough, and for a little less or more.
func TestTheCatalogueIsHeldToAtItsEdges(t *testing.T) {
	c := Catalogue{
		Images: []Image{{Name: "linux", DiskGB: 10}, {Name: "light", Light: true}}, Sizes: []Size{{Name: "c1", CPUs: 1, MemoryMiB: 512, Hour: 9_000}}, Recipes: []Recipe{{Name: "web-server"}},
		Public: []Pool{{netip.MustParseAddr("203.0.113.10"), netip.MustParseAddr("203.0.113.12")}}, Prices: Prices{DiskGB: 100},
	}
	const head = "estate: a\nsite: sim\nnetworks: {n: {space: [10.0.0.0/16], outside: true, subnets: {s: {range: [10.0.1.0/24]}, b: {range: [10.0.2.0/24]}}}}\n"
	own := Sizes{"snap": 20, "spring": 5}
	for nouns, want := range map[string]string{
		"machines: {m: {image: linux, size: c1, at: s, disk: 10}}":                                                                         "",
		"machines: {m: {image: linux, size: c1, at: s, disk: 9}}":                                                                          "linux needs a disk of 10 GB, and 9 GB is asked for",
		"machines: {m: {image: light, size: c1, at: s}}":                                                                                   "",
		"machines: {m: {image: light, size: c1, at: s, setup: [many]}}\nservices: {many: tcp/1001-1256}":                                   "",
		"machines: {m: {image: light, size: c1, at: s, setup: [many]}}\nservices: {many: tcp/1001-1257}":                                   "machine m is to listen on 257 ports; 256 are the most",
		"machines: {m: {image: linux, size: c2, at: s}}":                                                                                   "c2",
		"machines: {m: {image: linux, size: c1, at: s, setup: [web-server]}}":                                                              "",
		"machines: {m: {image: linux, size: c1, at: s, setup: [web-servr]}}":                                                               "web-servr",
		"machines: {m: {image: linux, size: c1, at: s, address: 203.0.113.10}, o: {image: linux, size: c1, at: s, address: 203.0.113.12}}": "",
		"machines: {m: {image: linux, size: c1, at: s, address: 203.0.113.9}}":                                                             "machine m: 203.0.113.9 is not one of the site's public addresses",
		"machines: {m: {image: linux, size: c1, at: s, address: 203.0.113.13}}":                                                            "machine m: 203.0.113.13 is not one of the site's public addresses",
		"fronts: {f: {network: n, address: 203.0.113.13}}":                                                                                 "front f: 203.0.113.13 is not one",
		"bastions: {b1: {subnet: b, address: 203.0.113.13, from: [everywhere]}}":                                                           "bastion b1: 203.0.113.13 is not one",
		"addresses: {slip: 203.0.113.13}":                                                                                                  "address slip: 203.0.113.13 is not one",
		"addresses: {slip: ipv4}":                                                                                                          "",
		"machines: {m: {image: linux, size: c1, at: s}}\nsnapshots: {snap: {machine: m}}\nvolumes: {v: {gb: 20, image: snap}}":             "",
		"machines: {m: {image: linux, size: c1, at: s}}\nsnapshots: {snap: {machine: m}}\nvolumes: {v: {gb: 19, image: snap}}":             "snap needs 20 GB, and 19 GB is asked for",
		"volumes: {w: {gb: 5}, v: {gb: 5, from: spring}}\nsnapshots: {spring: {volume: w}}":                                                "",
		"volumes: {w: {gb: 5}, v: {gb: 4, from: spring}}\nsnapshots: {spring: {volume: w}}":                                                "snapshot spring holds 5 GB, and 4 GB is asked for",
		"volumes: {w: {gb: 5}, v: {gb: 5, image: spring}}\nsnapshots: {spring: {volume: w}}":                                               "is a snapshot of a volume, and no system to start from",
		"volumes: {v: {gb: 10, image: light}}":                                                                                             "boots from no volume",
		"images: {linux: {file: x.qcow2}}":                                                                                                 "the site has an image “linux” of its own",
	} {
		e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(head + nouns + "\n")})
		require.NoError(t, err, nouns)
		c.Listens = strings.Contains(nouns, "light")
		if err := c.Check(e, own); want == "" {
			assert.NoError(t, err, nouns)
		} else {
			assert.ErrorContains(t, err, want, nouns)
		}
	}

	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(head + "machines: {a: {image: light, size: c1, at: s}, d: {boot: v, size: c1, at: s}, c: {image: linux, size: c1, at: s, disk: 30}}\nvolumes: {v: {gb: 10, image: linux}}\n")})
	require.NoError(t, err)
	bill := c.Bill(e, Usage{})
	var what []string
	for _, l := range bill.Lines {
		what = append(what, l.Name+": "+l.What)
	}
	assert.Equal(t, []string{"a: c1, light", "d: c1, system on volume v", "c: c1, 30 GB standard disk", "v: 10 GB standard disk"}, what)
	assert.Equal(t, Amounts{Machines: 3, CPUs: 2, MemoryMiB: 1024, DiskGB: 40}, bill.Used, "a light machine takes none of the host's")
	limit := Amounts{Machines: 3, CPUs: 2, MemoryMiB: 1024, DiskGB: 40}
	for used, want := range map[int]int{1024: 1, 1025: 2, 2048: 2} {
		assert.Equal(t, Quantity{"GiB of memory", want, 1}, Amounts{MemoryMiB: used}.Against(limit)[2], "what is begun counts whole")
	}
	assert.Empty(t, bill.Used.Over(limit))
	limit.DiskGB--
	assert.Equal(t, []string{"40 GB of disk, and the site's limit is 39"}, bill.Used.Over(limit))
}

// TestAnUplinkGivesItsOwnAddresses takes the addresses of an uplink where the site has one, and the site's elsewhere.
func TestAnUplinkGivesItsOwnAddresses(t *testing.T) {
	own := []Pool{{netip.MustParseAddr("203.0.113.10"), netip.MustParseAddr("203.0.113.12")}}
	of := func(uplinks bool, uplink string) []Pool {
		e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte("estate: a\nsite: linux\nnetworks: {n: {space: [10.0.0.0/16], outside: true, subnets: {s: {range: [10.0.1.0/24]}}}}\n" + uplink)})
		require.NoError(t, err)
		return Catalogue{Public: own, Uplinks: uplinks}.Pools(e)
	}
	const routed = "uplink: {public: [198.51.100.16/30, 198.51.100.32/31, \"2001:db8::/64\"]}\n"
	assert.Equal(t, own, of(true, ""))
	assert.Equal(t, own, of(false, routed), "this site has none")
	pool := func(first, last string) Pool { return Pool{netip.MustParseAddr(first), netip.MustParseAddr(last)} }
	assert.Equal(t, []Pool{pool("198.51.100.17", "198.51.100.19"), pool("198.51.100.32", "198.51.100.33"), pool("2001:db8::1", "2001:db8::ffff:ffff:ffff:fffe")}, of(true, routed), "the first is the router's")
	assert.Equal(t, []Pool{pool("198.51.100.16", "198.51.100.19")},
		of(true, "uplink: {interface: eth0, addresses: [192.0.2.20/24], gateway: [192.0.2.1], public: [198.51.100.16/30]}\n"), "the router has one of the interface's network")
}
