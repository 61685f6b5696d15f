package capture

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/dustin/go-humanize/english"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/unread"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/throttle"
)

// files are those that the order covers, nil where it is one of disks.
func (o Order) files() *source.FilesWanted {
	p := o.Policy
	scope := p.Covers()
	if !scope.OfFiles() {
		return nil
	}
	return &source.FilesWanted{System: scope == image.SystemState, Export: scope == image.Exported, Parts: p.Parts, LeaveOut: p.LeaveOut, Folders: p.Folders, Ignore: p.Ignore, Personal: p.Personal}
}

// filesPlan is how the files of a capture are read.
type filesPlan struct {
	archive io.Reader
	since   bool // it tells only what is not as in the base
	bytes   int64
}

// hasFiles is an error where files are wanted of what has none to offer.
func (k *making) hasFiles(h source.Capturer) error {
	wanted := k.o.files()
	_, exports := h.(source.Exporter)
	_, parts := h.(source.Parter)
	switch {
	case wanted == nil || wanted.Export && exports:
	case wanted.Export:
		return fmt.Errorf("%s is no appliance, and images of scope %s are of what appliances hand out of themselves; cover it by a policy of another scope", k.t.Machine, k.rec.Scope)
	case exports || !parts:
		return fmt.Errorf("%s has no agent of ours, and images of scope %s are of servers that have one: keenlodge machine enroll NAME", k.t.Machine, k.rec.Scope)
	}
	return nil
}

// planFiles decides how the files of a capture are read, nil where it is one of disks.
func (k *making) planFiles(ctx context.Context, capture source.Capture) (*filesPlan, error) {
	a, ok := capture.(source.Archiver)
	if !ok {
		return nil, nil
	}
	p := &filesPlan{}
	var why string
	p.archive, p.since, why, p.bytes = a.Archive()
	p.archive = throttle.Reader(ctx, p.archive, k.pace)
	if k.base == nil {
		p.since = false
	} else if !p.since {
		k.why = why
		k.t.Log(ctx, "all files are read: %s", why)
	}
	return p, nil
}

// readFiles reads files into the store and describes them in the manifest.
func (k *making) readFiles(ctx context.Context, p *filesPlan, w store.Writing, m *image.Manifest, count *store.Progress) error {
	if err := k.t.Begin(ctx, "reading files"); err != nil {
		return err
	}
	var base *image.Files
	if p.since {
		base = k.base.Files
	}
	err := k.t.Moving(ctx, figures(w, count), func() error {
		f, err := w.Files(ctx, files.NewReader(p.archive), base, count)
		f.Parts = append(f.Parts, export.Inside(m.Definition)...)
		f.Clean()
		m.Files = &f
		return err
	})
	if err != nil {
		return fmt.Errorf("files: %w", err)
	}
	m.Sizes.Disks, m.Why = m.Files.Bytes, k.why
	if p.since {
		m.Capture, m.Since = k.rec.Capture, k.base.ID
	}
	return nil
}

// unfitBase reports whether an image of files failed for the image since which it was taken: then it is read whole.
func unfitBase(err error) bool {
	return errors.Is(err, store.ErrOtherFiles) || errors.Is(err, chunk.ErrDamaged) || errors.Is(err, medium.ErrNotFound)
}

// tellUnread notes which files are not in the image as they were, and says so, or fails, as the policy says. What was stored is in its place by now.
func (k *making) tellUnread(ctx context.Context, m *image.Manifest) error {
	f := m.Files
	if f == nil || f.Unread+f.Changed == 0 {
		return nil
	}
	noted, err := k.unreadIn(ctx, m)
	if err == nil {
		// Of those of which there is much to tell the database has to hear in one go, or of none.
		err = k.c.rec.NoteUnread(records.Within(ctx, time.Minute), k.o.Run.ID, k.t.MachineID, noted)
	}
	if err != nil {
		return fmt.Errorf("note which files could not be read: %w", err)
	}
	look := fmt.Sprintf("keenlodge run show %s --unread", k.o.Run.ID)
	if f.Changed > 0 {
		k.t.Log(ctx, "%s written to while being read; which: %s", english.Plural(int(f.Changed), "file was", "files were"), look)
	}
	if f.Unread == 0 {
		return nil
	}
	if k.o.Policy.Unread == site.UnreadFails {
		return fmt.Errorf("%s could not be read, and policy %s wants all (unread: fail); which: %s", english.Plural(int(f.Unread), "file", ""), k.o.Run.Policy, look)
	}
	k.t.Warn("%s could not be read; which: %s", english.Plural(int(f.Unread), "file", ""), look)
	return nil
}

// unreadIn reads the image's list for what is not in it as it was.
func (k *making) unreadIn(ctx context.Context, m *image.Manifest) (out []unread.File, err error) {
	in, err := k.st.ListFiles(ctx, m)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	list, err := files.NewListReader(in)
	if err != nil {
		return nil, err
	}
	for len(out) < unread.Most {
		e, _, err := list.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if e.Unread != "" || e.Changed {
			out = append(out, unread.File{Path: []byte(e.Path), Why: plain.Text(e.Unread, 1<<10), Changed: e.Changed})
		}
	}
	return out, nil
}

// wholeOnly says why an image of files can't build on another in a store, "" where it can.
func wholeOnly(o Order, st store.Store) string {
	switch {
	case o.scope() == image.Exported:
		return "an export holds all that its appliance handed out"
	case o.files() != nil && st.Header().Layout == site.Open:
		return "an archive of an open store holds all of its files"
	}
	return ""
}
