package change

import "fmt"

// Drifted is one resource that is not as it was last enacted.
type Drifted struct {
	Resource Resource
	Gone     bool // it was enacted and is there no more
	How      []string
}

// String tells it in words.
func (d Drifted) String() string {
	switch {
	case d.Gone:
		return fmt.Sprintf("%s %s is gone from the site", d.Resource.Kind, d.Resource.Name)
	case d.Resource.Unmanaged:
		return fmt.Sprintf("%s %s is on the site and in no file: %s", d.Resource.Kind, d.Resource.Name, d.Resource.Describe())
	}
	text := fmt.Sprintf("%s %s was altered:", d.Resource.Kind, d.Resource.Name)
	for i, how := range d.How {
		if i > 0 {
			text += ";"
		}
		text += " " + how
	}
	return text
}

// Drift lists what is not as it was last enacted: unmanaged resources, what was altered, and
// what is gone.
func Drift(has, gone []Resource) (list []Drifted) {
	for _, t := range gone {
		list = append(list, Drifted{Resource: t, Gone: true})
	}
	for _, t := range ordered(has, func(t *Resource) bool { return t.Unmanaged || t.LastEnacted != nil }) {
		switch {
		case t.Unmanaged:
			list = append(list, Drifted{Resource: t})
		case t.LastEnacted != nil:
			if how := differs(*t.LastEnacted, t.Spec); len(how) > 0 {
				list = append(list, Drifted{Resource: t, How: how})
			}
		}
	}
	return list
}
