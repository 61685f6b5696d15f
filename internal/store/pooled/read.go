package pooled

import (
	"context"
	"errors"
	"fmt"
	"runtime"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"
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

// ReadBack reads every block of an image and matches it against its name. It tells what it read, disk by disk.
func (s *Store) ReadBack(ctx context.Context, m *image.Manifest, progress func(bytes int64)) (evidence []string, err error) {
	for _, d := range m.Disks {
		reader, err := image.NewReader(s, d)
		if err != nil {
			return evidence, err
		}
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(runtime.GOMAXPROCS(0))
		seen := map[chunk.Name]bool{}
		var bytes int64
		err = reader.Names(ctx, func(name chunk.Name, isMap bool, offset, length int64) error {
			if !isMap {
				progress(length)
			}
			if seen[name] {
				return ctx.Err()
			}
			seen[name] = true
			if isMap {
				return nil // Names reads it itself
			}
			bytes += length
			group.Go(func() error {
				if _, err := s.Get(ctx, name); err != nil {
					return fmt.Errorf("disk %s at byte %d: %w", d.Target, offset, err)
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
		evidence = append(evidence, fmt.Sprintf("%s: %s of data read back, %d blocks matched", d.Target, humanize.IBytes(uint64(bytes)), len(seen)))
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
	switch {
	case errors.Is(err, ErrTakenForDead):
		m, err = nil, s.DropImage(ctx, id)
	case errors.Is(err, medium.ErrNotFound):
		m, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	return m, s.EndVisit(ctx, id)
}
