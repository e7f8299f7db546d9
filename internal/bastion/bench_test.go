package bastion_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"ironbark/internal/bastion"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// BenchmarkPolicy is what a gateway works out whenever anything was enacted, and one request.
func BenchmarkPolicy(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		e, given, err := oracle.MakeLarge(n, 1).Read()
		require.NoError(b, err)
		if len(e.Bastions) == 0 {
			b.Skip("the large estate has no bastion")
		}
		plan := flow.Compile(e, given)
		name := e.Bastions[0].Name
		b.Run(fmt.Sprint("compile-", n), func(b *testing.B) {
			for b.Loop() {
				_, ok := bastion.Compile(e, plan, name)
				require.True(b, ok)
			}
		})
		policy, _ := bastion.Compile(e, plan, name)
		r := bastion.Request{Person: e.People[0].Name, Client: netip.MustParseAddr("198.51.100.7"), Host: e.Machines[n/2].Name, Port: 22}
		b.Run(fmt.Sprint("judge-", n), func(b *testing.B) {
			for b.Loop() {
				policy.Judge(r, oracle.Epoch)
			}
		})
	}
}
