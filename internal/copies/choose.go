package copies

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/core/copying"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
)

// chosen is an image with what a rule does with it.
type chosen struct {
	records.Lying
	copy bool
	why  string
}

// choice is what a rule does at a moment.
type choice struct {
	verdicts []chosen
	due      []records.Lying // in the order in which they go
	copies   int             // that the rule has made and that are there
	over     []records.Lying // all that the records know of the other store, also what is gone
	there    int             // selected images of which there is a copy already
}

// setOf tells one set of images from another.
type setOf struct {
	machineID, policy string
	scope             image.Scope
	apart             bool
}

func setKey(m records.Lying) setOf { return setOf{m.MachineID, m.Policy, m.Scope, m.SeparateSet} }

// planned is an image as rotation sees it.
func planned(m records.Lying) rotation.Image {
	out := rotation.Image{ID: m.ID, Taken: m.Taken, Capture: m.Capture, Base: m.Base, State: m.State, Pinned: m.Pinned, Bytes: m.Stored}
	if !m.Failed {
		out.Proven = m.Proven
	}
	if m.Locked != nil {
		out.Locked = *m.Locked
	}
	return out
}

// choose finds what a rule is to copy. It asks the records and nobody else.
func (c *Copies) choose(ctx context.Context, s site.Site, name string, rule site.Copy, now time.Time, force bool) (out choice, err error) {
	from, err := c.rec.LyingIn(ctx, rule.From, nil)
	if err != nil {
		return out, err
	}
	to, err := c.rec.LyingIn(ctx, rule.To, nil)
	if err != nil {
		return out, err
	}
	out.over = to
	machines, err := c.rec.Machines(ctx)
	if err != nil {
		return out, err
	}
	selected, selects := map[string]bool{}, rule.AsPolicy().Matcher()
	for _, m := range machines {
		selected[m.ID] = selects.Selects(m.Hypervisor, m.Name, m.Tags)
	}
	sets, order := map[setOf]*copying.Set{}, []setOf{}
	set := func(m records.Lying) *copying.Set {
		k := setKey(m)
		if sets[k] == nil {
			sets[k] = &copying.Set{Known: map[string]bool{}, Rule: rule.AsPolicy().RotationRule()}
			order = append(order, k)
		}
		return sets[k]
	}
	byID := map[string]records.Lying{}
	for _, m := range from {
		if m.Gone != nil || !selected[m.MachineID] || !rule.CopiesOf(m.Policy) || m.State == image.Writing {
			continue
		}
		byID[m.ID] = m
		one := set(m)
		one.Images = append(one.Images, copying.Image{Image: planned(m), Origin: m.Origin})
	}
	for _, m := range to {
		one := sets[setKey(m)]
		if m.CopiedBy == name && m.Gone == nil {
			out.copies++
		}
		if one == nil {
			continue
		}
		if m.State != image.Broken && m.State != image.Writing {
			one.Known[m.Origin] = true
		}
		if m.CopiedBy == name && m.Gone == nil && m.State != image.Writing {
			one.Copies = append(one.Copies, planned(m))
		}
	}
	now = now.In(s.Location())
	var due []records.Lying
	for _, k := range order {
		for _, v := range copying.Decide(rule.Which(), *sets[k], now, force) {
			m := byID[v.ID]
			out.verdicts = append(out.verdicts, chosen{m, v.Copy, v.Why})
			if v.Copy {
				due = append(due, m)
			}
			if sets[k].Known[v.Origin] {
				out.there++
			}
		}
	}
	out.due = copying.Order(due, func(m records.Lying) string { return m.MachineID }, func(m records.Lying) time.Time { return m.Taken })
	return out, nil
}

// nothing says why there is nothing to copy.
func (c choice) nothing(rule site.Copy) string {
	switch {
	case len(c.verdicts) == 0:
		return fmt.Sprintf("store %s has no image that the rule selects", rule.From)
	case c.there == len(c.verdicts):
		return fmt.Sprintf("all %d images of store %s that it selects are, or were, in store %s", c.there, rule.From, rule.To)
	}
	return fmt.Sprintf("of %d images of store %s that it selects, %d are, or were, in store %s, and the others are not due", len(c.verdicts), rule.From, c.there, rule.To)
}
