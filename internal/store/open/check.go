package open

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/blake2b"

	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/open/plainfile"
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
	for _, m := range images {
		for _, f := range parts(m) {
			out.Packs++
			if err := s.checkPart(ctx, m, f, read, func(n int64) { out.Read += n; progress(n) }); errors.Is(err, errDamaged) {
				out.Add(store.Problem{Image: m.ID, Object: f.Name, Length: f.Length, What: err.Error()})
			} else if err != nil {
				return out, err
			}
		}
	}
	if err := s.checkStems(&out, images, read, progress); err != nil {
		return out, err
	}
	s.spread(&out, images)
	return out, nil
}

// checkStems looks for images whose manifest somebody took away, and matches what stands around the disks with its digests.
func (s *Store) checkStems(out *store.Report, images map[string]*image.Manifest, read bool, progress func(int64)) error {
	files, err := s.files("")
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, f := range files {
		base := filepath.Join(filepath.Dir(f), stemOf(filepath.Base(f)))
		if seen[base] {
			continue
		}
		seen[base] = true
		id := idOf(filepath.Base(f))
		_, writing := os.Lstat(base + writingEnd)
		_, whole := os.Lstat(base + manifestEnd)
		switch {
		case writing == nil: // somebody is at work on it
		case errors.Is(whole, fs.ErrNotExist):
			out.Add(store.Problem{Image: id, Object: filepath.Base(base) + manifestEnd, What: "its manifest is gone, and its files are there still: bring the manifest back from a copy, or remove them"})
		case whole != nil:
			return whole
		case read && images[id] != nil:
			for _, problem := range checkAround(base, progress) {
				out.Add(store.Problem{Image: id, Object: problem.file, What: problem.what})
			}
		}
	}
	return nil
}

type differing struct{ file, what string }

// checkAround matches the small files of an image with their digests; its disks, archive and list are matched with those that the manifest has.
func checkAround(base string, progress func(int64)) (out []differing) {
	sums, err := plainfile.ReadSmall(base + sumsEnd)
	if err != nil {
		return []differing{{filepath.Base(base) + sumsEnd, "its digests can't be read: " + err.Error()}}
	}
	matched := 0
	for line := range strings.Lines(string(sums)) {
		digest, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		if name != filepath.Base(name) || !strings.HasPrefix(name, filepath.Base(base)) || strings.HasSuffix(name, ".qcow2") || strings.HasSuffix(name, archiveEnd) || strings.HasSuffix(name, listEnd) {
			continue
		}
		matched++
		body, err := plainfile.ReadSmall(filepath.Join(filepath.Dir(base), name))
		progress(int64(len(body)))
		if got := blake2b.Sum512(body); err != nil {
			out = append(out, differing{name, err.Error()})
		} else if digest != hex.EncodeToString(got[:]) {
			out = append(out, differing{name, "it is not what " + filepath.Base(base) + sumsEnd + " says"})
		}
	}
	if matched == 0 {
		out = append(out, differing{filepath.Base(base) + sumsEnd, "it says nothing of the manifest"})
	}
	return out
}

func (s *Store) checkPart(ctx context.Context, m *image.Manifest, f image.File, read bool, progress func(int64)) error {
	i, err := os.Stat(filepath.Join(s.folder(m.Machine), f.Name))
	if err != nil {
		return plainfile.Missing(err)
	}
	if i.Size() != f.Length {
		return fmt.Errorf("%w: %s has %d bytes, not %d", errDamaged, f.Name, i.Size(), f.Length)
	}
	if !read {
		return nil
	}
	return s.readPart(ctx, m, f, progress)
}

func (s *Store) checkFile(ctx context.Context, m *image.Manifest, d image.Disk, read bool, progress func(int64)) error {
	i, err := os.Stat(filepath.Join(s.folder(m.Machine), d.File))
	if err != nil {
		return plainfile.Missing(err)
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
