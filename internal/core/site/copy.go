package site

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/copying"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/field"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/selection"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
)

// Copy is a copy rule: it keeps images of one store in another as well, with a rotation of their own there.
type Copy struct {
	From string `yaml:"from" json:"from" doc:"the store whose images are copied"`
	To   string `yaml:"to,omitempty" json:"to,omitempty" doc:"the store in which they are kept as well"`
	// ToSet names a set of stores in place of one; To is then the one of them that is filled now.
	ToSet string `yaml:"to_set,omitempty" json:"to_set,omitempty" doc:"in place of to: a set of removable stores, of which the one is filled that is here"`
	// Machines, Tags and Except select machines as in a policy; none of the first two is all. Policies narrows to images of some.
	Machines []string      `yaml:"machines,omitempty" json:"machines,omitempty" doc:"names, or patterns with * and ?; left out, and no tags, it is all"`
	Tags     string        `yaml:"tags,omitempty" json:"tags,omitempty" doc:"tag expression, such as: tier=gold; machines that it fits are selected too"`
	Except   []string      `yaml:"except,omitempty" json:"except,omitempty" doc:"names or patterns of machines that are left out"`
	Policies []string      `yaml:"policies,omitempty" json:"policies,omitempty" doc:"names or patterns of the policies whose images are copied; left out, it is all"`
	Images   copying.Which `yaml:"images,omitempty" json:"images,omitempty" enum:"each,full ones,newest of each day,newest of each week,newest of each month" doc:"which images: each (the default), full ones, or the newest of each day, week or month that is over"`
	// Soon copies an image as soon as it is complete; Schedules at their moments, too.
	Soon      bool     `yaml:"soon,omitempty" json:"soon,omitempty" doc:"copy an image as soon as it is complete"`
	Schedules []string `yaml:"schedules,omitempty" json:"schedules,omitempty" doc:"schedule phrases, such as: every day at 05:00, after nightly-guests"`
	Missed    string   `yaml:"missed,omitempty" json:"missed,omitempty" enum:"run,skip" doc:"what becomes of a moment at which no service ran: run (the default) once at start, or skip"`
	Windows   []string `yaml:"windows,omitempty" json:"windows,omitempty" doc:"hours in which it may start, and must stop when they end, such as: only 20:00-06:00"`
	Bandwidth []string `yaml:"bandwidth,omitempty" json:"bandwidth,omitempty" doc:"what it may send in a second, such as: 2 MiB, 500 KiB mon-fri 08:00-18:00"`
	// TasksAtOnce is how many images are on their way at the same time.
	TasksAtOnce int    `yaml:"tasks_at_once,omitempty" json:"tasks_at_once,omitempty" doc:"how many images are on their way at the same time; default 2"`
	Longest     string `yaml:"longest,omitempty" json:"longest,omitempty" doc:"how long a run may take, such as 4 hours; then it is stopped, and the next one goes on"`
	// Locked is how long each copy stays, whatever rotation or anybody says.
	Locked   string `yaml:"locked,omitempty" json:"locked,omitempty" doc:"how long nothing can delete a copy, such as 14 days; of this and its store's the longer one holds"`
	Rotation string `yaml:"rotation" json:"rotation" doc:"rotation phrase of the copies, such as: 30 daily, 12 monthly"`
}

// copyTasks is how many images a rule has on their way that does not say.
const copyTasks = 2

// Tasks is how many images are on their way at the same time.
func (c Copy) Tasks() int { return orDefault(c.TasksAtOnce, copyTasks) }

// LockTime is how long nothing can delete a copy by its own word, 0 for no lock.
func (c Copy) LockTime() time.Duration { return field.SpanOf(c.Locked, 0) }

// LockOf is how long nothing can delete what a policy, or a copy rule, brings into its store.
func (s Site) LockOf(name string) time.Duration {
	p, err := s.Planned(name)
	if err != nil {
		return 0
	}
	return max(s.Stores[p.Store].LockTime(), s.Copies[name].LockTime())
}

// LockInto is for how long anything that comes into a store is locked, at most.
func (s Site) LockInto(store string) time.Duration {
	longest := s.Stores[store].LockTime()
	for _, c := range s.Copies {
		if c.To == store {
			longest = max(longest, c.LockTime())
		}
	}
	return longest
}

// Which says which images are copied.
func (c Copy) Which() copying.Which {
	if c.Images == "" {
		return copying.Each
	}
	return c.Images
}

// AsPolicy is what a rule has in common with a policy: what it selects, when it runs, into which store, and how its sets rotate.
func (c Copy) AsPolicy() Policy {
	p := Policy{Machines: c.Machines, Tags: c.Tags, Except: c.Except, Store: c.To, Missed: c.Missed, Windows: c.Windows, Longest: c.Longest, Rotation: c.Rotation}
	if len(p.Machines) == 0 && p.Tags == "" {
		p.Machines = []string{"*"}
	}
	for _, phrase := range c.Schedules {
		p.Schedules = append(p.Schedules, Schedule{When: phrase})
	}
	return p
}

// CopiesOf reports whether it copies images of a policy.
func (c Copy) CopiesOf(policy string) bool {
	return len(c.Policies) == 0 || selection.Fits(c.Policies, "", policy)
}

// Planned is what runs under a name: a policy, or a copy rule as one. One that is neither is [fault.ErrNotFound].
func (s Site) Planned(name string) (Policy, error) {
	if c, ok := s.Copies[name]; ok {
		return c.AsPolicy(), nil
	}
	if p, ok := s.Policies[name]; ok {
		return p, nil
	}
	return Policy{}, fault.Unknown("policy or copy rule", name, append(slices.Sorted(maps.Keys(s.Policies)), slices.Sorted(maps.Keys(s.Copies))...))
}

// Copy finds a copy rule; one that is not there is [fault.ErrNotFound], with the nearest name that is.
func (s Site) Copy(name string) (Copy, error) {
	c, ok := s.Copies[name]
	if !ok {
		return c, fault.Unknown("copy rule", name, slices.Sorted(maps.Keys(s.Copies)))
	}
	return c, nil
}

func (c Copy) check(name string, s Site, zone *time.Location) error {
	as, p := "copy rule "+name, "$.copies."+field.Quoted(name)
	if err := field.Name("copy rule", name, p); err != nil {
		return err
	}
	if _, ok := s.Policies[name]; ok {
		return field.At(as, p, "a policy is called %s, too; their runs could not be told apart; call one of them otherwise", name)
	}
	for f, store := range map[string]string{"from": c.From, "to": c.To} {
		if _, ok := s.Stores[store]; !ok {
			return field.At(as, p+"."+f, "%s: no store is called %q%s", f, store, suggest.Hint(store, slices.Sorted(maps.Keys(s.Stores))))
		}
	}
	from, to := s.Stores[c.From], s.Stores[c.To]
	if c.From == c.To || from.Medium == to.Medium && from.Location() == to.Location() {
		return field.At(as, p+".to", "%s and %s are one place, and what is lost there is lost twice; name another store", c.From, c.To)
	}
	policy := c.AsPolicy()
	if err := policy.checkSelection(as, p); err != nil {
		return err
	}
	for _, pattern := range c.Policies {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			return field.At(as, p+".policies", "%q is not a policy's name or a pattern", pattern)
		}
		if _, ok := s.Policies[pattern]; !ok && !strings.ContainsAny(pattern, `*?[\`) {
			return field.At(as, p+".policies", "no policy is called %q%s", pattern, suggest.Hint(pattern, slices.Sorted(maps.Keys(s.Policies))))
		}
	}
	for _, err := range []error{field.Known(as, p, "images", c.Images, copying.Whiches), field.Known(as, p, "missed", c.Missed, whenMissed), field.Limits(as, p, c.TasksAtOnce, c.Windows, c.Bandwidth)} {
		if err != nil {
			return err
		}
	}
	if _, err := rotation.Parse(c.Rotation); err != nil {
		return field.At(as, p+".rotation", "%v", err)
	}
	for f, text := range map[string]string{"longest": c.Longest, "locked": c.Locked} {
		if _, err := field.SpanOr(text, 0); err != nil {
			return field.At(as, p+"."+f, "%s: %v", f, err)
		}
	}
	for i, phrase := range c.Schedules {
		here := fmt.Sprintf("%s.schedules[%d]", p, i)
		parsed, err := when.Parse(phrase, zone)
		if err != nil {
			return field.At(as, here, "%v", err)
		}
		if after, _ := parsed.After(); after != "" && s.isUnplanned(after) {
			return field.At(as, here, "no policy and no copy rule is called %q%s", after, suggest.Hint(after, slices.Sorted(maps.Keys(s.Policies))))
		}
	}
	return nil
}

func (s Site) isUnplanned(name string) bool { _, err := s.Planned(name); return err != nil }

// checkCopies finds what is wrong in copy rules, each by itself and all together.
func (s Site) checkCopies(zone *time.Location) error {
	names := slices.Sorted(maps.Keys(s.Copies))
	ways := map[string][]string{}
	for _, name := range names {
		c := s.Copies[name]
		if err := c.check(name, s, zone); err != nil {
			return err
		}
		if !slices.Contains(ways[c.From], c.To) {
			ways[c.From] = append(ways[c.From], c.To)
		}
	}
	for _, name := range names {
		c := s.Copies[name]
		if loop := loopFrom(ways, []string{c.From}); loop != nil && slices.Contains(loop, c.To) {
			return field.At("copy rule "+name, "$.copies."+field.Quoted(name)+".to", "copies go in a circle: from %s; what rotation lets go in one store would come back from another; take one of the rules out", strings.Join(loop, " to "))
		}
		for _, other := range names {
			o := s.Copies[other]
			if other < name && o.To == c.To && o.Rotation != c.Rotation && c.overlaps(o) {
				return field.At("copy rule "+name, "$.copies."+field.Quoted(name)+".rotation", "rule %s copies into %s, too, perhaps the same images, and rotates otherwise (%q, and here %q): what one keeps the other would drop; give them one rotation, a store each, or machines or policies by their names that only one of them has", other, c.To, o.Rotation, c.Rotation)
			}
		}
	}
	return nil
}

// overlaps reports whether two rules may select the same image, as far as their words tell.
func (c Copy) overlaps(o Copy) bool {
	apart := func(a, b []string) bool {
		exact := func(names []string) bool {
			return len(names) > 0 && !slices.ContainsFunc(names, func(n string) bool { return strings.ContainsAny(n, `*?[\`) })
		}
		return exact(a) && exact(b) && !slices.ContainsFunc(a, func(n string) bool { return slices.Contains(b, n) })
	}
	return !(c.Tags == "" && o.Tags == "" && apart(c.Machines, o.Machines) || apart(c.Policies, o.Policies) || c.Tags != "" && o.Tags != "" && len(c.Machines)+len(o.Machines) == 0 && selection.Excludes(c.Tags, o.Tags))
}
