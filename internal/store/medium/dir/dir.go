// Package dir is the medium of a folder on a local disk or a mounted share.
package dir

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/store/medium"
)

// Dir is a folder. It implements [medium.Medium].
type Dir struct {
	root string
	on   fileSystem // on which the folder lay when it was opened
}

// fileSystem tells file systems apart, by what statfs(2) says. It is the same after it was mounted anew.
type fileSystem struct {
	kind int64
	id   unix.Fsid
}

func fileSystemOf(folder string) (fileSystem, error) {
	var s unix.Statfs_t
	err := unix.Statfs(folder, &s)
	return fileSystem{int64(s.Type), s.Fsid}, err
}

// there is nil if the folder lies where it lay: a disk or share that is unmounted leaves an empty folder behind, in which nothing may be put, and
// nothing looked for.
func (d *Dir) there() error {
	switch now, err := fileSystemOf(d.root); {
	case isAway(err), err == nil && now != d.on:
		return fmt.Errorf("%w: what was mounted there is gone; mount its disk or share again", medium.ErrUnreachable)
	default:
		return err
	}
}

// isAway reports whether an error is of a share or disk that went, and not of the file.
func isAway(err error) bool {
	for _, e := range []syscall.Errno{syscall.ESTALE, syscall.ENOTCONN, syscall.ESHUTDOWN, syscall.EHOSTDOWN, syscall.EHOSTUNREACH, syscall.ETIMEDOUT, syscall.ENODEV, syscall.ENXIO} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// Open looks at a folder; it must exist and be writable. It makes no folder: one that is missing is more often a disk
// that is not mounted than a wish.
func Open(root string) (*Dir, error) {
	d, err := OpenToRead(root)
	if err != nil {
		return nil, err
	}
	if err := syscall.Access(root, 2 /* W_OK */); err != nil {
		return nil, fmt.Errorf("folder %s can't be written to: %w (%v); give the account that runs keenlodge the right, or mount it read-write", root, medium.ErrNoRight, err)
	}
	return d, nil
}

// OpenToRead is Open for who writes nothing.
func OpenToRead(root string) (*Dir, error) {
	if !filepath.IsAbs(root) {
		return nil, fmt.Errorf("folder %q: not an absolute path; write it from / on", root)
	}
	s, err := os.Stat(root)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("folder %s %w; create it, or mount the disk that holds it", root, medium.ErrNoPlace)
	case err != nil:
		return nil, fmt.Errorf("folder %s: %w", root, err)
	case !s.IsDir():
		return nil, fmt.Errorf("%s is not a folder; name a folder for the store", root)
	}
	on, err := fileSystemOf(root)
	if err != nil {
		return nil, fmt.Errorf("folder %s: ask for its file system: %w", root, err)
	}
	return &Dir{root, on}, nil
}

// Root is the folder's path.
func (d *Dir) Root() string { return d.root }

func (d *Dir) String() string { return "folder " + d.root }

// Empty reports whether the folder holds no file, but for what a fresh file system has.
func (d *Dir) Empty() (bool, error) {
	found := errors.New("something is there")
	err := filepath.WalkDir(d.root, func(path string, e fs.DirEntry, err error) error {
		switch {
		case path == filepath.Join(d.root, "lost+found"):
			return fs.SkipDir
		case err != nil:
			return err
		case e.IsDir() || medium.IsPart(e.Name()):
			return nil
		}
		return found
	})
	if errors.Is(err, found) {
		return false, nil
	}
	return err == nil, err
}

// Put implements [medium.Medium].
func (d *Dir) Put(_ context.Context, name string, content []byte) error {
	path := d.path(name)
	folder := filepath.Dir(path)
	err := d.there()
	if err == nil {
		err = d.makeFolder(folder)
	}
	if err != nil {
		return d.failed("write", name, err)
	}
	part, err := os.CreateTemp(folder, medium.PartPrefix)
	if err != nil {
		return d.failed("write", name, err)
	}
	defer os.Remove(part.Name())
	_, err = part.Write(content)
	if err == nil {
		err = part.Sync()
	}
	if closed := part.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(part.Name(), path)
	}
	if err == nil {
		err = SyncFolder(folder)
	}
	if err == nil {
		err = d.there()
	}
	return d.failed("write", name, err)
}

// makeFolder makes a folder below the root, and makes its name durable. It never makes the root.
func (d *Dir) makeFolder(folder string) error {
	if _, err := os.Stat(folder); err == nil || folder == d.root {
		return err
	}
	if err := d.makeFolder(filepath.Dir(folder)); err != nil {
		return err
	}
	if err := os.Mkdir(folder, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return SyncFolder(filepath.Dir(folder))
}

// SyncFolder makes the names in a folder durable.
func SyncFolder(folder string) error {
	f, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer f.Close()
	// Some shares can't sync a folder; they say so with EINVAL, and there is nothing else to call.
	if err := f.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) {
		return err
	}
	return nil
}

// Get implements [medium.Medium].
func (d *Dir) Get(_ context.Context, name string, offset, length int64) ([]byte, error) {
	f, err := os.Open(d.path(name))
	if err != nil {
		return nil, d.failed("read", name, err)
	}
	defer f.Close()
	if length < 0 {
		s, err := f.Stat()
		if err != nil {
			return nil, d.failed("read", name, err)
		}
		length = max(0, s.Size()-offset)
	}
	if err := medium.CheckWhole(length); err != nil {
		return nil, d.failed("read", name, err)
	}
	out := make([]byte, length)
	if n, err := f.ReadAt(out, offset); int64(n) < length {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return nil, d.failed("read", name, err)
	}
	return out, nil
}

// List implements [medium.Medium].
func (d *Dir) List(ctx context.Context, prefix string, visit func(medium.Object) error) error {
	err := d.there()
	if err == nil {
		err = d.list(ctx, strings.TrimSuffix(prefix, "/"), visit)
	}
	if err == nil {
		err = d.there() // if not, some of it did not show
	}
	return d.failed("list", prefix, err)
}

// list visits what lies in a folder and below it. Files are looked at from their folder, which spares each the way from the root.
func (d *Dir) list(ctx context.Context, folder string, visit func(medium.Object) error) error {
	f, err := os.Open(d.path(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // nothing of this kind yet, or it went while we looked
	}
	if err != nil {
		return err
	}
	defer f.Close()
	entries, err := f.ReadDir(-1)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := e.Name()
		if folder != "" {
			name = folder + "/" + name
		}
		if e.IsDir() {
			if err := d.list(ctx, name, visit); err != nil {
				return err
			}
			continue
		}
		if medium.IsPart(e.Name()) {
			continue
		}
		var st unix.Stat_t
		err := unix.Fstatat(int(f.Fd()), e.Name(), &st, unix.AT_SYMLINK_NOFOLLOW)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return &fs.PathError{Op: "fstatat", Path: d.path(name), Err: err}
		}
		if err := visit(medium.Object{Name: name, Size: st.Size, Modified: time.Unix(st.Mtim.Unix())}); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// Stat implements [medium.Medium].
func (d *Dir) Stat(_ context.Context, name string) (medium.Object, error) {
	s, err := os.Stat(d.path(name))
	if err != nil {
		return medium.Object{}, d.failed("look at", name, err)
	}
	return medium.Object{Name: name, Size: s.Size(), Modified: s.ModTime()}, nil
}

// Close implements [medium.Medium].
func (d *Dir) Close() error { return nil }

// Delete implements [medium.Medium].
func (d *Dir) Delete(_ context.Context, name string) error {
	err := os.Remove(d.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		err = d.there()
	}
	return d.failed("delete", name, err)
}

// Room implements [medium.Medium].
func (d *Dir) Room(context.Context) (medium.Room, error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(d.root, &s); err != nil {
		return medium.Room{}, d.failed("ask for room", "", err)
	}
	return medium.Room{
		FreeBytes: int64(s.Bavail) * s.Bsize, TotalBytes: int64(s.Blocks) * s.Bsize,
		FreeInodes: int64(s.Ffree), TotalInodes: int64(s.Files),
	}, nil
}

func (d *Dir) path(name string) string { return filepath.Join(d.root, filepath.FromSlash(name)) }

// failed words an error and maps it onto the medium's own.
func (d *Dir) failed(verb, name string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		if gone := d.there(); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
			return fmt.Errorf("%s: %w", medium.Doing(verb, name, d), gone)
		}
		return fmt.Errorf("%s: %w", medium.Doing(verb, name, d), medium.ErrNotFound)
	case isAway(err):
		return fmt.Errorf("%s: %w (%v)", medium.Doing(verb, name, d), medium.ErrUnreachable, err)
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fmt.Errorf("%s: %w; make room or move the store to a larger disk", medium.Doing(verb, name, d), medium.ErrFull)
	}
	return fmt.Errorf("%s: %w", medium.Doing(verb, name, d), err)
}

// Tidy removes what a crashed process left half written. It walks the whole folder.
func (d *Dir) Tidy(context.Context) error {
	walk := func(visit func(path string, e fs.DirEntry)) error {
		return filepath.WalkDir(d.root, func(path string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				visit(path, e)
			}
			return nil // unreadable folders are met, and told, when they are needed
		})
	}
	any := false
	if err := walk(func(_ string, e fs.DirEntry) { any = any || medium.IsPart(e.Name()) }); err != nil || !any {
		return err
	}
	var found []medium.Object
	err := walk(func(path string, e fs.DirEntry) {
		if s, err := e.Info(); err == nil {
			found = append(found, medium.Object{Name: path, Modified: s.ModTime()})
		}
	})
	for _, o := range medium.OldParts(found) {
		os.Remove(o.Name)
	}
	return err
}

// Exposed implements [medium.Exposer]: everyone on the host can read when the folder and all above it let everyone in.
func (d *Dir) Exposed(context.Context, string) (string, error) {
	for path := d.root; ; path = filepath.Dir(path) {
		s, err := os.Stat(path)
		if err != nil {
			return "", err
		}
		need := fs.FileMode(0o001)
		if path == d.root {
			need = 0o005
		}
		if s.Mode().Perm()&need != need {
			return "", nil
		}
		if path == "/" {
			return fmt.Sprintf("every account of this host can read folder %s; close it: chmod 700 %s", d.root, d.root), nil
		}
	}
}
