package linux

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// TestAnAddressOnAnInterfaceBelongsToOneEstate has two estates claim addresses on interfaces of the host's.
func TestAnAddressOnAnInterfaceBelongsToOneEstate(t *testing.T) {
	claims := func(link string, given ...string) (list []change.Resource) {
		list = append(list, change.Resource{Kind: change.Uplink, Name: estate.UplinkName, Spec: change.Spec{Link: link}})
		for _, a := range given {
			list = append(list, change.Resource{Kind: change.Address, Name: a, Given: flow.Public{Addr4: netip.MustParseAddr(a)}})
		}
		return list
	}
	first, second := siteOf(t), siteOf(t)
	require.NoError(t, first.build())
	require.NoError(t, second.build())
	require.NoError(t, first.claimPublic(claims("eth0", "192.0.2.33", "192.0.2.34")))
	taken := &TakenError{}
	require.ErrorAs(t, second.claimPublic(claims("eth0", "192.0.2.40", "192.0.2.34")), &taken)
	assert.Equal(t, "192.0.2.34", taken.Address.String())
	assert.Equal(t, first.folder(), taken.Folder)
	require.NoError(t, second.claimPublic(claims("eth1", "192.0.2.34")), "another interface")
	require.NoError(t, first.claimPublic(claims("eth0", "192.0.2.33")))
	require.NoError(t, second.claimPublic(claims("eth0", "192.0.2.34")), "it was given up")
	require.ErrorAs(t, first.claimPublic(claims("eth0", "192.0.2.34")), &taken)
	require.NoError(t, second.RemoveEverything())
	require.NoError(t, first.claimPublic(claims("eth0", "192.0.2.34")), "the other estate is gone")
}
