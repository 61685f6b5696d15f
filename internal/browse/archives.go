package browse

import (
	"archive/zip"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// Packed is files that travel, with all that lies below them. Close it.
type Packed struct {
	io.ReadCloser
	top string // what lies elsewhere is on the way only
}

// Archive reads files with all that lies below them.
func (b *Browser) Archive(ctx context.Context, id string, at Place) (*Packed, error) {
	top := cmp.Or(strings.TrimPrefix(path.Clean(at.Path), "/"), ".")
	in, err := b.archive(ctx, id, at)
	return &Packed{in, top}, err
}

func (b *Browser) archive(ctx context.Context, id string, at Place) (io.ReadCloser, error) {
	st, m, err := b.of(ctx, id)
	if err != nil {
		return nil, err
	}
	if m.Files != nil {
		return archiveFiles(ctx, st, m, at)
	}
	g, release, err := b.guestOf(ctx, st, m)
	if err != nil {
		return nil, err
	}
	in, err := g.Archive(ctx, at)
	if err != nil {
		release()
		return nil, known(err)
	}
	return flowing(ctx, in, release), nil
}

// archiveFiles is [Browser.Archive] of an image of files.
func archiveFiles(ctx context.Context, st store.Store, m *image.Manifest, at Place) (io.ReadCloser, error) {
	want, err := relative(m, at)
	if err != nil {
		return nil, err
	}
	in, err := st.ListFiles(ctx, m)
	if err != nil {
		return nil, err
	}
	list, err := files.NewListReader(in)
	if err != nil {
		in.Close()
		return nil, err
	}
	// The first is looked for before anything is sent, so that what is not there is an error.
	var e files.Entry
	starts := int64(0) // where the entry's content begins
	for err == nil {
		if e, _, err = list.Next(); err == nil && below(e.Path, want) {
			break
		}
		starts += e.Stored()
	}
	if err != nil {
		in.Close()
		if errors.Is(err, io.EOF) {
			err = fmt.Errorf("%w: %s is not in image %s", fault.ErrNotFound, files.Readable(path.Clean(at.Path)), m.ID)
		}
		return nil, err
	}
	out, to := io.Pipe()
	go func() {
		defer in.Close()
		w := files.NewWireWriter(to)
		var err error
		for err == nil {
			if below(e.Path, want) && e.Kind != files.Unseen {
				err = sendFile(ctx, st, m, w, e, starts)
			}
			if starts += e.Stored(); err == nil {
				e, _, err = list.Next()
			}
		}
		if errors.Is(err, io.EOF) {
			err = w.Close(files.Last{})
		}
		to.CloseWithError(err)
	}()
	return out, nil
}

// below reports whether a path lies in a folder, or is it.
func below(p, folder string) bool {
	return folder == "." || p == folder || strings.HasPrefix(p, folder+"/")
}

// sendFile sends an entry of an image with its content.
func sendFile(ctx context.Context, st store.Store, m *image.Manifest, w *files.WireWriter, e files.Entry, at int64) error {
	if e.Kind != files.File || e.Same != "" || e.Size == 0 {
		return w.Entry(&e)
	}
	in, err := st.OpenEntry(ctx, m, &e, at, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	e.Data = nil // with zeros in place of holes
	if err := w.Entry(&e); err != nil {
		return err
	}
	_, err = io.CopyN(w, in, e.Size)
	return err
}

// Each calls visit for each entry, with its content as [files.Entry.Stored] counts it; what visit leaves of that is passed over.
func (p *Packed) Each(visit func(e *files.Entry, stored io.Reader) error) error {
	r := files.NewReader(p)
	for {
		s, err := r.Next()
		if err != nil {
			return err
		}
		if s.Last != nil {
			return nil
		}
		e := s.Entry
		if e != nil && e.Kind != files.Unseen && below(e.Path, p.top) {
			if err := visit(e, r); err != nil {
				return fmt.Errorf("/%s: %w", files.Readable(e.Path), err)
			}
		}
		if e == nil {
			continue
		}
		if _, err := io.Copy(io.Discard, r); err != nil {
			return err
		}
		if err := r.Settle(e); err != nil {
			return err
		}
	}
}

// Tar makes a pax archive of it that common tools read.
func (p *Packed) Tar(out io.Writer) error {
	w := files.NewWriter(out)
	err := p.Each(func(e *files.Entry, stored io.Reader) error {
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

// Zip makes a ZIP archive of it: files, folders, modes and times are all that one can have everywhere.
func (p *Packed) Zip(out io.Writer) error {
	z := zip.NewWriter(out)
	err := p.Each(func(e *files.Entry, stored io.Reader) error {
		h := &zip.FileHeader{Name: e.Path, Modified: e.Modified, Method: zip.Deflate}
		h.SetMode(e.FileMode())
		switch {
		case e.Path == "." || e.Same != "":
			return nil
		case e.Kind == files.Dir:
			h.Name, h.Method = h.Name+"/", zip.Store
		case e.Kind != files.File:
			return nil
		}
		w, err := z.CreateHeader(h)
		if err == nil && e.Kind == files.File {
			_, err = io.Copy(w, e.Flowing(stored))
		}
		return err
	})
	if err != nil {
		return err
	}
	return z.Close()
}
