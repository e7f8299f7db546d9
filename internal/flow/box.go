package flow

// Box is a set of services from a set of sources: every service from every source.
type Box struct {
	Services Services
	From     Addrs
}

// IsEmpty reports whether a box holds no flow.
func (b Box) IsEmpty() bool { return b.Services.IsEmpty() || b.From.IsEmpty() }

// Intersect returns what is in both boxes.
func (b Box) Intersect(o Box) Box {
	return Box{b.Services.Intersect(o.Services), b.From.Intersect(o.From)}
}

// Less returns what is in a box and in none of others, as boxes that do not overlap.
// Cost: at most two boxes more for each of the others.
func (b Box) Less(others []Box) []Box {
	list := []Box{b}
	for _, o := range others {
		var next []Box
		for _, l := range list {
			both := l.Intersect(o)
			if both.IsEmpty() {
				next = append(next, l)
				continue
			}
			if services := l.Services.Subtract(both.Services); !services.IsEmpty() {
				next = append(next, Box{services, l.From})
			}
			if from := l.From.Subtract(both.From); !from.IsEmpty() {
				next = append(next, Box{both.Services, from})
			}
		}
		list = next
	}
	return list
}
