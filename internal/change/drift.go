package change

import "fmt"

// Drifted is one thing that is not as it was last enacted.
type Drifted struct {
	Thing Thing
	Gone  bool // it was enacted and is there no more
	How   []string
}

// String tells it in words.
func (d Drifted) String() string {
	switch {
	case d.Gone:
		return fmt.Sprintf("%s %s is gone from the site", d.Thing.Kind, d.Thing.Name)
	case d.Thing.Stray:
		return fmt.Sprintf("%s %s is on the site and in no file: %s", d.Thing.Kind, d.Thing.Name, d.Thing.Describe())
	}
	text := fmt.Sprintf("%s %s was altered:", d.Thing.Kind, d.Thing.Name)
	for i, how := range d.How {
		if i > 0 {
			text += ";"
		}
		text += " " + how
	}
	return text
}

// Drift lists what is not as it was last enacted: strays, what was altered, and
// what is gone.
func Drift(has, gone []Thing) (list []Drifted) {
	for _, t := range gone {
		list = append(list, Drifted{Thing: t, Gone: true})
	}
	for _, t := range ordered(has) {
		switch {
		case t.Stray:
			list = append(list, Drifted{Thing: t})
		case t.Asked != nil:
			if how := differs(*t.Asked, t.Spec); len(how) > 0 {
				list = append(list, Drifted{Thing: t, How: how})
			}
		}
	}
	return list
}
