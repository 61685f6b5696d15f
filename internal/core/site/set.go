package site

import (
	"maps"
	"slices"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/media"
	"keenlodge/internal/core/suggest"
)

// MembersOf lists the stores of a set, by name: disks that are used in turn.
func (s Site) MembersOf(set string) (names []string) {
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		if set != "" && s.Stores[name].Set == set {
			names = append(names, name)
		}
	}
	return names
}

// InTurn fills in into which store each rule copies that fills a set: the one that is here, otherwise the first by name.
func (s Site) InTurn(here func(store string) bool) Site {
	s.Copies = maps.Clone(s.Copies)
	for name, c := range s.Copies {
		members := s.MembersOf(c.ToSet)
		if len(members) == 0 {
			continue
		}
		c.To = members[max(0, slices.IndexFunc(members, here))]
		s.Copies[name] = c
	}
	return s
}

// FillsSets reports whether any rule copies into a set.
func (s Site) FillsSets() bool {
	for _, c := range s.Copies {
		if c.ToSet != "" {
			return true
		}
	}
	return false
}

// MarshalYAML writes a rule's entry, in which a set stands for the store that is filled now.
func (c Copy) MarshalYAML() (any, error) {
	type plain Copy
	if c.ToSet != "" {
		c.To = ""
	}
	return plain(c), nil
}

// checkSets finds what is wrong in sets of stores, and in the rules that fill them.
func (s Site) checkSets() error {
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		v, p := s.Stores[name], "$.stores."+field.Quoted(name)+".set"
		if v.Set == "" {
			continue
		}
		if err := field.Name("set", v.Set, p); err != nil {
			return err
		}
		if !media.IsRemovable(v.Settings) {
			return field.At("store "+name, p, "only stores whose disks come and go (removable: true) form a set, of which one is filled at a time")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Copies)) {
		c, as, p := s.Copies[name], "copy rule "+name, "$.copies."+field.Quoted(name)+".to_set"
		if c.ToSet == "" {
			continue
		}
		var sets []string
		for _, v := range s.Stores {
			if v.Set != "" && !slices.Contains(sets, v.Set) {
				sets = append(sets, v.Set)
			}
		}
		if !slices.Contains(sets, c.ToSet) {
			return field.At(as, p, "to_set: no store belongs to a set called %q%s", c.ToSet, suggest.Hint(c.ToSet, sets))
		}
		if slices.Contains(s.MembersOf(c.ToSet), c.From) {
			return field.At(as, p, "store %s belongs to set %s itself; copy from another", c.From, c.ToSet)
		}
	}
	return nil
}
