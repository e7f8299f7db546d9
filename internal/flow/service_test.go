package flow

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

type shippedOnly struct{}

func (shippedOnly) Ports(name string) ([]sentence.Service, bool) { return sentence.WellKnown(name) }

// TestPrintedServicesMeanWhatTheyMeant prints random sets and reads the words as a
// sentence does: the same set comes back, but for the rest that has no word alone.
func TestPrintedServicesMeanWhatTheyMeant(t *testing.T) {
	namings := Namings(nil, shippedOnly{})
	rapid.Check(t, func(t *rapid.T) {
		var runs []span.Run[Service]
		for range rapid.IntRange(1, 4).Draw(t, "runs") {
			lo := rapid.SampledFrom([]Service{1, 20, 22, 23, 80, 443, 3389, 5900, 65535, udpBase + 1, udpBase + 53, udpBase + 3389, Ping}).Draw(t, "lo")
			runs = append(runs, span.Run[Service]{Lo: lo, Hi: min(lo+rapid.SampledFrom([]Service{0, 1, 3, 100}).Draw(t, "more"), Ping)})
		}
		ports, _ := ParseServiceRuns([]string{"tcp/1-65535", "udp/1-65535", "ping"})
		set := span.Of(runs...).Intersect(ports) // port 0 cannot be said
		if rapid.Bool().Draw(t, "wide") {
			set = AnyService.Subtract(set)
		}
		words := PrintServices(set, namings)
		s, err := sentence.Parse("deny " + words + " from everywhere to all")
		require.NoError(t, err, words)
		require.True(t, ServicesOf(shippedOnly{}, s.(sentence.Deny).Services).Equal(set), "%s for %v", words, ServiceRuns(set))
		again, err := ParseServiceRuns(ServiceRuns(set))
		require.NoError(t, err)
		require.True(t, again.Equal(set))
	})
	all, _ := ParseServiceRuns([]string{"tcp/22-23", "tcp/3389", "udp/3389"})
	assert.Equal(t, "rdp, ssh, telnet", PrintServices(all, namings))
	assert.Equal(t, "any except ping", PrintServices(AnyService.Subtract(span.One(Ping)), namings))
}

// TestPointsAreAddresses holds points to the addresses that they stand for.
func TestPointsAreAddresses(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(label string) Point {
			if rapid.Bool().Draw(t, label) {
				return Point{lo: uint64(rapid.Uint32().Draw(t, "v4"))}
			}
			return Point{hi: rapid.Uint64().Draw(t, "hi"), lo: rapid.Uint64().Draw(t, "lo"), v6: true}
		}
		a, b := draw("a"), draw("b")
		require.Equal(t, a, PointOf(a.Addr()))
		require.Equal(t, a.Addr().Compare(b.Addr()), a.Compare(b))
		if next := a.Addr().Next(); next.IsValid() {
			require.Equal(t, next, a.Next().Addr())
			require.Equal(t, a, a.Next().Prev())
		}
	})
}
