package linux

import (
	"encoding/binary"
	"time"

	"github.com/google/nftables"
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

// openElements are what openings let pass to an address. Each has the wall clock in its
// key and a time-out besides, whichever comes first; one that is over is none.
func openElements(f family, o opened, now time.Time) (list []nftables.SetElement) {
	for _, x := range o.boxes {
		left := time.Duration(int64(x.End) - now.UnixNano())
		if x.Source.Lo.Addr().Is4() != f.v4 || x.End >= forever/2 || left < time.Millisecond {
			continue // a time-out of less than that would be for ever
		}
		k := (&key{}).both(native(o.id)).service(x).source(x).time(x)
		list = append(list, nftables.SetElement{Key: k.lo, KeyEnd: k.hi, Timeout: left.Truncate(time.Millisecond)})
	}
	return list
}
