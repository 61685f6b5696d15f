package pooled

import (
	"context"
	"errors"
	"fmt"
	"runtime"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

type openedDisk struct{ *image.Reader }

func (openedDisk) Close() error { return nil }

// OpenDisk opens a disk of an image.
func (s *Store) OpenDisk(_ context.Context, _ *image.Manifest, d image.Disk) (store.OpenedDisk, error) {
	r, err := image.NewReader(s, d)
	return openedDisk{r}, err
}

// Reading announces that images are read for long, so that no sweep takes away what they need, until end is called.
func (s *Store) Reading(ctx context.Context, program string) (end func(context.Context) error, err error) {
	v, err := s.VisitToRead(ctx, program)
	if err != nil {
		return nil, err
	}
	return v.End, nil
}

// ReadBack reads every piece of an image and matches it against its name. It tells what it read, disk by disk, and of files and their list.
func (s *Store) ReadBack(ctx context.Context, m *image.Manifest, progress func(bytes int64)) (evidence []string, err error) {
	stored := s.asItLies()
	trees, err := m.Trees()
	if err != nil {
		return nil, err
	}
	for _, tree := range trees {
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(runtime.GOMAXPROCS(0))
		seen := map[chunk.Name]bool{}
		var bytes int64
		err := tree.Walk(ctx, stored, func(v image.Visit) error {
			if v.Height == 0 {
				progress(v.Length)
				bytes += v.Length
			}
			if seen[v.Name] || v.Height > 0 {
				seen[v.Name] = true // Walk reads map blocks itself
				return ctx.Err()
			}
			seen[v.Name] = true
			group.Go(func() error {
				if _, err := stored.GetMap(ctx, v.Name); err != nil {
					return fmt.Errorf("%s at byte %d: %w", tree.What, v.Offset, err)
				}
				return nil
			})
			return ctx.Err()
		})
		// What a reader found comes first: it is why the walk was cancelled.
		if read := group.Wait(); read != nil {
			return evidence, read
		}
		if err != nil {
			return evidence, err
		}
		evidence = append(evidence, fmt.Sprintf("%s: %s of data read back, %d pieces matched", tree.What, humanize.IBytes(uint64(bytes)), len(seen)))
	}
	if m.Files != nil {
		counts, err := checkFiles(stored, m.Files)
		if err != nil {
			return evidence, err
		}
		evidence = append(evidence, fmt.Sprintf("%d files listed, which is what the image holds", counts.Entries))
	}
	return evidence, nil
}

// Settle decides what an image is whose writer is known to be dead: its manifest if the image had come to be and all that it
// needs is there, else nil, and nothing of it stays.
func (s *Store) Settle(ctx context.Context, id string) (*image.Manifest, error) {
	m, err := s.ReadImage(ctx, id)
	if err == nil {
		err = s.Secure(ctx, m)
	}
	if err == nil {
		err = s.lockManifest(ctx, m)
	}
	switch {
	case errors.Is(err, ErrTakenForDead): // it was never whole, whatever its manifest says of a lock
		m, err = nil, s.medium.Delete(ctx, imageName(id))
	case errors.Is(err, medium.ErrNotFound):
		m, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	return m, s.EndVisit(ctx, id)
}
