package block

import (
	"errors"
	"fmt"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
)

// mostHoles bounds what of a device may be unreadable before it counts as gone, in bytes.
const mostHoles = 16 << 20

// holes are places of a device that can't be read.
type holes struct {
	mu  sync.Mutex
	all []disk.Extent // in order, apart
}

// Holed is the same device, of which what can't be read is zeros. What is made of that must say so.
func (r *Direct) Holed() *Direct {
	holed := *r
	holed.holes = &holes{}
	return &holed
}

// Holes are the places where zeros were taken for what is there, in order; of one that is not [Direct.Holed] there are none.
func (r *Direct) Holes() []disk.Extent {
	if r.holes == nil {
		return nil
	}
	return r.holes.places()
}

// unreadable reports whether an error is of the place that was read, and not of the device as a whole.
func unreadable(err error) bool {
	return errors.Is(err, unix.EIO) || errors.Is(err, unix.ENODATA) || errors.Is(err, unix.EREMOTEIO) || errors.Is(err, unix.EILSEQ)
}

// around reads an aligned range of which something can't be read: all of the rest, with zeros there.
func (r *Direct) around(p []byte, off int64, why error) error {
	if int64(len(p)) <= r.align {
		clear(p)
		return r.holes.add(off, int64(len(p)), why)
	}
	half := int64(len(p)) / 2 / r.align * r.align
	for _, part := range [][2]int64{{0, half}, {half, int64(len(p))}} {
		at := part[0]
		_, err := r.pread(p[at:part[1]], off+at)
		if unreadable(err) {
			err = r.around(p[at:part[1]], off+at, err)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// add notes a place. Where there are too many, the device as a whole is at fault.
func (h *holes) add(off, length int64, why error) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	i := disk.From(h.all, off)
	if i < len(h.all) && h.all[i].Offset <= off && off+length <= h.all[i].End() {
		return nil
	}
	var sum int64
	h.all = slices.Insert(h.all, i, disk.Extent{Offset: off, Length: length, Kind: disk.Data})
	joined := h.all[:0]
	for _, e := range h.all {
		if n := len(joined); n > 0 && joined[n-1].End() >= e.Offset {
			joined[n-1].Length = max(joined[n-1].End(), e.End()) - joined[n-1].Offset
		} else {
			joined = append(joined, e)
		}
	}
	h.all = joined
	for _, e := range h.all {
		sum += e.Length
	}
	if sum > mostHoles {
		return fmt.Errorf("more than %d MiB can't be read, so the disk as a whole is at fault: %w", mostHoles>>20, why)
	}
	return nil
}

func (h *holes) places() []disk.Extent {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Clone(h.all)
}
