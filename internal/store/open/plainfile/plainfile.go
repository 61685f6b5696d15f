// Package plainfile opens and writes files of a folder in which others may write, too: it follows no link, waits for no pipe, and leaves no half of a file.
package plainfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
)

// NoLink is an error if a machine's folder leads elsewhere: whoever can write to the store's place must not have us write, or read, where he
// can't. Within it files are opened without following links.
func NoLink(folder string) error {
	info, err := os.Lstat(folder)
	if err == nil && !info.IsDir() {
		err = fmt.Errorf("%w: %s is no folder (%s); remove it", chunk.ErrDamaged, folder, info.Mode().Type())
	}
	return err
}

// Open opens a file of an image for reading, which is no link and no pipe.
func Open(folder, name string) (*os.File, error) {
	if err := NoLink(folder); err != nil {
		return nil, Missing(err)
	}
	path := filepath.Join(folder, name)
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if errors.Is(err, syscall.ELOOP) {
		return nil, fmt.Errorf("%w: %s is a link, which no file of an image is", chunk.ErrDamaged, path)
	}
	if err != nil {
		return nil, Missing(err)
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, errors.Join(err, fmt.Errorf("%w: %s is no regular file", chunk.ErrDamaged, path))
	}
	return f, nil
}

// mostSmall bounds a manifest or a note, in bytes.
const mostSmall = 16 << 20

// ReadSmall reads a manifest or a note.
func ReadSmall(path string) ([]byte, error) {
	if _, err := os.Lstat(path); err != nil {
		return nil, err
	}
	f, err := Open(filepath.Dir(path), filepath.Base(path))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	body, err := io.ReadAll(io.LimitReader(f, mostSmall+1))
	if err == nil && len(body) > mostSmall {
		err = fmt.Errorf("%w: %s has more than %d bytes", chunk.ErrDamaged, path, mostSmall)
	}
	return body, err
}

// Missing maps a file that is not there onto damage.
func Missing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %v", chunk.ErrDamaged, err)
	}
	return err
}

// Put writes a small file whole or not at all.
func Put(path string, content []byte) error {
	part := filepath.Join(filepath.Dir(path), "."+filepath.Base(path))
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(part, path)
	}
	if err == nil {
		err = dir.SyncFolder(filepath.Dir(path))
	}
	if err != nil {
		os.Remove(part)
		return fmt.Errorf("write %s: %w", path, Full(err))
	}
	return nil
}

// Full maps a full disk onto the medium's own error.
func Full(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w; make room or move the store to a larger disk", medium.ErrFull)
	}
	return err
}
