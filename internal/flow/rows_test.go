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
	f.Add(`machine m` + "\t" + `{"name":"m","interfaces":[{"subnet":"s","network":"n","addresses":["192.0.2.4","2001:db8::4"]},{"subnet":"t","network":"n","addresses":["192.0.2.5"]}],"wants4":true,"wants6":true,"public4":"192.0.2.6","public6":"2001:db8::6"}`)
	f.Add(`machine m` + "\t" + `{"name":"m\u0041","interfaces":[{"subnet":"s","network":"n","addresses":null}],"public4":"192.0.2"}`)
	f.Add("group g\t{\"name\":\"g\"}\nrule r\t" + `{"kind":"opening","from":["192.0.2.1"],"group":"g","services":["tcp/22","udp/53"],"begin":"2026-04-01T09:00:00Z","until":"2026-04-01T09:00:00.5Z","opening":12,"sentence":"open","file":"f","line":3}`)
	f.Fuzz(func(t *testing.T, text string) {
		var rows []Row
		for line := range strings.SplitSeq(text, "\n") {
			key, body, _ := strings.Cut(line, "\t")
			rows = append(rows, Row{Key: key, Body: body})
		}
		p, err := FromRows(rows)
		for i := range rows { // no row that begins so is read field by field
			rows[i].Body = " " + rows[i].Body
		}
		slow, slowErr := FromRows(rows)
		require.Equal(t, slowErr == nil, err == nil)
		if err != nil {
			return
		}
		require.Equal(t, slow.Rows(), p.Rows())
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
