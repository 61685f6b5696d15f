// Package private writes files that only their owner reads.
package private

import (
	"errors"
	"os"
	"path/filepath"
)

// Write writes a file of mode 0600, whole at once, in place of an older one; folders that are missing are made, of mode 0700. After a nil
// error it survives a power cut.
func Write(file, text string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return write(file, text, os.Rename)
}

// Create is Write for a file that is not there yet, in a folder that is; an older one is [fs.ErrExist].
func Create(file, text string) error { return write(file, text, os.Link) }

func write(file, text string, place func(from, to string) error) error {
	out, err := os.CreateTemp(filepath.Dir(file), "."+filepath.Base(file)+".new-*") // of mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	_, err = out.WriteString(text)
	if err := errors.Join(err, out.Sync(), out.Close()); err != nil {
		return err
	}
	if err := place(out.Name(), file); err != nil {
		return err
	}
	folder, err := os.Open(filepath.Dir(file)) // or a power cut takes the name
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}
