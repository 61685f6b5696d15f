package lodge

import (
	"context"
	"errors"
	"fmt"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/openlayout"
	"keenlodge/internal/store"
)

// writing is an image on its way into a store of either layout.
type writing interface {
	// disk stores a disk of the machine. What d calls unchanged is taken from base, the same disk of an older image.
	disk(ctx context.Context, target, format string, d disk.Disk, base *olderDisk, count *progress) (image.Disk, error)
	// written tells what was new to the store so far, in bytes before and after compression.
	written() (fresh, stored int64)
	// flush brings all to its place; finish makes the image exist.
	flush(ctx context.Context) error
	finish(ctx context.Context, m *image.Manifest) error
	// end ends the work, however it went: why is its error, or nil.
	end(ctx context.Context, why error) error
}

// olderDisk is a disk of the image that a new one is taken since.
type olderDisk struct {
	store.OpenedDisk
	desc image.Disk
}

// startWriting begins an image in a store.
func startWriting(ctx context.Context, st shelf, m *image.Manifest, compress bool) (writing, error) {
	switch st := st.(type) {
	case *openlayout.Store:
		w, err := st.Begin(m)
		if err != nil {
			return nil, err
		}
		return &openWriting{Writer: w, small: compress}, nil
	case *store.Store:
		visit, err := st.VisitToWrite(ctx, m.ID, Version)
		if err != nil {
			return nil, err
		}
		writing, cancel := context.WithCancel(ctx)
		return &pooledWriting{st: st, visit: visit, w: visit.NewWriter(writing), cancel: cancel}, nil
	}
	return nil, fmt.Errorf("a store of layout %q can't be written to", st.Header().Layout)
}

type pooledWriting struct {
	st     *store.Store
	visit  *store.Visit
	w      *store.Writer
	cancel context.CancelFunc // stops uploads that an error leaves under way
}

func (p *pooledWriting) disk(ctx context.Context, target, format string, d disk.Disk, base *olderDisk, count *progress) (image.Disk, error) {
	out := image.Disk{Target: target, Size: d.Size(), Format: format, BlockSize: p.st.Header().BlockSize}
	var older *image.Reader
	if base != nil {
		if base.desc.BlockSize != out.BlockSize {
			return out, fmt.Errorf("the older image has blocks of %d bytes, the store's are %d now", base.desc.BlockSize, out.BlockSize)
		}
		var err error
		if older, err = image.NewReader(p.st, base.desc); err != nil {
			return out, err
		}
	}
	before := count.data.Load()
	if base != nil {
		count.data.Add(base.desc.Data)
	}
	var err error
	out.Map, err = storeDisk(ctx, d, older, p.w, out.BlockSize, count)
	out.Data = count.data.Load() - before
	return out, err
}

func (p *pooledWriting) written() (fresh, stored int64)  { return p.w.Written() }
func (p *pooledWriting) flush(ctx context.Context) error { return p.w.Flush(ctx) }
func (p *pooledWriting) finish(ctx context.Context, m *image.Manifest) error {
	return p.visit.Finish(ctx, m)
}

func (p *pooledWriting) end(ctx context.Context, why error) error {
	p.cancel()
	var errs []error
	if isFull(why) {
		if err := p.w.GiveBack(ctx); err != nil {
			errs = append(errs, fmt.Errorf("what it stored could not be given back yet; a sweep will: %w", err))
		}
	}
	if err := p.visit.End(ctx); err != nil {
		errs = append(errs, fmt.Errorf("its visit could not be ended; sweeps take it for dead later: %w", err))
	}
	return errors.Join(errs...)
}

type openWriting struct {
	*openlayout.Writer
	small bool
	read  *progress
}

func (o *openWriting) disk(ctx context.Context, target, _ string, d disk.Disk, base *olderDisk, count *progress) (image.Disk, error) {
	o.read = count
	var older *image.Disk
	if base != nil {
		older = &base.desc
	}
	return o.Writer.Disk(ctx, target, counting{d, count}, older, o.small)
}

// written implements writing: an open store shares nothing, so all that is read is new.
func (o *openWriting) written() (fresh, stored int64) {
	if o.read == nil {
		return 0, 0
	}
	return o.read.read.Load(), o.Stored()
}

func (o *openWriting) flush(context.Context) error { return nil } // every file is synced when it is whole
func (o *openWriting) finish(ctx context.Context, m *image.Manifest) error {
	return o.Writer.Finish(ctx, m)
}
func (o *openWriting) end(ctx context.Context, _ error) error { return o.Writer.End(ctx) }

// counting counts what is read of a disk.
type counting struct {
	disk.Disk
	count *progress
}

func (c counting) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Disk.ReadAt(p, off)
	c.count.read.Add(int64(n))
	c.count.data.Add(int64(n))
	return n, err
}
