package open

import (
	"context"
	"errors"
	"fmt"
	"os"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/open/plainfile"
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
	f, err := plainfile.Open(s.folder(m.Machine), d.File)
	if err != nil {
		return nil, err
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
				return evidence, fmt.Errorf("disk %s: %w", d.Target, &store.BrokenError{Image: at.ID, Err: err})
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
	for _, f := range parts(m) {
		if err := s.readPart(ctx, m, f, progress); err != nil {
			return evidence, err
		}
		evidence = append(evidence, fmt.Sprintf("%s: %s read back and matched", f.Name, show(f.Length)))
	}
	return evidence, nil
}

// readFile matches one file against its digest.
func (s *Store) readFile(ctx context.Context, m *image.Manifest, d image.Disk, progress func(int64)) error {
	f, err := plainfile.Open(s.folder(m.Machine), d.File)
	if err != nil {
		return err
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

// Since implements [store.Comparer]: a disk that lies over the older image's tells what changed by its own file.
func (s *Store) Since(_ context.Context, m *image.Manifest, d image.Disk, older *image.Manifest, od image.Disk) (store.OpenedDisk, error) {
	if m.Base != older.ID || d.LeansOn == "" || d.LeansOn != od.File {
		return nil, nil
	}
	s.folds.RLock()
	defer s.folds.RUnlock()
	f, err := plainfile.Open(s.folder(m.Machine), d.File)
	if err != nil {
		return nil, err
	}
	if backing, err := qcow2.Backing(f); err != nil || backing == "" { // it was folded just now
		return nil, errors.Join(damaged(err), f.Close())
	}
	top, err := qcow2.Open(f, unchanged{below(d.Size)})
	if err != nil {
		return nil, errors.Join(damaged(err), f.Close())
	}
	return &openedDisk{Disk: top, files: []*os.File{f}}, nil
}

// below is a disk of so many bytes that is not there to be read.
type below int64

// Size implements [disk.Disk].
func (b below) Size() int64 { return int64(b) }

// Extents implements [disk.Disk].
func (b below) Extents(context.Context, int64, int64) ([]disk.Extent, error) { return nil, nil }

// ReadAt implements [io.ReaderAt].
func (b below) ReadAt(_ []byte, off int64) (int, error) {
	return 0, fmt.Errorf("byte %d did not change, and is not read", off)
}
