package linux

import (
	"encoding/binary"

	"github.com/google/nftables"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// key is the beginning and the end of an element.
type key struct{ lo, hi []byte }

func pad(b []byte) []byte {
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}

func (k *key) put(lo, hi []byte) *key {
	k.lo, k.hi = append(k.lo, pad(lo)...), append(k.hi, pad(hi)...)
	return k
}

func (k *key) both(b []byte) *key { return k.put(b, append([]byte{}, b...)) }

func (k *key) source(x Box) *key {
	return k.put(x.Source.Lo.Addr().AsSlice(), x.Source.Hi.Addr().AsSlice())
}

// service puts protocol and ports, of a service that has them.
func (k *key) service(x Box) *key {
	if sortOf(x.Services.Lo) != ported {
		return k
	}
	k.both([]byte{protocol(x.Services.Lo)})
	return k.put(binary.BigEndian.AppendUint16(nil, x.Services.Lo.Port()), binary.BigEndian.AppendUint16(nil, x.Services.Hi.Port()))
}

// anyService puts services of any sort; those without ports have the port 0.
func (k *key) anyService(run span.Run[flow.Service]) *key {
	if sortOf(run.Lo) == ported {
		return k.service(Box{Services: run})
	}
	return k.both([]byte{protocol(run.Lo)}).both(make([]byte, 4))
}

func (k *key) time(x Box) *key {
	return k.put(binary.BigEndian.AppendUint64(nil, x.Begin), binary.BigEndian.AppendUint64(nil, x.End))
}

// elements are the boxes of one family.
func elements(f family, boxes []Box, write func(Box, *key)) (list []nftables.SetElement) {
	for _, x := range boxes {
		if x.Source.Lo.Addr().Is4() != f.v4 {
			continue
		}
		k := &key{}
		write(x, k)
		list = append(list, nftables.SetElement{Key: k.lo, KeyEnd: k.hi})
	}
	return list
}
