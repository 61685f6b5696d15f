package capture

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"keenlodge/internal/core/digest"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/records"
)

// digests keeps those of disks whose source keeps no list of what changes, in files of this host: IMAGE-TARGET. One that is lost costs a full
// image.
type digests struct{ folder string }

const (
	partial = ".part-"
	// partialAge is how old a file is at least whose maker is dead.
	partialAge = 7 * 24 * time.Hour
)

func (d digests) path(id, target string) string {
	return filepath.Join(d.folder, id+"-"+url.PathEscape(target))
}

// digesting is a disk whose digests are being written down. End it with keep or drop.
type digesting struct {
	*digest.Writer
	file    *os.File
	place   string
	watched *digest.Watched
}

// begin makes a file for the digests of an image's disk.
func (d digests) begin(id, target string, size int64) (*digesting, error) {
	if err := os.MkdirAll(d.folder, 0o700); err != nil {
		return nil, err
	}
	place := d.path(id, target)
	f, err := os.OpenFile(filepath.Join(d.folder, partial+filepath.Base(place)), os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	w, err := digest.Create(f, size)
	if err != nil {
		f.Close()
		return nil, errors.Join(err, os.Remove(f.Name()))
	}
	return &digesting{Writer: w, file: f, place: place}, nil
}

// watch is a disk whose digests are written down as it is read.
func (g *digesting) watch(d disk.Disk) disk.Disk {
	g.watched = g.Watch(d)
	return g.watched
}

// keep makes the digests those of an image that exists.
func (g *digesting) keep() error {
	var err error
	if g.watched != nil {
		err = g.watched.Err()
	}
	if err == nil {
		err = g.Finish()
	}
	err = errors.Join(err, g.file.Close())
	if err == nil {
		err = os.Rename(g.file.Name(), g.place)
	}
	if err != nil {
		err = errors.Join(err, remove(g.file.Name()))
	}
	return err
}

// drop throws them away. After keep it does nothing.
func (g *digesting) drop() {
	g.file.Close()
	_ = remove(g.file.Name()) // one that stays goes with its age
}

func remove(name string) error {
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// compare reads all of a disk and finds what changed since an image; why says why that can't be told.
func (d digests) compare(ctx context.Context, whole disk.Disk, since, target string, g *digesting) (changed *digest.Changed, why string, err error) {
	f, err := os.Open(d.path(since, target))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "its digests as of image " + since + " are not on this host", nil
	}
	if err != nil {
		return nil, "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, "", err
	}
	older, err := digest.Open(f, info.Size())
	switch {
	case errors.Is(err, digest.ErrDamaged):
		return nil, "its digests as of image " + since + ": " + err.Error(), nil
	case err != nil:
		return nil, "", err
	case older.DiskSize() != whole.Size():
		return nil, fmt.Sprintf("it had %d bytes in image %s", older.DiskSize(), since), nil
	}
	changed, err = digest.Compare(ctx, whole, older, g.Writer)
	return changed, "", err
}

// tidy removes the digests of images on which nothing will build any more: those of a set, newest first, but for its newest full one, where the
// one that was just made is not full; and what dead processes left.
func (d digests) tidy(made image.Capture, set []records.Image) error {
	entries, err := os.ReadDir(d.folder)
	if err != nil {
		return err
	}
	obsolete := map[string]bool{}
	full := made == image.Full
	for _, m := range set {
		is := m.Capture == image.Full && m.State == image.Usable && m.Gone == nil
		obsolete[m.ID] = full || !is
		full = full || is
	}
	var errs []error
	for _, e := range entries {
		id, _, _ := strings.Cut(e.Name(), "-")
		old := false
		if strings.HasPrefix(e.Name(), partial) {
			info, err := e.Info()
			old = err == nil && time.Since(info.ModTime()) > partialAge
		}
		if obsolete[id] || old {
			errs = append(errs, remove(filepath.Join(d.folder, e.Name())))
		}
	}
	return errors.Join(errs...)
}
