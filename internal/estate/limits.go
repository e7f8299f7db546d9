package estate

import (
	"fmt"
	"time"

	"go.yaml.in/yaml/v4"

	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// Limits bound what an estate's sentences may grant. The zero Limits are those of an
// estate that says nothing of them.
type Limits struct {
	opening, image time.Duration
	sizes          map[string]Traffic
}

// Traffic returns the limits of a machine: its own, and where it has none those of its size.
func (l Limits) Traffic(m Machine) Traffic { return m.Limits.Or(l.sizes[m.Size]) }

// The longest opening where an estate does not say, and the longest that it can say.
const (
	DefaultOpening = 24 * time.Hour
	MaxOpening     = 30 * 24 * time.Hour
)

// Opening is the longest that an opening may last, whatever permits it.
func (l Limits) Opening() time.Duration {
	if l.opening == 0 {
		return DefaultOpening
	}
	return l.opening
}

// DefaultImage is how old an image may be until that is found, where an estate does not say.
const DefaultImage = 365 * 24 * time.Hour

// Image is how old an image may be until that is found.
func (l Limits) Image() time.Duration {
	if l.image == 0 {
		return DefaultImage
	}
	return l.image
}

// limits reads the section limits:.
func (r *reader) limits(n *yaml.Node) {
	r.fields(n, "limits", map[string]field{
		"image": func(v *yaml.Node) {
			text, ok := r.text(v, "the age of images")
			if !ok {
				return
			}
			d, err := sentence.ParseDuration(text)
			if err != nil {
				r.failAt(v, err.Error(), "")
			}
			r.estate.Limits.image = d.Length()
		},
		"sizes": func(v *yaml.Node) {
			r.entries(v, "sizes", func(key, value *yaml.Node) {
				if r.estate.Limits.sizes == nil {
					r.estate.Limits.sizes = map[string]Traffic{}
				}
				r.estate.Limits.sizes[key.Value] = r.traffic(value, "the limits of size "+key.Value)
			})
		},
		"opening": func(v *yaml.Node) {
			text, ok := r.text(v, "the longest opening")
			if !ok {
				return
			}
			d, err := sentence.ParseDuration(text)
			switch {
			case err != nil:
				r.failAt(v, err.Error(), "")
			case d.Length() > MaxOpening:
				r.failAt(v, fmt.Sprintf("an opening lasts %s at most, and this is %s", sentence.DurationOf(MaxOpening), d), "what is needed for longer is a standing exception: allow … standing until … because …")
			default:
				r.estate.Limits.opening = d.Length()
			}
		},
	})
}

// CheckLength refuses a permit for longer than the estate's limits let any opening last.
// One that was enacted before stays, and what it grants is cut to the limit.
func (e *Estate) CheckLength(st sentence.Statement) *sentence.Error {
	m, ok := st.Sentence.(sentence.Permit)
	if !ok || m.UpTo.Length() <= e.Limits.Opening() {
		return nil
	}
	limit := sentence.DurationOf(e.Limits.Opening())
	remedy := fmt.Sprintf("write: up to %s", limit)
	if m.UpTo.Length() <= MaxOpening {
		remedy += fmt.Sprintf("; or let openings last longer in %s: limits: {opening: %s}", FileName, m.UpTo)
	}
	return &sentence.Error{At: st.At, Line: st.Text, Problem: fmt.Sprintf("an opening lasts %s at most in this estate, and this permit is up to %s", limit, m.UpTo), Remedy: fault.Say(remedy)}
}
