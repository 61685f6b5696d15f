package standin

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"strconv"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/qcow2"
)

// Range is a stretch of a disk, in bytes.
type Range struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// Ranges are stretches of a disk, in rising order.
type Ranges struct {
	Ranges []Range `json:"ranges"`
}

// Add adds a stretch that does not come before those that are there.
func (r *Ranges) Add(at, length int64) {
	if last := len(r.Ranges) - 1; last >= 0 && r.Ranges[last].Offset+r.Ranges[last].Length == at {
		r.Ranges[last].Length += length
		return
	}
	r.Ranges = append(r.Ranges, Range{at, length})
}

// Brought has take read the disk that a caller sends: a qcow2 file without a backing file.
func (f *Frame) Brought(r *http.Request, take func(from disk.Disk) error) (err error) {
	file, err := os.CreateTemp(f.Folder, "brought-*")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, file.Close(), os.Remove(file.Name())) }()
	if _, err := io.Copy(file, r.Body); err != nil {
		return Refuse(http.StatusBadRequest, "the volume was not sent whole: %v", err)
	}
	from, err := qcow2.Open(file, nil)
	if err != nil {
		return Refuse(http.StatusBadRequest, "what was sent is no disk: %v", err)
	}
	return take(from)
}

// Fill writes what a disk has.
func Fill(ctx context.Context, from disk.Disk, write func(p []byte, at int64) error) error {
	p := make([]byte, 1<<20)
	return disk.Walk(ctx, from, func(e disk.Extent) error {
		for at := e.Offset; e.Kind == disk.Data && at < e.End(); {
			n := min(int64(len(p)), e.End()-at)
			if _, err := from.ReadAt(p[:n], at); err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			if err := write(p[:n], at); err != nil {
				return err
			}
			at += n
		}
		return nil
	})
}

// mostWritten is how much is written at once as from inside a machine, in bytes.
const mostWritten = 64 << 20

// Written is what a caller has written to a disk, as what runs in a machine would, and where.
func Written(r *http.Request) (p []byte, at int64, err error) {
	if at, err = strconv.ParseInt(r.URL.Query().Get("at"), 10, 64); err != nil {
		return nil, 0, Refuse(http.StatusBadRequest, "at: %v", err)
	}
	p, err = io.ReadAll(http.MaxBytesReader(nil, r.Body, mostWritten))
	return p, at, err
}
