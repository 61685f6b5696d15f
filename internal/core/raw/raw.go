// Package raw reads and writes raw disk files: byte n of the file is byte n of the disk, holes are zeros.
package raw

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"

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
