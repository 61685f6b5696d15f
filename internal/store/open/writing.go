package open

import (
	"context"
	"sync/atomic"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// writing implements [store.Writing].
type writing struct {
	w        *Writer
	compress bool
	count    atomic.Pointer[store.Progress]
}

// Begin implements [store.Store].
func (s *Store) Begin(_ context.Context, m *image.Manifest, o store.WriteOptions) (store.Writing, error) {
	w, err := s.NewWriter(m)
	if err != nil {
		return nil, err
	}
	return &writing{w: w, compress: o.Compress}, nil
}

// Disk implements [store.Writing]. The format of the source does not matter: an open store keeps qcow2.
func (o *writing) Disk(ctx context.Context, target, _ string, d disk.Disk, base *store.OlderDisk, count *store.Progress) (image.Disk, error) {
	o.count.Store(count)
	var older *image.Disk
	if base != nil {
		older = &base.Desc
	}
	return o.w.Disk(ctx, target, counting{d, count}, older, o.compress)
}

// Amend implements [store.Writing]: the disk's file is written anew.
func (o *writing) Amend(ctx context.Context, d image.Disk, changed disk.Disk, base *store.OlderDisk, count *store.Progress) (image.Disk, error) {
	o.count.Store(count)
	var under disk.Disk
	if d.LeansOn != "" {
		under = unchanged{base}
	}
	return o.w.Amend(ctx, d, counting{changed, count}, under, o.compress)
}

// Files implements [store.Writing]: an archive holds all that there is, so that base is nil.
func (o *writing) Files(ctx context.Context, in *files.Reader, _ *image.Files, count *store.Progress) (image.Files, error) {
	o.count.Store(count)
	return o.w.Files(ctx, in, count)
}

// unchanged is a disk of an older image, of which nothing changed.
type unchanged struct{ disk.Disk }

// Extents implements [disk.Disk].
func (unchanged) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Unchanged}}, nil
}

// Written implements [store.Writing]: an open store shares nothing, so everything that is read is new.
func (o *writing) Written() (newBytes, stored int64) {
	count := o.count.Load()
	if count == nil {
		return 0, 0
	}
	return count.Read.Load(), o.w.Stored()
}

// Flush implements [store.Writing]: every file is synced when it is whole.
func (o *writing) Flush(context.Context) error { return nil }

// Finish implements [store.Writing].
func (o *writing) Finish(ctx context.Context, m *image.Manifest) error { return o.w.Finish(ctx, m) }

// End implements [store.Writing].
func (o *writing) End(ctx context.Context, _ error) error { return o.w.End(ctx) }

// counting counts what is read of a disk.
type counting struct {
	disk.Disk
	count *store.Progress
}

func (c counting) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Disk.ReadAt(p, off)
	c.count.Read.Add(int64(n))
	c.count.Data.Add(int64(n))
	return n, err
}
