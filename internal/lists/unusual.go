package lists

import (
	"bytes"
	"context"
	"io"
	"strings"

	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/reader"
	"keenlodge/internal/store"
)

// pieceSize is how much is looked at of a file at once, in bytes.
const pieceSize = 4 << 10

// Looking has see called with what lies at the beginning of files, and where that is to be had in their middle.
type Looking func(ctx context.Context, at []unusual.Suspect, see func(path string, pieces ...[]byte)) error

// Opened is an image whose disks are open.
type Opened interface {
	List(ctx context.Context, w reader.Where) (io.ReadCloser, error)
	Read(ctx context.Context, r reader.Read) (reader.Found, io.ReadCloser, error)
}

// tally counts how the files of an image differ from those of the image before, nil where there is none.
func (l *Lists) tally(ctx context.Context, machine, image string) (*unusual.Tally, error) {
	before, err := l.rec.Forerunner(ctx, machine, image)
	if err != nil || before == "" {
		return nil, err
	}
	t := &unusual.Tally{}
	ok, err := l.differ(ctx, machine, before, image, t.See)
	if !ok || err != nil {
		return nil, err
	}
	return t, nil
}

// compare keeps how the files of an image differ from those of the image that was listed before, and what of that is unusual.
func (l *Lists) compare(ctx context.Context, machine, image string, t *unusual.Tally, now []files.Entry, look Looking) error {
	c, suspects := t.Sum(now)
	if len(suspects) > 0 && look != nil {
		err := look(ctx, suspects, func(path string, pieces ...[]byte) {
			c.Looked++
			if !unusual.Readable(path, pieces...) {
				c.Textless++
			}
		})
		if err != nil {
			return err
		}
	}
	before, err := l.rec.Changes(ctx, machine, image, unusual.Most)
	if err != nil {
		return err
	}
	if err := l.rec.SetChange(ctx, image, c); err != nil {
		return err
	}
	return l.rec.AddUnusual(ctx, image, unusual.Grave(unusual.CompareFiles(c, before)))
}

// lookInto looks into files of an image whose disks are open.
func lookInto(o Opened) Looking {
	return func(ctx context.Context, at []unusual.Suspect, see func(string, ...[]byte)) error {
		for _, s := range at {
			where := reader.Where{Path: "/" + s.Path}
			if name, path, of := strings.Cut(s.Path, ":/"); of {
				where = reader.Where{FileSystem: name, Path: "/" + path}
			}
			var pieces [][]byte
			for _, offset := range []int64{0, s.Size / 2} {
				_, in, err := o.Read(ctx, reader.Read{Where: where, Offset: offset, Length: pieceSize})
				if err != nil {
					return err
				}
				piece, err := io.ReadAll(io.LimitReader(in, pieceSize))
				in.Close()
				if err != nil {
					return err
				}
				pieces = append(pieces, piece)
				if s.Size <= pieceSize {
					break
				}
			}
			see(s.Path, pieces...)
		}
		return nil
	}
}

// lookIntoFiles looks into files of an image of files.
func lookIntoFiles(st store.Store, m *image.Manifest) Looking {
	return func(ctx context.Context, at []unusual.Suspect, see func(string, ...[]byte)) error {
		wanted := map[string]bool{}
		for _, s := range at {
			wanted[s.Path] = true
		}
		return st.ReadEntries(ctx, m, func(path string) bool { return wanted[path] }, func(e *files.Entry, stored io.Reader) error {
			var piece bytes.Buffer
			if _, err := io.CopyN(&piece, stored, pieceSize); err != nil && err != io.EOF {
				return err
			}
			see(e.Path, piece.Bytes())
			return nil
		})
	}
}
