package flow

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzRows reads installed tables that may be damaged: they are refused or read,
// and what is read is the same when it is written and read again.
func FuzzRows(f *testing.F) {
	f.Add("guard \t[\"tcp/22\"]\nnetwork n\t{\"name\":\"n\",\"space\":[\"10.0.0.0-10.0.0.255\"],\"outside\":true}\nmachine m\t{\"name\":\"m\",\"interfaces\":[{\"subnet\":\"s\",\"network\":\"n\",\"addresses\":[\"10.0.0.4\"]}]}\n" +
		"group g\t{\"name\":\"g\",\"machines\":[\"m\"]}\nrule r\t{\"kind\":\"allow\",\"from\":[\"0.0.0.0-255.255.255.255\"],\"group\":\"g\",\"services\":[\"tcp/1-80\"],\"sentence\":\"x\"}")
	f.Add("door d\t{\"kind\":\"forward\",\"group\":\"g\",\"service\":\"tcp/1\",\"on\":\"udp/2\"}\ngroup g\t{\"name\":\"g\"}\nnowhere \t[\"::1\"]")
	f.Fuzz(func(t *testing.T, text string) {
		var rows []Row
		for line := range strings.SplitSeq(text, "\n") {
			key, body, _ := strings.Cut(line, "\t")
			rows = append(rows, Row{Key: key, Body: body})
		}
		p, err := FromRows(rows)
		if err != nil {
			return
		}
		for m := range p.Machines {
			p.DoorsTo(int32(m))
		}
		p.GatewayDoors()
		written := p.Rows()
		again, err := FromRows(written)
		require.NoError(t, err)
		require.Equal(t, written, again.Rows())
	})
}
