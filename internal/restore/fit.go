package restore

import (
	"context"
	"errors"

	"keenlodge/internal/fitting"
	"keenlodge/internal/opening"
	"keenlodge/internal/reader"
)

// wanted is what of the image's disks a request wants to be another.
func (q Request) wanted(definition string) fitting.Wanted {
	return fitting.Wanted{Sizes: q.Sizes, Identity: q.Identity, Definition: definition}
}

// fits has the disks of an image as a restore's guests get them. Close it.
func (rs *Restores) fits(on restoring, q Request) *fitting.Job {
	return &fitting.Job{Wanted: q.wanted(on.manifest.Definition), Start: rs.stores.Reader, Scratch: rs.scratch,
		Open: func(ctx context.Context) ([]reader.Disk, func() error, error) {
			return opening.OpenDisks(ctx, on.st, on.manifest)
		}}
}

// plans says how the disks of a request will be divided, or why they can't be made as they are wanted.
func (rs *Restores) plans(ctx context.Context, on restoring, q Request) (plans []fitting.Plan, err error) {
	if len(q.Sizes) == 0 {
		return nil, nil
	}
	end, err := on.st.Reading(ctx, rs.program)
	if err != nil {
		return nil, err
	}
	defer end(context.WithoutCancel(ctx))
	disks, shut, err := opening.OpenDisks(ctx, on.st, on.manifest)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, shut()) }()
	return fitting.Plans(disks, q.Sizes)
}
