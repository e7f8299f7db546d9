package estate

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v4"
)

// Repair is a kind of drift that is put right without asking. The zero Repair is invalid.
type Repair string

// The kinds.
const (
	RepairNetwork   Repair = "network"   // tables, routes, links and settings that somebody altered
	RepairResources Repair = "resources" // what somebody altered or removed
	RepairMachines  Repair = "machines"  // machines that stopped by themselves
)

// Repairs lists the kinds.
var Repairs = []Repair{RepairNetwork, RepairResources, RepairMachines}

// repair reads the section repair:.
func (r *reader) repair(n *yaml.Node) {
	for _, word := range r.names(n, "repair") {
		if !slices.Contains(Repairs, Repair(word)) {
			r.failAt(n, fmt.Sprintf("“%s” is not a kind of drift", word), "the kinds are network, resources and machines")
			continue
		}
		r.estate.Repair = append(r.estate.Repair, Repair(word))
	}
}
