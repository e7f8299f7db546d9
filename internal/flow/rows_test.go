package flow

import (
	"encoding/binary"
	"hash/crc32"
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
		same, err := FromBinary(string(p.Binary()))
		require.NoError(t, err)
		require.True(t, SameTables(p, same))
		require.Equal(t, p.Binary(), same.Binary())
	})
}

// FuzzBinary reads bytes that may be anything: they are refused, or a plan that is written as the same bytes.
func FuzzBinary(f *testing.F) {
	p, err := FromRows([]Row{
		{"guard ", `["tcp/22"]`},
		{"network n", `{"name":"n","space":["10.0.0.0-10.0.0.255","2001:db8::-2001:db8::ff"],"outside":true,"joins":["o"]}`},
		{"group g", `{"name":"g","machines":["m"]}`},
		{"machine m", `{"name":"m","interfaces":[{"subnet":"s","network":"n","addresses":["10.0.0.4","2001:db8::4"]}],"wants4":true,"public4":"192.0.2.6"}`},
		{"line l", `{"name":"l","network":"n","space":["172.20.0.0"]}`},
		{"front f", `{"name":"f","network":"n","public6":"2001:db8:1::1"}`},
		{"gateway b", `{"name":"b","network":"n","inside":["10.0.0.9"],"from":["::1"]}`},
		{"door d", `{"kind":"spread","front":"f","group":"g","service":"tcp/443","on":"tcp/8443","until":"2026-04-01T09:00:00Z","sentence":"x"}`},
		{"rule r", `{"kind":"opening","group":"g","from":["192.0.2.1"],"services":["tcp/22","udp/53"],"begin":"1926-04-01T09:00:00Z","until":"2026-04-01T09:00:00.5Z","opening":12,"sentence":"open","file":"f","line":3}`},
		{"outward r", `{"kind":"deny","group":"g","from":["192.0.2.1"],"services":["ping"],"sentence":"deny"}`},
	})
	require.NoError(f, err)
	data := p.Binary()
	same, err := FromBinary(string(data))
	require.NoError(f, err)
	require.Equal(f, p, same)
	for i := range data { // no byte may be another one, and none may be missing
		damaged := []byte(string(data))
		damaged[i] ^= 1
		_, err := FromBinary(string(damaged))
		require.ErrorIs(f, err, ErrBinary)
		_, err = FromBinary(string(data[:i]))
		require.ErrorIs(f, err, ErrBinary)
	}
	const sum = 4
	f.Add(data[len(binaryMagic) : len(data)-sum])
	f.Fuzz(func(t *testing.T, body []byte) {
		data := append([]byte(binaryMagic), body...)
		data = binary.BigEndian.AppendUint32(data, crc32.Checksum(data, castagnoli))
		p, err := FromBinary(string(data))
		if err != nil {
			return
		}
		again, err := FromBinary(string(p.Binary()))
		require.NoError(t, err)
		require.Equal(t, p.Rows(), again.Rows())
		for m := range p.Machines {
			p.DoorsTo(int32(m))
		}
	})
}
