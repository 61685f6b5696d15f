package pooled

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// writing implements [store.Writing]: a writer, and the visit that protects what it stores.
type writing struct {
	s      *Store
	visit  *Visit
	w      *Writer
	cancel context.CancelFunc // stops uploads that an error leaves under way
}

// Begin implements [store.Store]: only what exists after it returned is safe from sweeps (docs/store-format.md, "To write").
func (s *Store) Begin(ctx context.Context, m *image.Manifest, o store.WriteOptions) (store.Writing, error) {
	visit, err := s.VisitToWrite(ctx, m.ID, o.Program)
	if err != nil {
		return nil, err
	}
	uploads, cancel := context.WithCancel(ctx)
	w := visit.NewWriter(uploads)
	w.step = ladder[cmp.Or(o.Compression, site.Even)]
	return &writing{s: s, visit: visit, w: w, cancel: cancel}, nil
}

// Disk implements [store.Writing].
func (p *writing) Disk(ctx context.Context, target, format string, d disk.Disk, base *store.OlderDisk, count *store.Progress) (image.Disk, error) {
	out := image.Disk{Target: target, Size: d.Size(), Format: format}
	var older *image.Reader
	if base != nil {
		var err error
		if older, err = image.NewReader(p.s, base.Desc); err != nil {
			return out, err
		}
	}
	before := count.Data.Load()
	if base != nil {
		count.Data.Add(base.Desc.Data)
	}
	var err error
	out.Map, err = storeDisk(ctx, d, older, p.w, p.s.cuts, count)
	out.Data = count.Data.Load() - before
	return out, err
}

// Amend implements [store.Writing]: the disk as it was is an older image of itself.
func (p *writing) Amend(ctx context.Context, d image.Disk, changed disk.Disk, _ *store.OlderDisk, count *store.Progress) (image.Disk, error) {
	if err := p.w.Flush(ctx); err != nil { // its map is read back
		return d, err
	}
	count.Data.Add(-d.Data)
	return p.Disk(ctx, d.Target, d.Format, changed, &store.OlderDisk{Desc: d}, count)
}

// Written implements [store.Writing].
func (p *writing) Written() (newBytes, stored int64) { return p.w.Written() }

// Flush implements [store.Writing].
func (p *writing) Flush(ctx context.Context) error { return p.w.Flush(ctx) }

// Finish implements [store.Writing].
func (p *writing) Finish(ctx context.Context, m *image.Manifest) error { return p.visit.Finish(ctx, m) }

// End implements [store.Writing].
func (p *writing) End(ctx context.Context, why error) error {
	p.cancel()
	var errs []error
	if medium.IsFull(why) {
		if err := p.w.GiveBack(ctx); err != nil {
			errs = append(errs, fmt.Errorf("what it stored could not be given back yet; a sweep will: %w", err))
		}
	}
	p.w.Close()
	if err := p.visit.End(ctx); err != nil {
		errs = append(errs, fmt.Errorf("its visit could not be ended; sweeps take it for dead later: %w", err))
	}
	return errors.Join(errs...)
}
