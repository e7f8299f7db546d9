package work

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// Adopt returns the files with a resource as it is on the site: an unmanaged one is added,
// and one that was altered is altered in the files too.
func (w *Work) Adopt(files Files, d change.Drifted) (Files, error) {
	t := d.Resource
	if d.Gone {
		return nil, &sentence.Error{Problem: fmt.Sprintf("%s %s is gone from the site, and nothing is left of it to adopt", t.Kind, t.Name), Remedy: fault.Say("enact makes it again; ").Run("remove", string(t.Kind), t.Name).Say(" takes it out of the files")}
	}
	path, fields, err := entryOf(t)
	if err != nil {
		return nil, err
	}
	if t.Unmanaged {
		value := estate.Mapping(fields...)
		if len(fields) == 1 && fields[0].Key == "" { // a bare word
			value = fields[0].Value
		}
		return files.AddNoun(path, t.Name, value)
	}
	was := t
	was.Spec = *t.LastEnacted
	_, before, err := entryOf(was)
	if err != nil {
		return nil, err
	}
	if len(fields) == 1 && fields[0].Key == "" {
		return files.Alter(path, []estate.Field{{Key: t.Name, Value: fields[0].Value}})
	}
	var alter []estate.Field
	var drop []string
	for _, f := range fields {
		if !slices.ContainsFunc(before, func(b estate.Field) bool { return b.Key == f.Key && b.Value.String() == f.Value.String() }) {
			alter = append(alter, f)
		}
	}
	for _, b := range before {
		if !slices.ContainsFunc(fields, func(f estate.Field) bool { return f.Key == b.Key }) {
			drop = append(drop, b.Key)
		}
	}
	return files.Alter(append(path, t.Name), alter, drop...)
}

// entryOf tells where in estate.yaml a resource's entry stands, and its fields.
func entryOf(t change.Resource) (path []string, fields []estate.Field, err error) {
	s := t.Spec
	word := func(key, value string) {
		if value != "" {
			fields = append(fields, estate.Field{Key: key, Value: estate.Word(value)})
		}
	}
	list := func(key string, values []string) {
		if len(values) > 0 {
			fields = append(fields, estate.Field{Key: key, Value: estate.List(values...)})
		}
	}
	yes := func(key string, value bool) {
		if value {
			fields = append(fields, estate.Field{Key: key, Value: estate.Bare("true")})
		}
	}
	switch t.Kind {
	case change.Key:
		return []string{"keys"}, []estate.Field{{Value: estate.Word(s.Public)}}, nil
	case change.Address:
		value := "ipv4"
		if s.V6 {
			value = "ipv6"
		}
		if len(s.Fixed) > 0 {
			value = s.Fixed[0].String()
		}
		return []string{"addresses"}, []estate.Field{{Value: estate.Word(value)}}, nil
	case change.Network:
		list("space", texts(s.Ranges))
		yes("outside", s.Outside)
		word("outward", s.Outward)
		list("joins", s.Joins)
		list("dns", texts(s.DNS))
		return []string{"networks"}, fields, nil
	case change.Subnet:
		list("range", texts(s.Ranges))
		word("for", s.For)
		list("gateway", texts(s.Gateway))
		list("allocate", s.Allocate)
		return []string{"networks", s.Network, "subnets"}, fields, nil
	case change.Line:
		word("network", s.Network)
		list("range", texts(s.Ranges))
		var peers []estate.Field
		for _, name := range slices.Sorted(maps.Keys(s.Peers)) {
			p := s.Peers[name]
			peers = append(peers, estate.Field{Key: name, Value: estate.Mapping(estate.Field{Key: "key", Value: estate.Word(p.Key)}, estate.Field{Key: "address", Value: estate.List(texts(p.Addrs)...)})})
		}
		if len(peers) > 0 {
			fields = append(fields, estate.Field{Key: "peers", Value: estate.Mapping(peers...)})
		}
		return []string{"lines"}, fields, nil
	case change.Machine:
		return []string{"machines"}, machineFields(s), nil
	case change.Volume:
		fields = append(fields, estate.Field{Key: "gb", Value: estate.Bare(strconv.Itoa(s.GB))})
		word("kind", string(s.Speed))
		if !t.Boots() { // the machine tells what it boots from
			word("machine", s.Machine)
			word("device", s.Device)
		}
		word("from", s.From)
		word("image", s.Image)
		return []string{"volumes"}, fields, nil
	case change.Snapshot:
		word("machine", s.Machine)
		word("volume", s.Volume)
		return []string{"snapshots"}, fields, nil
	case change.Front:
		word("network", s.Network)
		list("address", addressWords(s))
		return []string{"fronts"}, fields, nil
	}
	return nil, nil, &sentence.Error{Problem: fmt.Sprintf("a %s cannot be adopted", t.Kind), Remedy: fault.Say("write it into estate.yaml by hand")}
}

// keysValue is one key as a word, and several as a list.
func keysValue(keys []string) estate.Value {
	if len(keys) == 1 {
		return estate.Word(keys[0])
	}
	return estate.List(keys...)
}

func machineFields(s change.Spec) (fields []estate.Field) {
	add := func(key string, v estate.Value) { fields = append(fields, estate.Field{Key: key, Value: v}) }
	if s.Boot != "" {
		add("boot", estate.Word(s.Boot))
	} else {
		add("image", estate.Word(s.Image))
	}
	add("size", estate.Word(s.Size))
	add("at", estate.List(s.Subnets...))
	if s.Key != "" {
		add("key", keysValue(s.Keys()))
	}
	if words := addressWords(s); len(words) > 0 {
		add("address", estate.Word(words[0]))
	}
	disk := []estate.Field{{Key: "gb", Value: estate.Bare(strconv.Itoa(s.GB))}}
	if s.Speed == estate.Fast {
		disk = append(disk, estate.Field{Key: "kind", Value: estate.Word(string(estate.Fast))})
	}
	if s.GB > 0 {
		add("disk", estate.Mapping(disk...))
	}
	if s.Password {
		add("password", estate.Bare("true"))
	}
	var tags []estate.Field
	for _, key := range slices.Sorted(maps.Keys(s.Tags)) {
		tags = append(tags, estate.Field{Key: key, Value: estate.Word(s.Tags[key])})
	}
	if len(tags) > 0 {
		add("tags", estate.Mapping(tags...))
	}
	return fields
}

func addressWords(s change.Spec) []string {
	if s.Auto4 || s.Auto6 {
		return []string{"auto"}
	}
	return append(slices.Clone(s.Reserved), texts(s.Fixed)...)
}

func texts[T fmt.Stringer](list []T) []string {
	words := make([]string, len(list))
	for i, item := range list {
		words[i] = item.String()
	}
	return words
}

// Drifted finds a resource that is not as it was enacted, by kind and name.
func (d *Drift) Drifted(kind, name string) (change.Drifted, bool) {
	i := slices.IndexFunc(d.Resources, func(one change.Drifted) bool {
		return string(one.Resource.Kind) == kind && strings.EqualFold(one.Resource.Name, name)
	})
	if i < 0 {
		return change.Drifted{}, false
	}
	return d.Resources[i], true
}

// MachineAt returns a machine as somebody would make it by hand in a subnet:
// with the site's first image and size where none is said, and free addresses.
func MachineAt(st *State, name string, want change.Spec, c cost.Catalogue) (change.Resource, error) {
	m := estate.Machine{Name: name, Image: cmp.Or(want.Image, c.Images[0].Name), Size: cmp.Or(want.Size, c.Sizes[0].Name), Subnets: want.Subnets}
	e := *st.Estate
	e.Machines = append(slices.Clone(e.Machines), m)
	list, err := change.Desired(&e, st.Report.Resources, nil, func(image string) int { return c.MinDisk(image, nil) })
	if err != nil {
		return change.Resource{}, err
	}
	t, _ := change.Find(list, change.Machine, name)
	return t, nil
}
