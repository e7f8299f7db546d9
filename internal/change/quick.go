package change

import (
	"encoding/json"
	"net/netip"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/quickjson"
)

// What is kept of a resource is read field by field where it is a machine's, as it is written, and by the general reader where it stands in any other
// form: an estate has as many of those as machines, and few of any other kind.

// decodeStored reads what [Resource.Encode] writes.
func decodeStored(text string) (s stored, err error) {
	r := quickjson.Of(text)
	r.Must(`{"spec":`)
	s.Spec = spec(r)
	r.Must(`,"given":`)
	s.Given = given(r)
	if r.Must("}"); r.Done() {
		return s, nil
	}
	return decodeGeneric[stored](text)
}

// DecodeSpec reads a spec in JSON.
func DecodeSpec(text string) (s Spec, err error) {
	r := quickjson.Of(text)
	if s = spec(r); r.Done() {
		return s, nil
	}
	return decodeGeneric[Spec](text)
}

// DecodeGiven reads the public addresses that a site gave, in JSON.
func DecodeGiven(text string) (p flow.Public, err error) {
	r := quickjson.Of(text)
	if p = given(r); r.Done() {
		return p, nil
	}
	return decodeGeneric[flow.Public](text)
}

func spec(r *quickjson.Text) (s Spec) {
	r.Must("{")
	first := true
	field := func(name string) bool { // fields come in the order in which they stand in Spec
		if first {
			is := r.May(name)
			first = !is
			return is
		}
		return r.May("," + name)
	}
	if field(`"image":"`) {
		s.Image = r.String()
	}
	if field(`"boot":"`) {
		s.Boot = r.String()
	}
	if field(`"size":"`) {
		s.Size = r.String()
	}
	if field(`"key":"`) {
		s.Key = r.String()
	}
	if field(`"tags":{`) {
		s.Tags = map[string]string{}
		for next := true; next && r.OK(); next = r.May(",") {
			r.Must(`"`)
			key := r.String()
			r.Must(`:"`)
			s.Tags[key] = r.String()
		}
		r.Must("}")
	}
	if field(`"inside":{`) {
		s.Inside = map[string][]netip.Addr{}
		for next := true; next && r.OK(); next = r.May(",") {
			r.Must(`"`)
			subnet := r.String()
			r.Must(`:[`)
			var list []netip.Addr
			for next := true; next && r.OK(); next = r.May(",") {
				r.Must(`"`)
				list = append(list, r.Addr())
			}
			r.Must(`]`)
			s.Inside[subnet] = list
		}
		r.Must("}")
	}
	if field(`"subnets":`) {
		s.Subnets = r.Strings()
	}
	s.Password = field(`"password":true`)
	s.Auto4 = field(`"auto4":true`)
	s.Auto6 = field(`"auto6":true`)
	if field(`"gb":`) {
		s.GB = r.Number()
	}
	if field(`"kind":"`) {
		s.Speed = estate.Speed(r.String())
	}
	r.Must("}")
	return s
}

func given(r *quickjson.Text) (p flow.Public) {
	r.Must(`{"Wants4":`)
	p.Wants4 = truth(r)
	r.Must(`,"Wants6":`)
	p.Wants6 = truth(r)
	r.Must(`,"Addr4":"`)
	if !r.May(`"`) {
		p.Addr4 = r.Addr()
	}
	r.Must(`,"Addr6":"`)
	if !r.May(`"`) {
		p.Addr6 = r.Addr()
	}
	r.Must("}")
	return p
}

func truth(r *quickjson.Text) bool {
	if r.May("true") {
		return true
	}
	r.Must("false")
	return false
}

// decodeGeneric reads JSON in any form.
func decodeGeneric[T any](text string) (v T, err error) {
	err = json.Unmarshal([]byte(text), &v)
	return v, err
}
