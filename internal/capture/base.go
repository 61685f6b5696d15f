package capture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// chooseBase finds the image since which a new one is to be taken, or why that is to be full. set are the images of the new one's
// set, newest first, those too that are gone. capture is what the run's schedule asks for, "" for what the cycle says.
func chooseBase(ctx context.Context, policy site.Policy, capture image.Capture, st store.Store, set []records.Image, now time.Time) (base *image.Manifest, why string, err error) {
	var made []cycle.Image
	for _, m := range slices.Backward(set) {
		if m.State != image.Writing {
			made = append(made, cycle.Image{Taken: m.Taken, Full: m.Capture == image.Full})
		}
	}
	switch {
	case capture == image.Full:
		return nil, "its schedule asks for a full one", nil
	case capture == "":
		if why = policy.CycleRule().Due(made, now); why != "" {
			return nil, why, nil
		}
		capture = policy.Between()
	case len(made) == 0:
		return nil, "it is the first of its set", nil
	}
	i := slices.IndexFunc(set, func(m records.Image) bool { return serves(capture, m) })
	if i < 0 {
		return nil, "no usable image is left on which it could build", nil
	}
	base, err = st.ReadImage(ctx, set[i].ID)
	switch {
	case errors.Is(err, medium.ErrNotFound):
		return nil, "image " + set[i].ID + ", on which it would build, is not in the store any more", nil
	case errors.Is(err, chunk.ErrDamaged):
		return nil, "image " + set[i].ID + ", on which it would build, is damaged", nil
	}
	return base, "", err
}

// serves reports whether an image of a kind may be taken since this one.
func serves(kind image.Capture, m records.Image) bool {
	return m.State == image.Usable && m.Gone == nil && (kind == image.Incremental || m.Capture == image.Full)
}

const (
	// probes is how many places of a disk are compared before the hypervisor's word is taken for what did not change: enough to
	// notice one disk in the place of another, few enough to cost nothing (docs/decisions/0012).
	probes    = 32
	probeSize = 64 << 10
	// mostProbed bounds the extents from which places are drawn, for a disk that is all in shreds.
	mostProbed = 1 << 20
)

// errChanged marks a disk that changed where its hypervisor says that it did not.
var errChanged = errors.New("it changed where the hypervisor says that it did not")

// planDisk decides how a captured disk is read: only its changes since the older image, where everything speaks for that, or whole.
// The caller closes the older disk, if there is one. why says why a disk is read whole although changes were asked for.
func planDisk(ctx context.Context, st store.Store, c source.CapturedDisk, base *image.Manifest) (d disk.Disk, older *store.OlderDisk, why string, err error) {
	if base == nil || c.Whole == nil {
		return c.Disk, nil, c.Why, nil
	}
	i := slices.IndexFunc(base.Disks, func(b image.Disk) bool { return b.Target == c.Target })
	switch {
	case i < 0:
		return c.Whole, nil, "image " + base.ID + " has no such disk", nil
	case base.Disks[i].Size != c.Size():
		return c.Whole, nil, fmt.Sprintf("its size changed from %s to %s", humanize.IBytes(uint64(base.Disks[i].Size)), humanize.IBytes(uint64(c.Size()))), nil
	}
	opened, err := st.OpenDisk(ctx, base, base.Disks[i])
	if err == nil {
		if err = verify(ctx, c, opened); err == nil {
			return c.Disk, &store.OlderDisk{OpenedDisk: opened, Desc: base.Disks[i]}, "", nil
		}
		opened.Close()
	}
	switch {
	case errors.Is(err, errChanged):
		return c.Whole, nil, err.Error(), err
	case errors.Is(err, chunk.ErrDamaged), errors.Is(err, medium.ErrNotFound):
		return c.Whole, nil, "image " + base.ID + " can't be read there: " + err.Error(), nil
	}
	return nil, nil, "", err
}

// verify compares places that the hypervisor calls unchanged with the older image: most of them where the disk holds data, some
// anywhere.
func verify(ctx context.Context, c source.CapturedDisk, older disk.Disk) error {
	var same, data []disk.Extent
	var sameBytes, dataBytes int64
	err := disk.Walk(ctx, c.Disk, func(e disk.Extent) error {
		if e.Kind == disk.Unchanged && len(same) < mostProbed {
			same, sameBytes = append(same, e), sameBytes+e.Length
		}
		return nil
	})
	if err != nil {
		return err
	}
	next := 0
	err = disk.Walk(ctx, c.Whole, func(e disk.Extent) error {
		for ; next < len(same) && same[next].End() <= e.Offset; next++ {
		}
		for i := next; e.Kind == disk.Data && len(data) < mostProbed && i < len(same) && same[i].Offset < e.End(); i++ {
			from, to := max(e.Offset, same[i].Offset), min(e.End(), same[i].End())
			data, dataBytes = append(data, disk.Extent{Offset: from, Length: to - from}), dataBytes+to-from
		}
		return nil
	})
	if err != nil {
		return err
	}
	one, two := make([]byte, probeSize), make([]byte, probeSize)
	for n := range probes {
		from, bytesOf := data, dataBytes
		if n%4 == 3 || dataBytes == 0 {
			from, bytesOf = same, sameBytes
		}
		if bytesOf == 0 {
			return nil
		}
		at, length := place(from, rand.Int64N(bytesOf))
		if err := readBoth(c.Whole, older, one[:length], two[:length], at); err != nil {
			return err
		}
		if bytes.Equal(one[:length], two[:length]) {
			continue
		}
		if written, err := writtenMeanwhile(ctx, c, at, length); err != nil {
			return err
		} else if !written {
			return fmt.Errorf("%w, near byte %d: its list of changes can't be trusted", errChanged, at)
		}
	}
	return nil
}

// writtenMeanwhile reports whether a source that goes on writing does not call a place unchanged any more.
func writtenMeanwhile(ctx context.Context, c source.CapturedDisk, at, length int64) (bool, error) {
	if !c.Moving {
		return false, nil
	}
	for end := at + length; at < end; {
		now, err := c.Disk.Extents(ctx, at, end-at)
		if err != nil || len(now) == 0 {
			return false, err
		}
		for _, e := range now {
			if e.Kind != disk.Unchanged {
				return true, nil
			}
			at = e.End()
		}
	}
	return false, nil
}

// place finds the n-th byte of extents, and how much follows it there, up to a probe's length.
func place(extents []disk.Extent, n int64) (at, length int64) {
	for _, e := range extents {
		if n < e.Length {
			at = e.Offset + n/4096*4096
			return at, min(probeSize, e.End()-at)
		}
		n -= e.Length
	}
	return 0, 0
}

func readBoth(a, b disk.Disk, one, two []byte, at int64) error {
	if n, err := a.ReadAt(one, at); n < len(one) {
		return err
	}
	if n, err := b.ReadAt(two, at); n < len(two) {
		return fmt.Errorf("the older image at byte %d: %w", at, err)
	}
	return nil
}
