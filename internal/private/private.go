// Package private writes files that only their owner reads.
package private

import (
	"errors"
	"os"
	"path/filepath"
)

// Write writes a file of mode 0600, whole at once, in place of an older one; folders that are missing are made, of mode 0700.
func Write(file, text string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	out, err := os.CreateTemp(filepath.Dir(file), "."+filepath.Base(file)+".new-*") // of mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	_, err = out.WriteString(text)
	if err := errors.Join(err, out.Sync(), out.Close()); err != nil {
		return err
	}
	return os.Rename(out.Name(), file)
}
