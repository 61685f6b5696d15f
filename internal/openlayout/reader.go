package openlayout

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
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// longestChain bounds how many images one may lean on, one through the other.
const longestChain = 1000

// OpenDisk opens a disk of an image, with all that it leans on.
func (s *Store) OpenDisk(_ context.Context, m *image.Manifest, d image.Disk) (store.OpenedDisk, error) {
	s.folds.RLock()
	defer s.folds.RUnlock()
	out := &openedDisk{}
	var err error
	if out.Disk, err = s.openLink(out, m, d, longestChain); err != nil {
		out.Close()
		return nil, fmt.Errorf("disk %s of image %s: %w", d.Target, m.ID, err)
	}
	return out, nil
}

// openedDisk is a disk of an image, open for reading.
type openedDisk struct {
	disk.Disk
	files []*os.File
}

// Close closes all files of the chain.
func (o *openedDisk) Close() error {
	var errs []error
	for _, f := range o.files {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

// openLink opens a file of a chain and what it lies over. The names come from manifests alone: what a file says of itself must
// agree, and leads nowhere else.
func (s *Store) openLink(out *openedDisk, m *image.Manifest, d image.Disk, left int) (disk.Disk, error) {
	if left == 0 {
		return nil, fmt.Errorf("%w: more than %d images lean on each other", errDamaged, longestChain)
	}
	f, err := os.Open(filepath.Join(s.folder(m.Machine), d.File))
	if err != nil {
		return nil, missing(err)
	}
	out.files = append(out.files, f)
	backing, err := qcow2.Backing(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", d.File, damaged(err))
	}
	if backing == "" { // a fold may have come between the manifest and the file: the disk is the same
		opened, err := qcow2.Open(f, nil)
		return opened, damaged(err)
	}
	if backing != d.LeansOn {
		return nil, fmt.Errorf("%w: %s says that it lies over %q, its manifest says %q", errDamaged, d.File, backing, d.LeansOn)
	}
	base, bd, err := s.base(m, d)
	if err != nil {
		return nil, err
	}
	under, err := s.openLink(out, base, bd, left-1)
	if err != nil {
		return nil, err
	}
	opened, err := qcow2.Open(f, under)
	return opened, damaged(err)
}

// base finds the image and the disk that a disk leans on.
func (s *Store) base(m *image.Manifest, d image.Disk) (*image.Manifest, image.Disk, error) {
	base, err := s.readImage(m.Base)
	if err != nil {
		if errors.Is(err, medium.ErrNotFound) {
			err = fmt.Errorf("%w: the image that it leans on is gone: %v", errDamaged, err)
		}
		return nil, image.Disk{}, err
	}
	for _, bd := range base.Disks {
		if bd.File == d.LeansOn && base.Machine == m.Machine {
			return base, bd, nil
		}
	}
	return nil, image.Disk{}, fmt.Errorf("%w: image %s, on which it leans, has no file %s", errDamaged, m.Base, d.LeansOn)
}

// damaged maps what qcow2 finds wrong onto what the lodge calls damage.
func damaged(err error) error {
	if errors.Is(err, qcow2.ErrDamaged) {
		return fmt.Errorf("%w: %v", errDamaged, err)
	}
	return err
}

// missing maps a file that is not there onto damage.
func missing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %v", errDamaged, err)
	}
	return err
}

// BrokenError says which image of a chain is to blame.
type BrokenError struct {
	Image string
	Err   error
}

func (e *BrokenError) Error() string { return "image " + e.Image + ": " + e.Err.Error() }
func (e *BrokenError) Unwrap() error { return e.Err }

// ReadBack reads every byte of an image's files, and of those that it leans on, and matches them against their digests.
func (s *Store) ReadBack(ctx context.Context, m *image.Manifest, progress func(bytes int64)) (evidence []string, err error) {
	if err := s.tidy(m.ID); err != nil {
		return nil, err
	}
	evidence, err = s.readBack(ctx, m, progress)
	if !errors.Is(err, errDamaged) {
		return evidence, err
	}
	// A fold may have exchanged files, and let an image go, between the looks at manifests and files. Nobody is called broken for
	// that: what is damaged is so the second time, too.
	if m, err = s.ReadImage(ctx, m.ID); err != nil {
		return evidence, err
	}
	return s.readBack(ctx, m, progress)
}

func (s *Store) readBack(ctx context.Context, m *image.Manifest, progress func(bytes int64)) (evidence []string, err error) {
	for _, d := range m.Disks {
		files, bytes := 0, int64(0)
		for at, ad := m, d; ; {
			if err := s.readFile(ctx, at, ad, progress); err != nil {
				return evidence, fmt.Errorf("disk %s: %w", d.Target, &BrokenError{at.ID, err})
			}
			files, bytes = files+1, bytes+ad.Length
			if ad.LeansOn == "" {
				break
			}
			if files >= longestChain {
				return evidence, fmt.Errorf("disk %s: %w: more than %d images lean on each other", d.Target, errDamaged, longestChain)
			}
			if at, ad, err = s.base(at, ad); err != nil {
				return evidence, fmt.Errorf("disk %s: %w", d.Target, err)
			}
		}
		opened, err := s.OpenDisk(ctx, m, d)
		if err != nil {
			return evidence, err
		}
		data, err := disk.Allocated(ctx, opened)
		opened.Close()
		if err != nil {
			return evidence, fmt.Errorf("disk %s: %w", d.Target, damaged(err))
		}
		evidence = append(evidence, fmt.Sprintf("%s: %d files of %s read back and matched, %s of data in them", d.Target, files, show(bytes), show(data)))
	}
	return evidence, nil
}

// readFile matches one file against its digest.
func (s *Store) readFile(ctx context.Context, m *image.Manifest, d image.Disk, progress func(int64)) error {
	f, err := os.Open(filepath.Join(s.folder(m.Machine), d.File))
	if err != nil {
		return missing(err)
	}
	defer f.Close()
	digest, err := digestOf(ctx, f, progress)
	if err != nil {
		return err
	}
	if digest != d.Digest {
		return fmt.Errorf("%w: %s is not what was written: its BLAKE2b is %s, not %s", errDamaged, d.File, digest, d.Digest)
	}
	return nil
}

// Check looks for damage: manifests that can't be read, files that are missing, cut off or, with read, changed, and chains that
// lead nowhere.
func (s *Store) Check(ctx context.Context, read bool, progress func(int64)) (store.Report, error) {
	out := store.Report{Problems: []store.Problem{}, Broken: []string{}}
	if err := s.tidy(""); err != nil {
		return out, err
	}
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return out, err
	}
	images := map[string]*image.Manifest{}
	for _, id := range ids {
		m, err := s.ReadImage(ctx, id)
		if errors.Is(err, medium.ErrNotFound) {
			continue
		}
		if err != nil && !errors.Is(err, errDamaged) {
			return out, err
		}
		out.Images++
		if err != nil {
			out.Add(store.Problem{Image: id, What: err.Error()})
			continue
		}
		images[id] = m
		for i, d := range m.Disks {
			out.Packs++
			count := func(n int64) { out.Read += n; progress(n) }
			err := s.checkFile(ctx, m, d, read, count)
			if errors.Is(err, errDamaged) { // a fold may have come in between, see ReadBack
				if again, there := s.ReadImage(ctx, id); there == nil && i < len(again.Disks) {
					err = s.checkFile(ctx, again, again.Disks[i], read, count)
				}
			}
			if errors.Is(err, errDamaged) {
				out.Add(store.Problem{Image: id, Disk: d.Target, Object: d.File, Length: d.Size, What: err.Error()})
			} else if err != nil {
				return out, err
			}
		}
	}
	s.spread(&out, images)
	return out, nil
}

func (s *Store) checkFile(ctx context.Context, m *image.Manifest, d image.Disk, read bool, progress func(int64)) error {
	i, err := os.Stat(filepath.Join(s.folder(m.Machine), d.File))
	if err != nil {
		return missing(err)
	}
	if i.Size() != d.Length {
		return fmt.Errorf("%w: %s has %d bytes, not %d", errDamaged, d.File, i.Size(), d.Length)
	}
	if read {
		if err := s.readFile(ctx, m, d, progress); err != nil {
			return err
		}
	}
	opened, err := s.OpenDisk(ctx, m, d)
	if err != nil {
		return err
	}
	return opened.Close()
}

// spread marks the images that lean on a broken one.
func (s *Store) spread(out *store.Report, images map[string]*image.Manifest) {
	broken := map[string]bool{}
	for _, id := range out.Broken {
		broken[id] = true
	}
	for again := true; again; {
		again = false
		for id, m := range images {
			if m.Base != "" && broken[m.Base] && !broken[id] {
				broken[id], again = true, true
				out.Add(store.Problem{Image: id, What: "it leans on image " + m.Base + ", which is broken"})
			}
		}
	}
}

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
	if err := putFile(base+foldingEnd, body); err != nil {
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
	if err := syncFolder(folder); err != nil {
		return err
	}
	if err := writeAround(base, folded); err != nil {
		return err
	}
	return errors.Join(os.Remove(base+foldingEnd), os.Remove(base+writingEnd))
}
