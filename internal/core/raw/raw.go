// Package raw reads and writes raw disk files: byte n of the file is byte n of the disk, holes are zeros.
package raw

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"sync"
	"syscall"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/disk"
)

// File is a raw disk file or block device. It implements [disk.Disk].
type File struct {
	f    *os.File
	size int64
}

// Open opens a raw disk file for reading.
func Open(path string) (*File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("length of %s: %w", path, err)
	}
	return &File{f, size}, nil
}

// Close closes the file.
func (r *File) Close() error { return r.f.Close() }

// Size implements [disk.Disk].
func (r *File) Size() int64 { return r.size }

// ReadAt implements [io.ReaderAt].
func (r *File) ReadAt(p []byte, off int64) (int, error) { return r.f.ReadAt(p, off) }

// Values of lseek(2) on Linux.
const (
	seekData = 3
	seekHole = 4
)

// Extents implements [disk.Disk]: holes are zeros, where the file system knows holes.
func (r *File) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	start, err := r.f.Seek(offset, seekData)
	switch {
	case errors.Is(err, syscall.ENXIO):
		return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Zero}}, nil
	case err != nil:
		return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Data}}, nil
	case start > offset:
		return []disk.Extent{{Offset: offset, Length: min(start-offset, length), Kind: disk.Zero}}, nil
	}
	end, err := r.f.Seek(offset, seekHole)
	if err != nil || end <= offset {
		return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Data}}, nil
	}
	return []disk.Extent{{Offset: offset, Length: min(end-offset, length), Kind: disk.Data}}, nil
}

// pieceBytes is how much of a disk is copied at once.
const pieceBytes = 1 << 20

// Write copies a disk into a new sparse file, several pieces at once, and syncs it. What a failed copy wrote is removed.
func Write(ctx context.Context, path string, d disk.Disk) (err error) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		err = errors.Join(err, f.Close())
		if err != nil {
			os.Remove(path)
		}
	}()
	if err := f.Truncate(d.Size()); err != nil {
		return err
	}
	if err := Fill(ctx, f, d, nil, func(int) {}); err != nil {
		return err
	}
	return f.Sync()
}

// Fill writes a disk to where all is zero, several pieces at once. Where it is not, zero is called for what reads as zeros; nil leaves that. moved is told
// of the bytes of each piece of data, by several goroutines.
func Fill(ctx context.Context, to io.WriterAt, d disk.Disk, zero func(offset, length int64) error, moved func(bytes int)) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0) + 2) // some wait for the disk while others expand
	buffers := sync.Pool{New: func() any { p := make([]byte, pieceBytes); return &p }}
	walked := disk.Walk(ctx, d, func(e disk.Extent) error {
		if e.Kind == disk.Zero {
			if zero == nil {
				return nil
			}
			return zero(e.Offset, e.Length)
		}
		for at := e.Offset; at < e.End(); at += pieceBytes {
			group.Go(func() error {
				buffer := buffers.Get().(*[]byte)
				defer buffers.Put(buffer)
				p := (*buffer)[:min(pieceBytes, e.End()-at)]
				if n, err := d.ReadAt(p, at); n < len(p) {
					if err == nil || err == io.EOF {
						err = io.ErrUnexpectedEOF
					}
					return err
				}
				n, err := to.WriteAt(p, at)
				moved(n)
				return err
			})
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
		}
		return nil
	})
	// What a piece met comes first: it is why the walk was cancelled.
	if err := group.Wait(); err != nil {
		return err
	}
	return walked
}
