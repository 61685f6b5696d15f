package site

import (
	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/field"
	"slices"
)

// Group is machines that need each other: they are tried, and brought back, in their order.
type Group struct {
	Machines []string `yaml:"machines" json:"machines" doc:"names of the machines, in the order in which they start"`
	Note     string   `yaml:"note,omitempty" json:"note,omitempty" doc:"what it is"`
	// Trials say what is expected of them when they are tried together, before what their policies say.
	Trials []expect.Trial `yaml:"trials,omitempty" json:"trials,omitempty" doc:"what is expected of them when they are tried together; for others of them it is what their policies say"`
}

// mostMembers bounds a group: its members run at the same time.
const mostMembers = 20

func (g Group) check(name, p string) error {
	if len(g.Machines) == 0 {
		return field.At(name, p+".machines", "it has no machines; write for example machines: [tickets-db, timetable]")
	}
	if len(g.Machines) > mostMembers {
		return field.At(name, p+".machines", "it has %d machines, and they all run at the same time; %d are the most", len(g.Machines), mostMembers)
	}
	for i, m := range g.Machines {
		if m == "" || slices.Contains(g.Machines[:i], m) {
			return field.At(name, p+".machines", "%q is no machine's name, or there twice", m)
		}
	}
	return expect.CheckAll(name, p, g.Trials)
}
