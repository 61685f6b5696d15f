package stores

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
)

// Image finds an image that is not gone.
func (ss *Stores) Image(ctx context.Context, id string) (records.Image, error) {
	m, err := ss.rec.Image(ctx, id)
	if errors.Is(err, fault.ErrNotFound) {
		return m, fmt.Errorf("%w: no image is called %q; look at: keenlodge image list", fault.ErrNotFound, id)
	}
	if err == nil && m.Gone != nil {
		return m, fmt.Errorf("%w: image %s went on %s: %s", fault.ErrNotFound, id, m.Gone.Format("2006-01-02 15:04"), m.GoneWhy)
	}
	return m, err
}

// Images lists images, newest first, with the cursor of the next page.
func (ss *Stores) Images(ctx context.Context, f records.ImageFilter) ([]records.Image, string, error) {
	return ss.rec.ImagePage(ctx, f)
}

// OfImage finds an image and opens its store.
func (ss *Stores) OfImage(ctx context.Context, id string) (records.Image, store.Store, error) {
	m, err := ss.Image(ctx, id)
	if err != nil {
		return m, nil, err
	}
	st, err := ss.Named(ctx, m.Store)
	return m, st, err
}

// Hardware is what the machine of an image needs to run.
func (ss *Stores) Hardware(ctx context.Context, id string) (machine.Hardware, error) {
	_, st, err := ss.OfImage(ctx, id)
	if err != nil {
		return machine.Hardware{}, err
	}
	m, err := st.ReadImage(ctx, id)
	if err != nil {
		return machine.Hardware{}, err
	}
	h := machine.HardwareOf(m.Definition)
	h.System = cmp.Or(m.System, h.System)
	return h, nil
}

// Finished is an image's record, completed from its manifest.
func Finished(rec records.Image, m *image.Manifest) records.Image {
	rec.Taken, rec.Consistency, rec.Frozen = m.Taken, m.Consistency, m.Frozen.Nanoseconds()
	rec.Capture, rec.Since, rec.Base, rec.CaptureWhy, rec.Took = m.Capture, m.Since, m.Base, m.Why, m.Took.Nanoseconds()
	if !m.Locked.IsZero() {
		rec.Locked = &m.Locked
	}
	if m.Copy != nil {
		rec.CopyOf, rec.CopiedBy = m.Copy.Of, m.Copy.Rule
	}
	rec.Note, rec.SeparateSet, rec.Rested = m.Note, m.SeparateSet, m.Rested
	rec.Size, rec.Read, rec.NewBytes, rec.Stored = m.Sizes.Disks, m.Sizes.Read, m.Sizes.New, m.Sizes.Stored
	if rec.State = image.Usable; m.HasHoles() {
		rec.State = image.Broken
	}
	rec.Disks = []records.ImageDisk{}
	for _, d := range m.Disks {
		rec.Disks = append(rec.Disks, records.ImageDisk{Target: d.Target, Size: d.Size, Lost: d.Lost()})
	}
	rec.Firmware = []records.ImageFirmware{}
	for _, f := range m.Firmware {
		rec.Firmware = append(rec.Firmware, records.ImageFirmware{Kind: f.Kind, Size: f.Size, Left: f.Left})
	}
	if f := m.Files; f != nil {
		rec.Files = &records.ImageFiles{Entries: f.Entries, Bytes: f.Bytes, Unread: f.Unread, Changed: f.Changed, Parts: f.Parts, LeftOut: f.LeftOut}
	}
	return rec
}

// Collect deletes what is condemned in a store that this process has open, as far as nobody is in the way.
func (ss *Stores) Collect(ctx context.Context, name, place string) error {
	ss.mu.Lock()
	st := ss.opened[place]
	ss.mu.Unlock()
	sweeper, ok := st.(store.Sweeper)
	if !ok {
		return nil
	}
	r, err := sweeper.Collect(ctx, ss.Expected(name))
	if r.Deleted > 0 {
		ss.log.Info("what was condemned is deleted", "place", place, "packs", r.Deleted, "bytes", r.Freed)
	}
	return err
}

// Expected lists the images that must lie in a store, for a sweep of it.
func (ss *Stores) Expected(name string) func(context.Context) ([]string, error) {
	return func(ctx context.Context) ([]string, error) { return ss.rec.Expected(ctx, name) }
}

// ListFiles opens the list of an image of files; close it.
func (ss *Stores) ListFiles(ctx context.Context, id string) (io.ReadCloser, error) {
	m, st, err := ss.OfImage(ctx, id)
	if err != nil {
		return nil, err
	}
	if m.Files == nil {
		return nil, fmt.Errorf("%w: image %s holds disks, and no list of files", fault.ErrConflict, id)
	}
	manifest, err := st.ReadImage(ctx, id)
	if err != nil {
		return nil, err
	}
	return st.ListFiles(ctx, manifest)
}

// Settle decides what became of an image whose end could not be recorded, and records it: it exists, or it never did. whole reports which.
func (ss *Stores) Settle(ctx context.Context, id string) (whole bool, err error) {
	rec, err := ss.rec.Image(ctx, id)
	if errors.Is(err, fault.ErrNotFound) || err == nil && rec.State != image.Writing {
		return rec.State == image.Usable, nil
	}
	if err != nil {
		return false, err
	}
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return false, err
	}
	if _, ok := s.Stores[rec.Store]; !ok {
		return false, ss.rec.ForgetImage(ctx, id)
	}
	st, err := ss.Open(ctx, s, rec.Store)
	if err != nil {
		return false, err
	}
	m, err := st.Settle(ctx, id)
	if err != nil {
		return false, err
	}
	if m != nil {
		return true, ss.rec.FinishImage(ctx, Finished(rec, m))
	}
	return false, ss.rec.ForgetImage(ctx, id)
}
