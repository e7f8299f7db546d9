package linux

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

const spreadNouns = `estate: tides
site: linux
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}
machines:
  gauge-1: {image: light, size: c1m1, at: landing}
  gauge-2: {image: light, size: c1m1, at: landing}
fronts: {quay: {network: estuary, address: auto}}
`

// TestAMemberThatIsOutGetsNothing asks which machines a front leads to, while members are out.
func TestAMemberThatIsOutGetsNothing(t *testing.T) {
	s := siteOf(t)
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(spreadNouns)},
		estate.File{Name: estate.RulesName, Data: []byte("spread quay http over all on http from everywhere tested by http /healthz\n")})
	require.NoError(t, err)
	wanted, err := change.Desired(e, nil, nil, nil)
	require.NoError(t, err)
	changes, err := change.Diff(nil, wanted, nil)
	require.NoError(t, err)
	for _, c := range changes {
		_, err := s.Apply(t.Context(), c, nil)
		require.NoError(t, err)
	}
	o, err := s.Observe(t.Context(), driver.Everything)
	require.NoError(t, err)
	require.NoError(t, s.Install(t.Context(), flow.Compile(e, change.Assigned(o.Resources)), o.Mark))
	front, _ := change.Find(o.Resources, change.Front, "quay")
	// Connections are spread by where they come from: of sixty sources some lead to either, unless one is out.
	through := func() (n int) {
		for i := range 60 {
			from := netip.AddrFrom4([4]byte{198, 51, 100, byte(i + 1)})
			c, err := s.Dial(t.Context(), from, netip.AddrPortFrom(front.Given.Addr4, 80))
			if err == nil {
				n++
				require.NoError(t, c.Close())
			}
		}
		return n
	}
	http := flow.TCPPort(80)
	member := driver.Member{Front: "quay", Service: http, Machine: "gauge-1", At: netip.MustParseAddrPort("10.60.1.2:80"), Path: "/healthz"}
	require.NoError(t, s.TestMember(t.Context(), member))
	member.Path = ""
	require.NoError(t, s.TestMember(t.Context(), member))
	member.At = netip.MustParseAddrPort("10.60.1.2:81")
	require.ErrorContains(t, s.TestMember(t.Context(), member), "refused")
	out := []driver.EjectedMember{{Front: "quay", Service: http, Machine: "gauge-1", Since: time.Now(), Why: "it does not answer"}}
	require.NoError(t, s.SetEjected(t.Context(), out))
	was, err := s.Mark(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.SetEjected(t.Context(), out), "the same again writes nothing")
	now, err := s.Mark(t.Context())
	require.NoError(t, err)
	assert.Equal(t, was, now)
	// Its process hangs: what led to it would find no listener. It leads to the other one.
	s.stopListening("gauge-1")
	assert.Equal(t, 60, through())
	again, err := New(s.dir, s.clock).Ejected(t.Context())
	require.NoError(t, err)
	require.Len(t, again, 1, "whoever said it may be gone")
	assert.Equal(t, "gauge-1", again[0].Machine)
	require.NoError(t, s.SetEjected(t.Context(), append(out, driver.EjectedMember{Front: "quay", Service: http, Machine: "gauge-2", Since: time.Now(), Why: "no"})))
	assert.Equal(t, 60, through(), "where nobody is left all get some, of those that run")
}
