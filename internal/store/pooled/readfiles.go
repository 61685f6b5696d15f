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
	w := files.NewWriter(out)
	err := s.ReadEntries(ctx, m, func(string) bool { return true }, func(e *files.Entry, stored io.Reader) error {
		if e.Kind == files.Unseen {
			return nil
		}
		err := w.Entry(e)
		if err == nil {
			_, err = io.Copy(w, stored)
		}
		return err
	})
	if err != nil {
		return err
	}
	return w.Close()
}

// ReadEntries implements [store.Store].
func (s *Store) ReadEntries(ctx context.Context, m *image.Manifest, wanted func(string) bool, visit func(*files.Entry, io.Reader) error) error {
	in, err := s.ListFiles(ctx, m)
	if err != nil {
		return err
	}
	list, err := files.NewListReader(in)
	if err != nil {
		return err
	}
	rope, err := image.OpenRope(s, m.Files.Content)
	if err != nil {
		return err
	}
	content := bufio.NewReaderSize(nil, readAtOnce)
	at, begins := int64(-1), int64(0) // where the reader is, and where the entry's content begins
	for {
		e, _, err := list.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = context.Cause(ctx)
		}
		if err != nil {
			return err
		}
		n := e.Stored()
		if wanted(e.Path) {
			if gap := begins - at; at < 0 || gap < 0 || gap > readAtOnce {
				content.Reset(io.NewSectionReader(rope, begins, rope.Size()-begins))
			} else if _, err := content.Discard(int(gap)); err != nil {
				return fmt.Errorf("%s: %w", e.Path, err)
			}
			stored := &io.LimitedReader{R: content, N: n}
			if err := visit(&e, ended{stored}); err != nil {
				return fmt.Errorf("%s: %w", files.Readable(e.Path), err)
			}
			at = begins + n - stored.N
		}
		begins += n
	}
}

// ended is a reader of which a known length is left: that it ends before is damage.
type ended struct{ *io.LimitedReader }

func (r ended) Read(p []byte) (int, error) {
	n, err := r.LimitedReader.Read(p)
	if errors.Is(err, io.EOF) && r.N > 0 {
		err = fmt.Errorf("%w: the image ends %d bytes before it does", chunk.ErrDamaged, r.N)
	}
	return n, err
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
