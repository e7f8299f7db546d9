package cost

import (
	"encoding/json"
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
		Prices: Prices{DiskGB: 100, Address: 4_000, Front: 8_000, Bastion: 12_000}, Limits: Amounts{Machines: 1, CPUs: 9, MemoryMiB: 9000, Addresses: 2, DiskGB: 100},
	}
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(`estate: a
site: sim
networks: {n: {space: [10.0.0.0/16], outside: true, subnets: {s: {range: [10.0.1.0/24]}}}}
machines: {m: {image: linux, size: c1, at: s, address: auto}, o: {image: linux, size: c1, at: s}}
fronts: {f: {network: n, address: auto}}
`)})
	require.NoError(t, err)
	require.NoError(t, c.Check(e, nil))
	b := c.Bill(e, Usage{})
	assert.Equal(t, Money(9_000+1_000+4_000+9_000+1_000+8_000+4_000), b.Hour())
	assert.Equal(t, "26.28", b.Month().String())
	assert.Equal(t, Amounts{Machines: 2, CPUs: 2, MemoryMiB: 2048, Addresses: 2, DiskGB: 20}, b.Used)
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
