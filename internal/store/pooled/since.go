package pooled

import (
	"context"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// sinceDisk is a disk of an image that calls unchanged what an older one has just so.
type sinceDisk struct {
	*image.Reader
	older *image.Reader
	same  []disk.Extent // in rising order
}

// Since implements [store.Comparer]: it costs what differs.
func (s *Store) Since(ctx context.Context, _ *image.Manifest, d image.Disk, _ *image.Manifest, older image.Disk) (store.OpenedDisk, error) {
	if d.Size != older.Size {
		return nil, nil
	}
	is, err := treeOf(d)
	if err != nil {
		return nil, err
	}
	was, err := treeOf(older)
	if err != nil {
		return nil, err
	}
	out := sinceDisk{}
	if out.Reader, err = image.NewReader(s, d); err != nil {
		return nil, err
	}
	if out.older, err = image.NewReader(s, older); err != nil {
		return nil, err
	}
	before, err := image.NewOlder(ctx, was, s)
	if err != nil {
		return nil, err
	}
	err = is.WalkSince(ctx, s, before, func(v image.Visit) error {
		if n := len(out.same); n > 0 && out.same[n-1].End() == v.Offset {
			out.same[n-1].Length += v.Length
			return nil
		}
		out.same = append(out.same, disk.Extent{Offset: v.Offset, Length: v.Length, Kind: disk.Unchanged})
		return nil
	}, func(image.Visit) error { return nil })
	return out, err
}

// Close implements [store.OpenedDisk].
func (sinceDisk) Close() error { return nil }

// Extents implements [disk.Disk].
func (s sinceDisk) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	i := disk.From(s.same, offset)
	if i < len(s.same) && s.same[i].Offset <= offset {
		return []disk.Extent{{Offset: offset, Length: min(s.same[i].End()-offset, length), Kind: disk.Unchanged}}, nil
	}
	if i < len(s.same) {
		length = min(length, s.same[i].Offset-offset)
	}
	found, err := s.Reader.Extents(ctx, offset, length)
	if err != nil {
		return nil, err
	}
	for _, e := range found {
		if e.Kind != disk.Zero {
			out = append(out, e)
			continue
		}
		for at := e.Offset; at < e.End(); { // what was zeros before is not told anew
			was, err := s.older.Extents(ctx, at, e.End()-at)
			if err != nil || len(was) == 0 {
				return out, err
			}
			for _, o := range was {
				kind := disk.Zero
				if o.Kind == disk.Zero {
					kind = disk.Unchanged
				}
				out = append(out, disk.Extent{Offset: o.Offset, Length: o.Length, Kind: kind})
				at = o.End()
			}
		}
	}
	return out, nil
}
