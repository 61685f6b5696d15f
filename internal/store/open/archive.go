package open

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/open/plainfile"
)

const (
	// archiveEnd and listEnd end the names of an archive of files and of its list.
	archiveEnd = "-files.tar.zst"
	listEnd    = "-files.mtree"
)

// digesting writes a file and its digest.
type digesting struct {
	f    *os.File
	out  *bufio.Writer
	sum  hash.Hash
	name string
	n    int64
	told func(int64) // of bytes written
}

func (w *Writer) create(end string) (*digesting, error) {
	name := w.stem + end
	f, err := createDirect(filepath.Join(w.folder, "."+name), false)
	if err != nil {
		return nil, plainfile.Full(err)
	}
	sum := newHash()
	return &digesting{f, bufio.NewWriterSize(io.MultiWriter(f, sum), 1<<20), sum, name, 0, func(n int64) { w.stored.Add(n) }}, nil
}

func (d *digesting) Write(p []byte) (int, error) {
	n, err := d.out.Write(p)
	d.n += int64(n)
	d.told(int64(n))
	return n, err
}

// keep makes the file durable, under its name.
func (d *digesting) keep(folder string) (image.File, error) {
	err := d.out.Flush()
	if err == nil {
		err = d.f.Sync()
	}
	if err == nil {
		err = os.Rename(d.f.Name(), filepath.Join(folder, d.name))
	}
	return image.File{Name: d.name, Length: d.n, Digest: hex.EncodeToString(d.sum.Sum(nil))}, plainfile.Full(err)
}

// Files writes what travels of a server's files as an archive that is compressed, and a list of it.
func (w *Writer) Files(ctx context.Context, in *files.Reader, count *store.Progress) (out image.Files, err error) {
	archive, err := w.create(archiveEnd)
	if err != nil {
		return out, err
	}
	defer archive.f.Close()
	list, err := w.create(listEnd)
	if err != nil {
		return out, err
	}
	defer list.f.Close()
	packed, err := zstd.NewWriter(archive)
	if err != nil {
		return out, err
	}
	defer packed.Close()
	tar := files.NewWriter(packed)
	if _, err := list.Write([]byte(files.ListHead)); err != nil {
		return out, plainfile.Full(err)
	}
	var counts files.Counts
	err = eachFile(ctx, in, tar, count, func(e *files.Entry) error {
		counts.Add(e)
		_, err := list.Write(files.AppendEntry(nil, e))
		return plainfile.Full(err)
	}, &out)
	if err == nil {
		err = tar.Close()
	}
	if err == nil {
		err = packed.Close()
	}
	if err != nil {
		return out, plainfile.Full(err)
	}
	out.Take(&counts)
	if out.ListFile, err = list.keep(w.folder); err != nil {
		return out, err
	}
	out.Archive, err = archive.keep(w.folder)
	return out, err
}

// eachFile puts what travels into an archive, and tells of each entry once it is settled.
func eachFile(ctx context.Context, in *files.Reader, tar *files.Writer, count *store.Progress, told func(*files.Entry) error, out *image.Files) error {
	sum := sha256.New()
	buffer := make([]byte, 1<<20)
	for {
		s, err := in.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := context.Cause(ctx); err != nil {
			return err
		}
		if s.Last != nil {
			out.LeftOut, out.Whole = s.Last.LeftOut, s.Last.Whole
			continue
		}
		e := s.Entry
		if e == nil {
			return errors.New("the server says that files are unchanged, and an archive of an open store holds all of them")
		}
		if e.Kind != files.Unseen {
			if err := tar.Entry(e); err != nil {
				return err
			}
		}
		sum.Reset()
		for left := e.Stored(); left > 0; {
			n, err := io.ReadFull(in, buffer[:min(int64(len(buffer)), left)])
			count.Read.Add(int64(n))
			count.Data.Add(int64(n))
			if err != nil {
				return err
			}
			if _, err := tar.Write(buffer[:n]); err != nil {
				return err
			}
			sum.Write(buffer[:n])
			left -= int64(n)
		}
		if e.Kind == files.File && e.Same == "" && e.Data == nil { // a tool that matches it reads holes as zeros
			e.Digest = hex.EncodeToString(sum.Sum(nil))
		}
		if err := in.Settle(e); err != nil {
			return err
		}
		if err := told(e); err != nil {
			return err
		}
	}
}

// openPart opens a file of an image of files.
func (s *Store) openPart(m *image.Manifest, f image.File) (*os.File, error) {
	if m.Files == nil || f.Name == "" {
		return nil, fmt.Errorf("image %s holds disks, and no files by themselves", m.ID)
	}
	return plainfile.Open(s.folder(m.Machine), f.Name)
}

// ListFiles implements [store.Store]. The list is matched with its digest when it is read to its end.
func (s *Store) ListFiles(_ context.Context, m *image.Manifest) (io.ReadCloser, error) {
	if m.Files == nil {
		return s.openPart(m, image.File{})
	}
	f, err := s.openPart(m, m.Files.ListFile)
	if err != nil {
		return nil, err
	}
	wrong := fmt.Errorf("%w: %s is not what was written", errDamaged, m.Files.ListFile.Name)
	return struct {
		io.Reader
		io.Closer
	}{chunk.Matching(f, newHash(), m.Files.ListFile.Digest, wrong), f}, nil
}

// Archive implements [store.Store].
func (s *Store) Archive(ctx context.Context, m *image.Manifest, out io.Writer) error {
	if m.Files == nil {
		_, err := s.openPart(m, image.File{})
		return err
	}
	f, err := s.openPart(m, m.Files.Archive)
	if err != nil {
		return err
	}
	defer f.Close()
	stop := context.AfterFunc(ctx, func() { f.Close() })
	defer stop()
	packed, err := zstd.NewReader(f, zstd.WithDecoderMaxMemory(1<<30))
	if err != nil {
		return err
	}
	defer packed.Close()
	if _, err := io.Copy(out, packed.IOReadCloser()); err != nil {
		return fmt.Errorf("%s: %w", m.Files.Archive.Name, err)
	}
	return nil
}

// ReadEntries implements [store.Store].
func (s *Store) ReadEntries(ctx context.Context, m *image.Manifest, wanted func(string) bool, visit func(*files.Entry, io.Reader) error) error {
	in, err := s.ListFiles(ctx, m)
	if err != nil {
		return err
	}
	defer in.Close()
	list, err := files.NewListReader(in)
	if err != nil {
		return err
	}
	out, to := io.Pipe()
	defer out.Close()
	go func() { to.CloseWithError(s.Archive(ctx, m, to)) }()
	if err := files.ReadArchive(list, out, wanted, visit); err != nil {
		return fmt.Errorf("%s: %w", m.Files.Archive.Name, err)
	}
	return nil
}

// parts are the files of an image of files, beside those that stand around every image.
func parts(m *image.Manifest) []image.File {
	if m.Files == nil {
		return nil
	}
	return []image.File{m.Files.Archive, m.Files.ListFile}
}

// readPart matches a file of an image with its digest.
func (s *Store) readPart(ctx context.Context, m *image.Manifest, f image.File, progress func(int64)) error {
	in, err := s.openPart(m, f)
	if err != nil {
		return err
	}
	defer in.Close()
	digest, err := digestOf(ctx, in, progress)
	if err == nil && digest != f.Digest {
		err = fmt.Errorf("%w: %s is not what was written", errDamaged, f.Name)
	}
	return err
}

// OpenEntry implements [store.Store]. The archive is read from its begin to the file; what is read of it from its own begin to its end is matched with its
// digest.
func (s *Store) OpenEntry(ctx context.Context, m *image.Manifest, e *files.Entry, _, offset int64) (io.ReadCloser, error) {
	out, in := io.Pipe()
	go func() { in.CloseWithError(s.Archive(ctx, m, in)) }()
	content, err := files.Seek(out, e.Path, offset)
	if err != nil {
		out.Close()
		return nil, fmt.Errorf("%s: %w", m.Files.Archive.Name, err)
	}
	if offset == 0 {
		content = e.Matched(content)
	}
	return struct {
		io.Reader
		io.Closer
	}{content, out}, nil
}
