package browse

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// relative is a place in an image of files as its list has it. Such an image has one tree.
func relative(m *image.Manifest, at Place) (string, error) {
	if at.FileSystem != "" {
		return "", fmt.Errorf("%w: image %s holds files, and no file systems; leave out %q", fault.ErrInvalid, m.ID, at.FileSystem+":")
	}
	if p := strings.TrimPrefix(path.Clean(at.Path), "/"); p != "" {
		return p, nil
	}
	return ".", nil
}

// listFiles lists a folder of an image of files, or one file, as a list of those alone.
func listFiles(ctx context.Context, st store.Store, m *image.Manifest, at Place) (io.ReadCloser, error) {
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
	out := bytes.NewBufferString(files.ListHead)
	there := false
	for err == nil {
		var e files.Entry
		var raw []byte
		if e, raw, err = list.Next(); err != nil {
			break
		}
		if e.Path == want {
			if there = true; e.Kind != files.Dir || at.Self {
				out.Write(raw)
			}
		} else if path.Dir(e.Path) == want || at.Below && below(e.Path, want) {
			there = true
			out.Write(raw)
		}
		if err == nil {
			err = context.Cause(ctx)
		}
	}
	in.Close()
	switch {
	case !errors.Is(err, io.EOF):
		return nil, err
	case !there:
		return nil, fmt.Errorf("%w: %s is not in image %s", fault.ErrNotFound, files.Readable(path.Clean(at.Path)), m.ID)
	}
	return io.NopCloser(out), nil
}

// find finds a file in the list of an image, by the name under which its content is: another one leads to that, which comes before it.
func find(ctx context.Context, st store.Store, m *image.Manifest, want string) (e files.Entry, at int64, err error) {
	for {
		in, err := st.ListFiles(ctx, m)
		if err != nil {
			return e, 0, err
		}
		e, at, err = files.Find(in, want)
		in.Close()
		if err != nil || e.Same == "" {
			return e, at, err
		}
		want = e.Same
	}
}

// readFile reads a file of an image of files.
func readFile(ctx context.Context, st store.Store, m *image.Manifest, at Place, offset, length int64) (e files.Entry, n int64, in io.ReadCloser, err error) {
	want, err := relative(m, at)
	if err != nil {
		return e, 0, nil, err
	}
	e, starts, err := find(ctx, st, m, want)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return e, 0, nil, fmt.Errorf("%w: %s is not in image %s", fault.ErrNotFound, files.Readable(path.Clean(at.Path)), m.ID)
	case err != nil:
		return e, 0, nil, err
	case e.Kind != files.File:
		err = fmt.Errorf("%w: %s is a %s, and no file", fault.ErrConflict, files.Readable(path.Clean(at.Path)), e.Kind)
	case offset > e.Size:
		err = fmt.Errorf("%w: %s has %d bytes, and none at %d", fault.ErrConflict, files.Readable(path.Clean(at.Path)), e.Size, offset)
	}
	if err != nil {
		return e, 0, nil, err
	}
	content, err := st.OpenEntry(ctx, m, &e, starts, offset)
	if err != nil {
		return e, 0, nil, err
	}
	if n = e.Size - offset; length >= 0 {
		n = min(n, length)
	}
	return e, n, &closing{io.LimitReader(content, n), []func() error{content.Close}}, nil
}
