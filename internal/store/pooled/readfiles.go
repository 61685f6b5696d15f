package pooled

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
)

// readAtOnce is how much of a stream is read at once where all of it is wanted, in bytes.
const readAtOnce = 1 << 20

// whole reads a stream from its begin to its end.
func whole(get image.Getter, s image.Stream) (*bufio.Reader, error) {
	rope, err := image.OpenRope(get, s)
	if err != nil {
		return nil, err
	}
	return bufio.NewReaderSize(io.NewSectionReader(rope, 0, rope.Size()), readAtOnce), nil
}

// ListFiles implements [store.Store].
func (s *Store) ListFiles(_ context.Context, m *image.Manifest) (io.ReadCloser, error) {
	if m.Files == nil {
		return nil, fmt.Errorf("image %s holds disks, and no list of files", m.ID)
	}
	list, err := whole(s, m.Files.List)
	return io.NopCloser(list), err
}

// Archive implements [store.Store].
func (s *Store) Archive(ctx context.Context, m *image.Manifest, out io.Writer) error {
	in, err := s.ListFiles(ctx, m)
	if err != nil {
		return err
	}
	list, err := files.NewListReader(in)
	if err != nil {
		return err
	}
	content, err := whole(s, m.Files.Content)
	if err != nil {
		return err
	}
	w := files.NewWriter(out)
	for {
		e, _, err := list.Next()
		if errors.Is(err, io.EOF) {
			return w.Close()
		}
		if err != nil {
			return err
		}
		if err := context.Cause(ctx); err != nil {
			return err
		}
		if e.Kind == files.Unseen {
			continue
		}
		if err := w.Entry(&e); err != nil {
			return err
		}
		if n, err := io.CopyN(w, content, e.Stored()); errors.Is(err, io.EOF) {
			return fmt.Errorf("%s: %w: the image ends after %d of its %d bytes", e.Path, chunk.ErrDamaged, n, e.Stored())
		} else if err != nil {
			return fmt.Errorf("%s: %w", e.Path, err)
		}
	}
}

// checkFiles makes sure that the list of an image says what its content is.
func checkFiles(get image.Getter, f *image.Files) (counts files.Counts, err error) {
	in, err := whole(get, f.List)
	if err != nil {
		return counts, err
	}
	list, err := files.NewListReader(in)
	for err == nil {
		var e files.Entry
		if e, _, err = list.Next(); err == nil {
			counts.Add(&e)
		}
	}
	if !errors.Is(err, io.EOF) {
		return counts, fmt.Errorf("list of files: %w", err)
	}
	if counts.Entries != f.Entries || counts.Bytes != f.Content.Size {
		return counts, fmt.Errorf("list of files: %w: it has %d entries with %d bytes, the image %d with %d", chunk.ErrDamaged, counts.Entries, counts.Bytes, f.Entries, f.Content.Size)
	}
	return counts, nil
}

// OpenEntry implements [store.Store].
func (s *Store) OpenEntry(_ context.Context, m *image.Manifest, e *files.Entry, at, offset int64) (io.ReadCloser, error) {
	rope, err := image.OpenRope(s, m.Files.Content)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(e.Content(io.NewSectionReader(rope, at, e.Stored()), offset)), nil
}
