package browse

import (
	"archive/zip"
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"keenlodge/internal/ahead"
	"keenlodge/internal/core/back"
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

// mostOnly bounds the paths that are named to a guest one by one: beyond it sends all, and who reads takes what he wants.
const mostOnly = 20_000

// Take reads entries of an image for whoever wants some of those at and below some paths: those in wanted, and perhaps more. [files.NewReader] reads it.
func (b *Browser) Take(ctx context.Context, id string, at Place, wanted map[string]bool) (io.ReadCloser, error) {
	st, m, err := b.of(ctx, id)
	if err != nil {
		return nil, err
	}
	if m.Files != nil {
		return TakeFiles(ctx, st, m, func(p string) bool { return wanted[p] }), nil
	}
	g, release, err := b.guestOf(ctx, st, m)
	if err != nil {
		return nil, err
	}
	if len(wanted) <= mostOnly {
		for p := range wanted {
			at.Only = append(at.Only, back.Text(p))
		}
	}
	in, err := g.Archive(ctx, at)
	if err != nil {
		release()
		return nil, known(err)
	}
	return flowing(ctx, in, release), nil
}

// TakeFiles is [Browser.Take] of an image of files in a store. Close what is returned.
func TakeFiles(ctx context.Context, st store.Store, m *image.Manifest, wanted func(path string) bool) io.ReadCloser {
	out, to := io.Pipe()
	go func() {
		gather := bufio.NewWriterSize(to, aheadBytes)
		w := files.NewWireWriter(gather)
		room := make([]byte, 256<<10)
		err := st.ReadEntries(ctx, m, wanted, func(e *files.Entry, stored io.Reader) error {
			if e.Kind == files.Unseen {
				return nil
			}
			err := w.Entry(e)
			if err == nil {
				_, err = io.CopyBuffer(struct{ io.Writer }{w}, stored, room)
			}
			return err
		})
		if err == nil {
			err = errors.Join(w.Close(files.Last{}), gather.Flush())
		}
		to.CloseWithError(err)
	}()
	a := ahead.New(out, aheadBytes, aheadBlocks)
	return &closing{a, []func() error{out.Close, a.Close}}
}

// The store is read while what was read before is sent: so many blocks of so many bytes.
const aheadBytes, aheadBlocks = 512 << 10, 6

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
	// It is looked for before anything is sent, so that what is not there is an error.
	in, err := st.ListFiles(ctx, m)
	if err != nil {
		return nil, err
	}
	list, err := files.NewListReader(in)
	there := false
	for err == nil && !there {
		var e files.Entry
		if e, _, err = list.Next(); err == nil {
			there = below(e.Path, want)
		}
	}
	in.Close()
	if errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%w: %s is not in image %s", fault.ErrNotFound, files.Readable(path.Clean(at.Path)), m.ID)
	}
	if err != nil {
		return nil, err
	}
	return TakeFiles(ctx, st, m, func(p string) bool { return below(p, want) }), nil
}

// below reports whether a path lies in a folder, or is it.
func below(p, folder string) bool {
	return folder == "." || p == folder || strings.HasPrefix(p, folder+"/")
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
