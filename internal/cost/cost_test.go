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
	b := c.Of(e, Meter{})
	assert.Equal(t, Money(9_000+1_000+4_000+9_000+1_000+8_000+4_000), b.Hour())
	assert.Equal(t, "26.28", b.Month().String())
	assert.Equal(t, Amounts{Machines: 2, CPUs: 2, MemoryMiB: 2048, Addresses: 2, DiskGB: 20}, b.Used)
	assert.Equal(t, []string{"2 machines, and the site's limit is 1"}, b.Used.Over(c.Limits))
	assert.Zero(t, c.Of(nil, Meter{}).Hour())
	c.Images[0].Name = "linus"
	require.ErrorContains(t, c.Check(e, nil), "the site has no image “linux”")
}
