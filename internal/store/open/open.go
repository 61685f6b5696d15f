package open

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/open/plainfile"
)

const (
	manifestEnd = ".json"
	sumsEnd     = ".b2"
	domainEnd   = ".xml"
	// layoutEnd ends the name of a server's definition, which is JSON.
	layoutEnd = "-server.json"
	// variablesEnd ends the name of a machine's UEFI variables, a file such as QEMU's pflash drives take.
	variablesEnd = "-uefi-variables.fd"
	// writingEnd is locked by who makes, folds or drops an image; it is there as long as the work is not done.
	writingEnd = ".writing"
	// foldingEnd holds the manifest of an image that is being folded, from the moment on at which nothing can fail any more.
	foldingEnd = ".folding"
	readMe     = "README.txt"
)

// Store is a store of the open layout.
type Store struct {
	dir    *dir.Dir
	header store.Header

	// folds keeps readers of manifests away while one is replaced together with the files that it speaks of.
	folds sync.RWMutex
}

// Make makes a store in an empty folder; the caller looks whether it is empty.
func Make(ctx context.Context, m medium.Medium, now time.Time) (*Store, error) {
	d, err := folder(m)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(d.Root(), readMe), []byte(rootText), 0o600); err != nil {
		return nil, err
	}
	if err := store.PutHeader(ctx, d, store.OpenLayout(now)); err != nil {
		return nil, err
	}
	return Open(ctx, d)
}

// Open reads a store's header. A folder without one is [store.ErrNoStore].
func Open(ctx context.Context, m medium.Medium) (*Store, error) {
	d, err := folder(m)
	if err != nil {
		return nil, err
	}
	h, err := store.ReadHeader(ctx, d)
	if err != nil {
		return nil, err
	}
	if h.Layout != site.Open {
		return nil, fmt.Errorf("%s holds a store of the %s layout, not an open one; say so in its entry", d, h.Layout)
	}
	return &Store{dir: d, header: h}, nil
}

// folder is a medium as a folder of this host, in which files can be renamed, locked and mapped.
func folder(m medium.Medium) (*dir.Dir, error) {
	if h, ok := m.(dir.Locking); ok {
		m = h.Dir
	}
	if d, ok := m.(*dir.Dir); ok {
		return d, nil
	}
	return nil, fmt.Errorf("%s is no folder of this host; the open layout lies in one, or in a mounted share (medium dir)", m)
}

// Header describes the store.
func (s *Store) Header() store.Header { return s.header }

// Medium is where the store lies.
func (s *Store) Medium() medium.Medium { return s.dir }

// Close does nothing: no connection is open.
func (s *Store) Close() error { return nil }

// Refresh does nothing: every call looks at the folder.
func (s *Store) Refresh(context.Context) error { return nil }

// Present reports whether the folder still holds this store.
func (s *Store) Present(ctx context.Context) (bool, error) {
	h, err := store.ReadHeader(ctx, s.dir)
	if errors.Is(err, store.ErrNoStore) {
		return false, nil
	}
	return err == nil && h.ID == s.header.ID, err
}

// Reading announces that images are read for long. Files that are open stay readable after they are dropped, so nobody needs to know.
func (s *Store) Reading(context.Context, string) (end func(context.Context) error, err error) {
	return func(context.Context) error { return nil }, nil
}

// folder is a machine's. Its name may hold what a file name can't, or what a shell would trip over.
func (s *Store) folder(machine string) string { return filepath.Join(s.dir.Root(), plain(machine)) }

// plain writes a name with letters, digits, dots, dashes and underscores; all else becomes %XX.
func plain(name string) string {
	var out strings.Builder
	for i, b := range []byte(name) {
		switch {
		case 'a' <= b && b <= 'z', 'A' <= b && b <= 'Z', '0' <= b && b <= '9', i > 0 && (b == '.' || b == '-' || b == '_'):
			out.WriteByte(b)
		default:
			fmt.Fprintf(&out, "%%%02X", b)
		}
	}
	return out.String()
}

// stem begins the names of an image's files.
func stem(m *image.Manifest) string { return m.Taken.UTC().Format("20060102-150405") + "-" + m.ID }

// idOf is the image whose file a name is of, or "".
func idOf(name string) string {
	name = strings.TrimPrefix(name, ".")
	if len(name) < 27 || name[8] != '-' || name[15] != '-' || !image.IsID(name[16:26]) {
		return ""
	}
	return name[16:26]
}

// stemOf is the stem of the file of an image.
func stemOf(name string) string { return strings.TrimPrefix(name, ".")[:26] }

// files lists the files that are an image's, in all folders, or with "" those of all images, as paths.
func (s *Store) files(id string) ([]string, error) {
	folders, err := os.ReadDir(s.dir.Root())
	if err != nil {
		return nil, err
	}
	var out []string
	for _, f := range folders {
		if !f.IsDir() {
			continue
		}
		folder := filepath.Join(s.dir.Root(), f.Name())
		entries, err := os.ReadDir(folder)
		if errors.Is(err, fs.ErrNotExist) || f.Name() == "lost+found" {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if of := idOf(e.Name()); of != "" && (id == "" || of == id) && e.Type().IsRegular() {
				out = append(out, filepath.Join(folder, e.Name()))
			}
		}
	}
	return out, nil
}

// ImageIDs lists the images that exist, in order of their names.
func (s *Store) ImageIDs(context.Context) ([]string, error) {
	files, err := s.files("")
	var ids []string
	for _, f := range files {
		if isManifest(filepath.Base(f)) {
			ids = append(ids, idOf(filepath.Base(f)))
		}
	}
	slices.Sort(ids)
	return ids, err
}

func isManifest(name string) bool {
	return len(name) == 26+len(manifestEnd) && strings.HasSuffix(name, manifestEnd)
}

// manifestPath finds an image's manifest. One that is missing is [medium.ErrNotFound].
func (s *Store) manifestPath(id string) (string, error) {
	files, err := s.files(id)
	if err != nil {
		return "", err
	}
	for _, f := range files {
		if isManifest(filepath.Base(f)) {
			return f, nil
		}
	}
	return "", fmt.Errorf("image %s in %s: %w", id, s.dir, medium.ErrNotFound)
}

// ReadImage reads an image's manifest.
func (s *Store) ReadImage(_ context.Context, id string) (*image.Manifest, error) {
	s.folds.RLock()
	defer s.folds.RUnlock()
	return s.readImage(id)
}

func (s *Store) readImage(id string) (*image.Manifest, error) {
	path, err := s.manifestPath(id)
	if err != nil {
		return nil, err
	}
	m, err := readManifest(path)
	if err == nil && m.ID != id {
		err = fmt.Errorf("%w: it is of image %s", errDamaged, m.ID)
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = medium.ErrNotFound
	}
	if err != nil {
		return nil, fmt.Errorf("image %s: %s: %w", id, path, err)
	}
	return m, nil
}

func readManifest(path string) (*image.Manifest, error) {
	body, err := plainfile.ReadSmall(path)
	if err != nil {
		return nil, err
	}
	m, err := image.Decode(body)
	if err != nil {
		return nil, err
	}
	for _, d := range m.Disks {
		if d.File == "" {
			return nil, fmt.Errorf("manifest of image %s: %w: disk %s has no file", m.ID, errDamaged, d.Target)
		}
	}
	for _, f := range parts(m) {
		if f.Name == "" {
			return nil, fmt.Errorf("manifest of image %s: %w: it holds files, and names none", m.ID, errDamaged)
		}
	}
	return m, nil
}

// all reads all manifests of a machine that can be read.
func (s *Store) all(folder string) ([]*image.Manifest, error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []*image.Manifest
	for _, e := range entries {
		if idOf(e.Name()) == "" || !isManifest(e.Name()) {
			continue
		}
		if m, err := readManifest(filepath.Join(folder, e.Name())); err == nil {
			out = append(out, m)
		}
	}
	return out, err
}

// lock takes an image for work on its files; the file that says so is made if need be. Another's work is [errBusy].
func lock(path string) (*os.File, error) {
	for {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
		if err != nil {
			return nil, err
		}
		if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
			f.Close()
			if errors.Is(err, syscall.EWOULDBLOCK) {
				err = errBusy
			}
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		// Who held it before may have removed the file in between: a lock on one that has no name is worth nothing.
		mine, err := f.Stat()
		if err != nil {
			f.Close()
			return nil, err
		}
		named, err := os.Lstat(path)
		if err == nil && os.SameFile(mine, named) {
			return f, nil
		}
		f.Close()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
}

// errBusy marks an image whose files another process is working on.
var errBusy = errors.New("another process is at work on this image")

// DropImage makes an image exist no more, and gives its space back. One on which another leans stays.
func (s *Store) DropImage(ctx context.Context, id string) error {
	path, err := s.manifestPath(id)
	if errors.Is(err, medium.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	folder, base := filepath.Dir(path), strings.TrimSuffix(path, manifestEnd)
	others, err := s.all(folder)
	if err != nil {
		return err
	}
	for _, m := range others {
		if m.ID == id {
			if err := m.Deletable(time.Now()); err != nil {
				return err
			}
		}
		if m.Base == id {
			return fmt.Errorf("image %s can't go: image %s of %s leans on it", id, m.ID, m.Machine)
		}
	}
	held, err := lock(base + writingEnd)
	if err != nil {
		return fmt.Errorf("drop image %s: %w", id, err)
	}
	defer held.Close()
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := dir.SyncFolder(folder); err != nil {
		return err
	}
	return s.clear(id)
}

// clear removes what is left of an image without a manifest; its lock goes last.
func (s *Store) clear(id string) error {
	files, err := s.files(id)
	if err != nil {
		return err
	}
	last := func(f string) int {
		if strings.HasSuffix(f, writingEnd) {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(files, func(a, b string) int { return last(a) - last(b) })
	for _, f := range files {
		if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Settle decides what an image is whose writer died: whole if its manifest had come to be, else nothing of it stays.
func (s *Store) Settle(ctx context.Context, id string) (*image.Manifest, error) {
	if err := s.tidy(id); err != nil {
		return nil, err
	}
	m, err := s.ReadImage(ctx, id)
	if errors.Is(err, medium.ErrNotFound) {
		return nil, nil
	}
	return m, err
}

// Tidy removes what dead writers left, and finishes the folds of dead processes. What is under way is left alone.
func (s *Store) Tidy(context.Context) error { return s.tidy("") }

func (s *Store) tidy(only string) error {
	files, err := s.files(only)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	var errs []error
	for _, f := range files {
		base := filepath.Join(filepath.Dir(f), stemOf(filepath.Base(f)))
		if seen[base] {
			continue
		}
		seen[base] = true
		errs = append(errs, s.tidyImage(base))
	}
	return errors.Join(errs...)
}

// tidyImage settles one image's files. base is their path up to the stem.
func (s *Store) tidyImage(base string) error {
	_, busy := os.Lstat(base + writingEnd)
	if errors.Is(busy, fs.ErrNotExist) {
		return nil // nobody is at work on it, nor died at it: if its manifest is gone, somebody else took it away, and a check says so
	}
	held, err := lock(base + writingEnd)
	if errors.Is(err, errBusy) {
		return nil
	}
	if err != nil {
		return err
	}
	defer held.Close()
	if err := s.finishFold(base); err != nil {
		return err
	}
	if _, err := os.Lstat(base + manifestEnd); errors.Is(err, fs.ErrNotExist) {
		return s.clear(idOf(filepath.Base(base) + "-"))
	} else if err != nil {
		return err
	}
	files, err := s.files(idOf(filepath.Base(base) + "-"))
	if err != nil {
		return err
	}
	for _, f := range files {
		if strings.HasPrefix(filepath.Base(f), ".") || f == base+writingEnd {
			if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// Footprint implements [store.Store]: a folder is quick to list.
func (s *Store) Footprint(ctx context.Context) (int64, error) {
	bytes, _, err := s.Used(ctx)
	return bytes, err
}

// Used is what the store's files take, in bytes, and their number.
func (s *Store) Used(ctx context.Context) (bytes int64, files int, err error) {
	err = filepath.WalkDir(s.dir.Root(), func(_ string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) || err == nil && e.IsDir() {
			return ctx.Err()
		}
		if err != nil {
			return err
		}
		i, err := e.Info()
		if err != nil {
			return nil // it went while we looked
		}
		bytes, files = bytes+onDisk(i), files+1
		return nil
	})
	return bytes, files, err
}

// Show describes the store. Days are told in zone.
func (s *Store) Show(ctx context.Context, zone *time.Location) (store.Summary, error) {
	out := store.Summary{Header: s.header, Days: []store.DayGrowth{}}
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return out, err
	}
	for _, id := range ids {
		m, err := s.ReadImage(ctx, id)
		switch {
		case errors.Is(err, medium.ErrNotFound):
		case errors.Is(err, errDamaged):
			out.Unreadable++
		case err != nil:
			return out, err
		default:
			out.Add(m, zone)
		}
	}
	if out.Taken, out.Objects, err = s.Used(ctx); err != nil {
		return out, err
	}
	out.Room, err = s.dir.Room(ctx)
	return out, err
}

// encode writes a manifest for people as well as programs.
func encode(m *image.Manifest) ([]byte, error) {
	body, err := json.MarshalIndent(m, "", "  ")
	return append(body, '\n'), err
}
