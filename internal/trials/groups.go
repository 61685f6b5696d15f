package trials

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
)

// Member is a machine of a group. Image is the newest of which it could start, nil where there is none; Why says why.
// ID is empty where no machine is called so.
type Member struct {
	ID    string
	Name  string
	Image *records.Image
	Why   string
}

// Group is a group of the site.
type Group struct {
	Name string
	site.Group
	Members []Member
}

// Groups lists the site's groups, by name.
func (tr *Trials) Groups(ctx context.Context) (out []Group, err error) {
	s, err := tr.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(s.Groups)) {
		g, err := tr.group(ctx, s, name)
		if err != nil {
			return nil, err
		}
		out = append(out, g)
	}
	return out, nil
}

func (tr *Trials) group(ctx context.Context, s site.Site, name string) (Group, error) {
	spec, ok := s.Groups[name]
	if !ok {
		return Group{}, fault.Unknown("group", name, slices.Sorted(maps.Keys(s.Groups)))
	}
	g := Group{Name: name, Group: spec}
	for _, word := range spec.Machines {
		one, err := tr.Member(ctx, word)
		if err != nil {
			return g, err
		}
		one.Name = word // as the site has it
		g.Members = append(g.Members, one)
	}
	return g, nil
}

// Member is a machine by its name, with the newest image from which it could start.
func (tr *Trials) Member(ctx context.Context, word string) (one Member, err error) {
	m, err := tr.inventory.Resolve(ctx, word)
	if errors.Is(err, fault.ErrNotFound) || errors.Is(err, fault.ErrConflict) {
		return Member{Name: word, Why: err.Error()}, nil
	}
	if err != nil {
		return one, err
	}
	one.ID, one.Name = m.ID, m.Label
	if one.Image, err = tr.Newest(ctx, m.ID); err == nil && one.Image == nil {
		one.Why = "it has no usable image of all its disks"
	}
	return one, err
}

// lookBack is how many of a machine's images are looked at for one from which it can start.
const lookBack = 100

// Newest is the newest image from which a machine can start, nil if there is none.
func (tr *Trials) Newest(ctx context.Context, machineID string) (*records.Image, error) {
	images, _, err := tr.rec.ImagePage(ctx, records.ImageFilter{MachineID: machineID, Page: listing.Page{Limit: lookBack}})
	if err == nil {
		images, err = tr.stores.Near(ctx, images)
	}
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(images, func(m records.Image) bool { return triable(m) == nil })
	if i < 0 {
		return nil, nil
	}
	return &images[i], nil
}

// StartGroup queues a trial of a group, of the newest image of each member, for who.
func (tr *Trials) StartGroup(ctx context.Context, cause run.Cause, who, name string) (records.Run, error) {
	s, err := tr.rec.Site(ctx)
	if err != nil {
		return records.Run{}, err
	}
	g, err := tr.group(ctx, s, name)
	if err != nil {
		return records.Run{}, err
	}
	q := Request{Group: name}
	for _, m := range g.Members {
		if m.Image == nil {
			return records.Run{}, fmt.Errorf("%w: group %s can't be tried without %s: %s", fault.ErrConflict, name, m.Name, m.Why)
		}
		q.Images = append(q.Images, m.Image.ID)
	}
	return tr.Start(ctx, cause, who, q)
}
