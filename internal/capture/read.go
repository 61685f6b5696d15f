package capture

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/throttle"
)

// figures notes in a task how far its reading and storing is.
func figures(w store.Writing, count *store.Progress) func(*records.Task) {
	return func(rec *records.Task) {
		rec.Done = count.Read.Load()
		rec.NewBytes, rec.Stored = w.Written()
	}
}

// readDisks reads all disks into the store and names them in the manifest. Where the older image turns out to be damaged, the disk is
// read whole after all.
func readDisks(ctx context.Context, disks []diskPlan, w store.Writing, m *image.Manifest, t *runs.Task, count *store.Progress) error {
	for i := range disks {
		d := &disks[i]
		if err := t.Begin(ctx, "reading "+d.target); err != nil {
			return err
		}
		var out image.Disk
		read := func() (err error) {
			out, err = w.Disk(ctx, d.target, d.format, d.Disk, d.older, count)
			return err
		}
		held := count.Data.Load()
		err := t.Moving(ctx, figures(w, count), read)
		if d.older != nil && (errors.Is(err, chunk.ErrDamaged) || errors.Is(err, medium.ErrNotFound)) {
			d.why = "the image on which it would build is damaged: " + err.Error()
			t.Log(ctx, "disk %s is read whole: %s", d.target, d.why)
			d.older.Close()
			d.Disk, d.older = d.whole, nil
			count.Data.Store(held)
			err = t.Moving(ctx, figures(w, count), read)
		}
		m.Disks = append(m.Disks, out)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.target, err)
		}
		m.Sizes.Disks += d.Size()
	}
	return nil
}

// settle reads again what a machine wrote while its disks were read, until they are as they were in one instant.
func (k *making) settle(ctx context.Context, s source.Settler, disks []diskPlan, w store.Writing, m *image.Manifest, count *store.Progress) error {
	if slices.ContainsFunc(k.o.Policy.Hooks, func(h site.Hook) bool {
		return slices.Contains(h.At, site.Frozen) || slices.Contains(h.At, site.Thawed)
	}) {
		k.t.Warn("its policy's hooks at frozen and thawed were not called: a server stands still on the far side of the line")
	}
	for round := 1; ; round++ {
		if err := k.t.Begin(ctx, "taking one instant"); err != nil {
			return err
		}
		changed, done, err := s.Settle(ctx)
		if err != nil {
			return fmt.Errorf("bring the disks to one instant: %w", err)
		}
		for _, c := range changed {
			n, err := disk.Allocated(ctx, c.Disk)
			if err != nil {
				return fmt.Errorf("disk %s: %w", c.Target, err)
			}
			k.t.Total += n
			i := slices.IndexFunc(m.Disks, func(d image.Disk) bool { return d.Target == c.Target })
			err = k.t.Moving(ctx, figures(w, count), func() (err error) {
				m.Disks[i], err = w.Amend(ctx, m.Disks[i], throttle.Disk(ctx, c.Disk, k.pace), disks[i].older, count)
				return err
			})
			if err != nil {
				return fmt.Errorf("disk %s, what was written while it was read: %w", c.Target, err)
			}
			k.t.Log(ctx, "disk %s: %s were written while it was read, and read again (round %d)", c.Target, humanize.IBytes(uint64(n)), round)
		}
		if done {
			return nil
		}
	}
}

// holesTold is how many places of a disk that could not be read are told in a run.
const holesTold = 5

// tellHoles notes in the manifest what of the disks could not be read.
func (k *making) tellHoles(capture source.Capture, m *image.Manifest) error {
	holed, ok := capture.(source.Holed)
	if !ok {
		if k.o.Policy.Unread == site.UnreadWarns && m.Files == nil {
			k.t.Warn("its policy's unread: %s is for files and for servers' disks; this machine's disks are read whole or not at all", site.UnreadWarns)
		}
		return nil
	}
	all := holed.Holes()
	for i := range m.Disks {
		d := &m.Disks[i]
		d.Holes = all[d.Target]
		if err := d.CheckHoles(); err != nil {
			return fmt.Errorf("what the server says of itself: %w", err)
		}
		if len(d.Holes) == 0 {
			continue
		}
		var places []string
		for _, r := range d.Holes[:min(len(d.Holes), holesTold)] {
			places = append(places, fmt.Sprintf("%d bytes at %d", r.Length, r.Offset))
		}
		if more := len(d.Holes) - holesTold; more > 0 {
			places = append(places, fmt.Sprintf("%d more places, %s in all", more, humanize.IBytes(uint64(d.Lost()))))
		}
		k.t.Warn("disk %s can't be read at %s; zeros stand there, and the image is broken: it is kept until a good one is there", d.Target, strings.Join(places, ", "))
	}
	return nil
}

// sumUp brings all that was stored to its place, and puts its sizes into the manifest.
func sumUp(ctx context.Context, w store.Writing, m *image.Manifest, t *runs.Task, count *store.Progress) error {
	if err := t.Begin(ctx, "storing"); err != nil {
		return err
	}
	if err := t.Moving(ctx, figures(w, count), func() error { return w.Flush(ctx) }); err != nil {
		return err
	}
	m.Sizes.Read, m.Sizes.Data = t.Done, min(count.Data.Load(), m.Sizes.Disks)
	m.Sizes.New, m.Sizes.Stored = w.Written()
	return nil
}
