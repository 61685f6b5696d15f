package machine

import "slices"

// Known is a machine on record, as far as its identity goes.
type Known struct {
	ID, Name, Source, UUID string
	// AlsoOn is another source that has a machine of the same UUID, too.
	AlsoOn string
	State  State
}

// Found is a machine that a source tells of.
type Found struct {
	Name, UUID string
	State      State
}

// Sighting is what the answer of a source means for the machines on record, which are told by their IDs.
type Sighting struct {
	// Added were never seen before.
	Added []Added
	// Same are known and are there.
	Same []Same
	// AlsoHere are those that another source has, or had when it was asked last: such a machine is on its way, or its definition was
	// copied. Which it is shows when the other one is asked.
	AlsoHere []string
	// Runs are of the same kind, but are off on the other source and not on this one: this is where they live, and the other has them, too.
	Runs []Same
	// NoLongerHere were known to be on this source, too, and are not. Moved were on it and are on the other only. Gone are on none.
	NoLongerHere, Moved, Gone []string
	// Names are those whose labels may change.
	Names map[string]bool
}

// Added is a new machine: Found numbers it in the answer, Older are the IDs of those of its name and source that were before it.
type Added struct {
	ID    string
	Found int
	Older []string
}

// Same is a known machine, and its number in the answer.
type Same struct {
	ID    string
	Found int
}

// See finds what an answer of a source means. A machine that is known by its UUID stays the same when it is renamed or moves; without one
// its name and source are all that tells it. known are all of the source, and all that share a name or UUID with what was found.
func See(source string, known []Known, found []Found) Sighting {
	s := Sighting{Names: map[string]bool{}}
	seen := map[string]bool{}
	for n, m := range found {
		i := find(source, known, m)
		if i < 0 {
			a := Added{ID: identity(source, m), Found: n}
			for _, k := range known {
				if k.Name == m.Name && k.Source == source && k.UUID != m.UUID {
					a.Older = append(a.Older, k.ID)
				}
			}
			s.Added, seen[a.ID], s.Names[m.Name] = append(s.Added, a), true, true
			continue
		}
		k := known[i]
		seen[k.ID] = true
		if k.Source != source && k.Source != "" && k.State != Gone {
			if k.State == Off && m.State != Off {
				s.Runs, s.Names[k.Name], s.Names[m.Name] = append(s.Runs, Same{k.ID, n}), true, true
				continue
			}
			s.AlsoHere = append(s.AlsoHere, k.ID)
			continue
		}
		if k.Name != m.Name || k.State == Gone || k.Source != source {
			s.Names[k.Name], s.Names[m.Name] = true, true
		}
		s.Same = append(s.Same, Same{k.ID, n})
	}
	for _, k := range known {
		switch {
		case seen[k.ID]:
		case k.AlsoOn == source:
			s.NoLongerHere = append(s.NoLongerHere, k.ID)
		case k.Source != source:
		case k.AlsoOn != "":
			s.Moved, s.Names[k.Name] = append(s.Moved, k.ID), true
		default:
			s.Gone, s.Names[k.Name] = append(s.Gone, k.ID), true
		}
	}
	return s
}

// identity is that of a machine of which no other is known yet.
func identity(source string, m Found) string {
	if m.UUID != "" {
		return m.UUID
	}
	return "named-" + source + "/" + m.Name
}

// find is the place of the known machine that a found one is, or -1.
func find(source string, known []Known, m Found) int {
	i := slices.IndexFunc(known, func(k Known) bool {
		if m.UUID != "" {
			return k.UUID == m.UUID
		}
		return k.UUID == "" && k.Name == m.Name && (k.Source == source || k.Source == "")
	})
	if i < 0 { // one of which only images told, by its name
		i = slices.IndexFunc(known, func(k Known) bool {
			return k.UUID == "" && k.Name == m.Name && k.State == Gone && (k.Source == source || k.Source == "")
		})
	}
	return i
}
