package change

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"ironbark/internal/flow"
)

// FuzzDecode reads what is kept of a resource field by field, and by the general reader: they say the same.
func FuzzDecode(f *testing.F) {
	m := Resource{Kind: Machine, Name: "gauge-1", Spec: Spec{
		Image: "linux-web", Boot: "disk", Size: "c1m1", Key: "ops,leads", Tags: map[string]string{"role": "web", "a": "b"}, Subnets: []string{"landing", "pier"}, Password: true, Auto4: true, Auto6: true, GB: 10, Speed: "standard",
		Inside: map[string][]netip.Addr{"landing": {netip.MustParseAddr("10.60.1.4"), netip.MustParseAddr("2001:db8::4")}},
	}, Given: flow.Public{Wants4: true, Addr4: netip.MustParseAddr("203.0.113.9")}}
	s, err := decodeStored(m.Encode())
	require.NoError(f, err)
	require.Equal(f, stored{m.Spec, m.Given}, s)
	f.Add(m.Encode())
	f.Add(Resource{Kind: Network, Spec: Spec{Network: "n", Outside: true}}.Encode())
	f.Add(`{"spec":{"tags":{"a":"1","a":"2"}},"given":{"Wants4":false,"Wants6":false,"Addr4":"","Addr6":"::1"}}`)
	f.Fuzz(func(t *testing.T, text string) {
		got, err := decodeStored(text)
		want, slowErr := decodeGeneric[stored](text)
		require.Equal(t, slowErr == nil, err == nil)
		if err == nil {
			require.Equal(t, want, got)
		}
	})
}
