package open

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

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
