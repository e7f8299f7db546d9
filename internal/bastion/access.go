package bastion

import (
	"slices"

	"ironbark/internal/flow"
)

// Access is who may log in to a gateway, and from where, as it is handed to the process that faces
// the internet: it says nothing of machines. The zero Access lets nobody in.
type Access struct {
	From        []string `json:"from"` // runs of addresses, as flow.AddrRuns has them
	People      []Person `json:"people"`
	Authorities []string `json:"authorities"` // public keys of authorities whose certificates are trusted
}

// Person is somebody with keys.
type Person struct {
	Name string   `json:"name"`
	Keys []string `json:"keys"` // a line each, as OpenSSH writes them
}

// Access returns who may log in: people to whom a route of this gateway speaks.
func (c *Policy) Access() Access {
	a := Access{From: flow.AddrRuns(c.From)}
	if c.estate == nil {
		return a
	}
	for _, one := range c.estate.Authorities {
		a.Authorities = append(a.Authorities, one.Public)
	}
	for _, p := range c.estate.People {
		if slices.ContainsFunc(c.routes, func(r route) bool { return c.belongs(p.Name, r.people) }) {
			a.People = append(a.People, Person{Name: p.Name, Keys: c.estate.KeysOf(p)})
		}
	}
	return a
}
