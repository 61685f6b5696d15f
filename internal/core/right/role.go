// Package right says who may do what: the roles, the one table of operations and roles, and what a role can be narrowed to. The
// interface, the client's messages, the console and docs/roles.md come from it.
package right

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"keenlodge/internal/core/phrase"
	"keenlodge/internal/core/selection"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
)

// Role is what somebody may do in general.
type Role string

const (
	// Viewer reads: no secrets, no contents of images.
	Viewer Role = "viewer"
	// Operator runs, proves, pins, and restores to new names.
	Operator Role = "operator"
	// Restorer gets back what images hold.
	Restorer Role = "restorer"
	// Administrator does everything.
	Administrator Role = "administrator"
)

// Roles lists every role.
var Roles = []Role{Viewer, Operator, Restorer, Administrator}

// Grant is a role, narrowed to some of what the lodge has. One that is narrowed to nothing is good for all of it; of several kinds of
// narrowing, each adds to the others.
type Grant struct {
	Role Role `json:"role"`
	// Machines are names or patterns, with their source before them or not, as in a policy.
	Machines []string `json:"machines,omitempty" doc:"names, or patterns with * and ?"`
	Tags     string   `json:"tags,omitempty" doc:"tag expression, such as: tier=gold and not role=web"`
	// Places are names of places, Policies names of policies, or patterns.
	Places   []string `json:"places,omitempty" doc:"names, or patterns with * and ?"`
	Policies []string `json:"policies,omitempty" doc:"names, or patterns with * and ?"`
}

// parts are the kinds of narrowing, as a phrase names them.
var parts = []string{"machines", "tags", "places", "policies"}

// ParseGrant reads a role phrase: "operator", "operator of machines web-*, tickets-db", "viewer of tags tier=gold; places north-pier".
// Errors are of type [*phrase.Error].
func ParseGrant(text string) (Grant, error) {
	bad := func(word, why string) error {
		return &phrase.Error{Kind: "role", Phrase: text, At: max(0, strings.Index(text, word)), Word: word, Why: why}
	}
	role, rest, narrowed := strings.Cut(strings.TrimSpace(text), " ")
	g := Grant{Role: Role(role)}
	if !slices.Contains(Roles, g.Role) {
		return Grant{}, bad(role, "no role is called that"+suggest.Hint(role, Roles))
	}
	if !narrowed {
		return g, nil
	}
	rest, of := strings.CutPrefix(strings.TrimSpace(rest), "of ")
	if !of {
		return Grant{}, bad(strings.TrimSpace(rest), `"of" is expected here, such as: of machines web-*`)
	}
	for part := range strings.SplitSeq(rest, ";") {
		kind, list, _ := strings.Cut(strings.TrimSpace(part), " ")
		list = strings.TrimSpace(list)
		if list == "" {
			return Grant{}, bad(kind, "what it is narrowed to is missing; write for example: machines web-*, tags tier=gold, places north-pier or policies nightly-guests")
		}
		switch kind {
		case "machines":
			g.Machines = append(g.Machines, split(list)...)
		case "tags":
			if g.Tags != "" {
				list = "(" + g.Tags + ") or (" + list + ")"
			}
			g.Tags = list
		case "places":
			g.Places = append(g.Places, split(list)...)
		case "policies":
			g.Policies = append(g.Policies, split(list)...)
		default:
			return Grant{}, bad(kind, "a role is narrowed to machines, tags, places or policies"+suggest.Hint(kind, parts))
		}
	}
	if err := g.Check(); err != nil {
		return Grant{}, err
	}
	return g, nil
}

// ParseGrants reads role phrases.
func ParseGrants(phrases []string) (grants []Grant, err error) {
	for _, text := range phrases {
		g, err := ParseGrant(text)
		if err != nil {
			return nil, err
		}
		grants = append(grants, g)
	}
	return grants, nil
}

func split(list string) (out []string) {
	for name := range strings.SplitSeq(list, ",") {
		out = append(out, strings.TrimSpace(name))
	}
	return out
}

// String is the grant as a role phrase.
func (g Grant) String() string {
	var of []string
	add := func(kind, list string) {
		if list != "" {
			of = append(of, kind+" "+list)
		}
	}
	add("machines", strings.Join(g.Machines, ", "))
	add("tags", g.Tags)
	add("places", strings.Join(g.Places, ", "))
	add("policies", strings.Join(g.Policies, ", "))
	if of == nil {
		return string(g.Role)
	}
	return string(g.Role) + " of " + strings.Join(of, "; ")
}

// Check finds what is wrong with a grant by itself; a name of something that does not exist is none of it.
func (g Grant) Check() error {
	if !slices.Contains(Roles, g.Role) {
		return fmt.Errorf("no role is called %q%s", g.Role, suggest.Hint(g.Role, Roles))
	}
	for kind, names := range map[string][]string{"machines": g.Machines, "places": g.Places, "policies": g.Policies} {
		for _, name := range names {
			if _, err := path.Match(name, ""); err != nil || name == "" || strings.ContainsAny(name, ",;") {
				return fmt.Errorf("%s: %q is neither a name nor a pattern with * and ?", kind, name)
			}
		}
	}
	if strings.Contains(g.Tags, ";") {
		return fmt.Errorf("tags: %q holds a semicolon, which no tag has", g.Tags)
	}
	_, err := selection.Parse(g.Tags)
	return err
}

// Narrowed reports whether a grant is good for less than everything.
func (g Grant) Narrowed() bool {
	return len(g.Machines)+len(g.Places)+len(g.Policies) > 0 || strings.TrimSpace(g.Tags) != ""
}

// Phrases writes grants as people read them.
func Phrases(grants []Grant) []string {
	out := make([]string, len(grants))
	for i, g := range grants {
		out[i] = g.String()
	}
	return out
}

// Machine is a machine of a [World].
type Machine struct {
	ID, Source, Name string
	Tags             map[string]string
}

// World is what a lodge has, as far as roles are narrowed by it.
type World struct {
	Site     site.Site
	Machines []Machine
}

// Within is what a caller's grants reach. Where All holds, the rest is empty.
type Within struct {
	All bool
	// Machines, Policies, Stores and Sources are wholly within: they may be changed. Machines are IDs.
	Machines, Policies, Stores, Sources map[string]bool
	// Named are the policies whose images and runs are within, whatever their machines are.
	Named map[string]bool
	// Seen are those that may be looked at, too: what a policy that is within covers, and what is needed to understand a machine.
	SeenMachines, SeenPolicies, SeenStores, SeenSources map[string]bool
}

// Everything is what grants reach that are not narrowed.
var Everything = Within{All: true}

// Reach works out what grants reach in a world.
func Reach(grants []Grant, w World) Within {
	in := Within{Machines: map[string]bool{}, Policies: map[string]bool{}, Stores: map[string]bool{}, Sources: map[string]bool{}, Named: map[string]bool{},
		SeenMachines: map[string]bool{}, SeenPolicies: map[string]bool{}, SeenStores: map[string]bool{}, SeenSources: map[string]bool{}}
	for _, g := range grants {
		if !g.Narrowed() {
			return Everything
		}
		in.add(g, w)
	}
	in.derive(w)
	return in
}

// add takes in what a grant names by itself.
func (in *Within) add(g Grant, w World) {
	for name, h := range w.Site.Hypervisors {
		if matches(g.Places, h.Place) {
			in.Sources[name] = true
		}
	}
	for name, st := range w.Site.Stores {
		if matches(g.Places, st.Place) {
			in.Stores[name] = true
		}
	}
	for name := range w.Site.Policies {
		if matches(g.Policies, name) {
			in.Named[name] = true
		}
	}
	selects := site.Policy{Machines: g.Machines, Tags: g.Tags}.Matcher()
	for _, m := range w.Machines {
		if selects.Selects(m.Source, m.Name, m.Tags) || matches(g.Places, w.Site.Hypervisors[m.Source].Place) {
			in.Machines[m.ID] = true
		}
	}
}

// derive works out what follows from what is named.
func (in *Within) derive(w World) {
	names, matchers := w.Site.Matchers()
	for i, name := range names {
		some, whole := false, true
		for _, m := range w.Machines {
			if !matchers[i].Selects(m.Source, m.Name, m.Tags) {
				continue
			}
			if in.Named[name] {
				in.SeenMachines[m.ID] = true
			}
			whole = whole && in.Machines[m.ID] // all of those so far
			some = true
			if in.Machines[m.ID] {
				in.SeenPolicies[name] = true
			}
		}
		if in.Named[name] || some && whole {
			in.Policies[name] = true
		}
	}
	maps.Copy(in.SeenMachines, in.Machines)
	maps.Copy(in.SeenPolicies, in.Policies)
	for name := range in.SeenPolicies {
		in.SeenStores[w.Site.Policies[name].Store] = true
	}
	for _, m := range w.Machines {
		if in.SeenMachines[m.ID] {
			in.SeenSources[m.Source] = true
		}
	}
	maps.Copy(in.SeenStores, in.Stores)
	maps.Copy(in.SeenSources, in.Sources)
}

// matches reports whether a name is one of some names or patterns. "" is no name.
func matches(patterns []string, name string) bool {
	return name != "" && selection.Fits(patterns, "", name)
}

// Image reports whether an image of a machine and a policy is within.
func (in Within) Image(machine, policy string) bool {
	return in.All || in.Machines[machine] || in.Named[policy]
}

// Members lists what is in one of the sets of a [Within], in no order; of an empty one it is empty, not nil.
func Members(set map[string]bool) []string { return slices.AppendSeq([]string{}, maps.Keys(set)) }
