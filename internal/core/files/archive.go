package files

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"

	"keenlodge/internal/core/chunk"
)

// ReadArchive reads the entries of a list that are wanted, with what is stored of their contents in an archive of the same files, as common tools read
// it: the list says what an archive can't. What is stored is matched with the list's digests, as it is read to its end; where there is none for a file,
// the archive is read to its own end, for what it has of checksums by itself. Errors wrap [chunk.ErrDamaged] where the two do not belong together.
func ReadArchive(list *ListReader, archive io.Reader, wanted func(path string) bool, visit func(e *Entry, stored io.Reader) error) error {
	packed, unsure := tar.NewReader(archive), false
	for {
		e, _, err := list.Next()
		if errors.Is(err, io.EOF) && unsure {
			_, err = io.Copy(io.Discard, archive)
			return err
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if !wanted(e.Path) {
			continue
		}
		stored := io.Reader(bytes.NewReader(nil))
		if e.Stored() > 0 {
			if err := seek(packed, e.Path); err != nil {
				return err
			}
			stored = e.Dense(packed)
			unsure = unsure || !e.Matches()
		}
		stored = e.Matched(stored)
		if err := visit(&e, stored); err != nil {
			return fmt.Errorf("%s: %w", Readable(e.Path), err)
		}
	}
}

// Matches reports whether the content of a file can be matched with a digest.
func (e *Entry) Matches() bool {
	return e.Kind == File && e.Same == "" && e.Data == nil && e.Digest != ""
}

// Matched is the content of a file, all of it, of which the end is an error that wraps [chunk.ErrDamaged] where it is not that of the entry's digest.
func (e *Entry) Matched(content io.Reader) io.Reader {
	if !e.Matches() {
		return content
	}
	return chunk.Matching(content, sha256.New(), e.Digest, fmt.Errorf("%w: the content of file /%s is not what it was", chunk.ErrDamaged, Readable(e.Path)))
}

// Seek reads a file of such an archive, from an offset on, with zeros where it has holes.
func Seek(archive io.Reader, path string, offset int64) (io.Reader, error) {
	packed := tar.NewReader(archive)
	err := seek(packed, path)
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(io.Discard, packed, offset); err != nil {
		return nil, fmt.Errorf("%w: file /%s ends before it should: %w", chunk.ErrDamaged, Readable(path), err)
	}
	return packed, nil
}

// seek goes on in an archive to a file.
func seek(packed *tar.Reader, path string) error {
	for {
		h, err := packed.Next()
		if err != nil {
			return fmt.Errorf("%w: file /%s is in the list, and not in the archive: %w", chunk.ErrDamaged, Readable(path), err)
		}
		if h.Name == path {
			return nil
		}
	}
}
