package open

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/open/plainfile"
)

// Fold joins an image with the full one that it leans on: it is full then, and what leans on it is none the wiser. The old
// chain stays valid until the new files are complete; a fold that is cut off is undone or finished by [Store.Tidy].
func (s *Store) Fold(ctx context.Context, id string, small bool, progress func(bytes int64)) (*image.Manifest, error) {
	path, err := s.manifestPath(id)
	if err != nil {
		return nil, err
	}
	base := strings.TrimSuffix(path, manifestEnd)
	held, err := lock(base + writingEnd)
	if err != nil {
		return nil, fmt.Errorf("fold image %s: %w", id, err)
	}
	defer held.Close()
	m, err := s.ReadImage(ctx, id)
	if err != nil {
		return nil, err
	}
	if m.Base == "" {
		return nil, fmt.Errorf("image %s leans on nothing, so there is nothing to fold into it", id)
	}
	under, err := s.ReadImage(ctx, m.Base)
	if err != nil {
		return nil, err
	}
	if under.Base != "" {
		return nil, fmt.Errorf("image %s leans on image %s, which leans on %s itself; fold that one first", id, m.Base, under.Base)
	}
	folded := *m
	folded.Base, folded.Since, folded.Capture, folded.Why = "", "", "full", "folded from image "+m.Base+" and this one"
	folded.Disks = append([]image.Disk{}, m.Disks...)
	for i, d := range m.Disks {
		if d.LeansOn == "" {
			continue
		}
		if err := s.foldDisk(ctx, m, &folded.Disks[i], small, progress); err != nil {
			for _, d := range m.Disks {
				os.Remove(filepath.Join(filepath.Dir(base), foldName(d.File)))
			}
			return nil, errors.Join(err, os.Remove(base+writingEnd))
		}
	}
	body, err := encode(&folded)
	if err != nil {
		return nil, err
	}
	s.folds.Lock()
	defer s.folds.Unlock()
	if err := plainfile.Put(base+foldingEnd, body); err != nil {
		return nil, err
	}
	return &folded, s.finishFold(base)
}

func foldName(file string) string { return "." + file + ".fold" }

func (s *Store) foldDisk(ctx context.Context, m *image.Manifest, d *image.Disk, small bool, progress func(int64)) error {
	opened, err := s.OpenDisk(ctx, m, *d)
	if err != nil {
		return err
	}
	defer opened.Close()
	for _, f := range opened.(*openedDisk).files {
		unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_SEQUENTIAL) // advice only
	}
	if err := plainfile.NoLink(s.folder(m.Machine)); err != nil {
		return err
	}
	part := filepath.Join(s.folder(m.Machine), foldName(d.File))
	d.LeansOn = ""
	if d.Length, d.Digest, err = writeDisk(ctx, part, counted{opened, progress}, "", small); err != nil {
		os.Remove(part)
	}
	return err
}

// counted tells how much was read of a disk.
type counted struct {
	disk.Disk
	progress func(int64)
}

func (c counted) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Disk.ReadAt(p, off)
	c.progress(int64(n))
	return n, err
}

// finishFold puts a fold's new files in place, however far somebody had got with that. Without the file that says what the image
// will be, there is none to finish. The caller holds the image's lock.
func (s *Store) finishFold(base string) error {
	folded, err := readManifest(base + foldingEnd)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s: %w", base+foldingEnd, err)
	}
	folder := filepath.Dir(base)
	for _, d := range folded.Disks {
		err := os.Rename(filepath.Join(folder, foldName(d.File)), filepath.Join(folder, d.File))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := dir.SyncFolder(folder); err != nil {
		return err
	}
	if err := writeAround(base, folded); err != nil {
		return err
	}
	return errors.Join(os.Remove(base+foldingEnd), os.Remove(base+writingEnd))
}
