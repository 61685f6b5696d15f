package open

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"golang.org/x/crypto/blake2b"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/open/plainfile"
)

// errDamaged marks files that are not what was written.
var errDamaged = chunk.ErrDamaged

// Writer makes one image. End it always.
type Writer struct {
	s      *Store
	folder string
	stem   string
	id     string
	held   *os.File
	stored atomic.Int64 // it is asked for while disks are written
	done   bool
}

// NewWriter starts an image of a machine: its folder is made if need be, and until [Writer.Finish] the image does not exist.
func (s *Store) NewWriter(m *image.Manifest) (*Writer, error) {
	folder := s.folder(m.Machine)
	if err := os.Mkdir(folder, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("folder of machine %s: %w", m.Machine, plainfile.Full(err))
	}
	if err := plainfile.NoLink(folder); err != nil {
		return nil, err
	}
	if err := dir.SyncFolder(s.dir.Root()); err != nil {
		return nil, err
	}
	if _, err := os.Lstat(filepath.Join(folder, readMe)); errors.Is(err, fs.ErrNotExist) {
		if err := plainfile.Put(filepath.Join(folder, readMe), []byte(machineText(m.Machine))); err != nil {
			return nil, err
		}
	}
	held, err := lock(filepath.Join(folder, stem(m)+writingEnd))
	if err != nil {
		return nil, plainfile.Full(err)
	}
	return &Writer{s: s, folder: folder, stem: stem(m), id: m.ID, held: held}, nil
}

// Stored is how many bytes the files of the image take so far.
func (w *Writer) Stored() int64 { return w.stored.Load() }

// Disk writes a disk's file. base is the same disk of the image that the new one leans on: what d calls unchanged is left to it.
// With nil the file stands alone, and d must call nothing so. small compresses it.
func (w *Writer) Disk(ctx context.Context, target string, d disk.Disk, base *image.Disk, small bool) (image.Disk, error) {
	out := image.Disk{Target: target, Size: d.Size(), Format: "qcow2", File: w.stem + "-" + plain(target) + ".qcow2"}
	if base != nil {
		out.LeansOn = base.File
	}
	path := filepath.Join(w.folder, out.File)
	part := filepath.Join(w.folder, "."+out.File)
	var err error
	if out.Length, out.Digest, err = writeDisk(ctx, part, d, out.LeansOn, small); err != nil {
		os.Remove(part)
		return out, err
	}
	if err := os.Rename(part, path); err != nil {
		return out, err
	}
	w.stored.Add(taken(path))
	return out, nil
}

// Amend writes a disk's file anew as it is by now: what changed calls unchanged is as it was written. under is what the file leans on, of which
// nothing changed, nil where it stands alone.
func (w *Writer) Amend(ctx context.Context, out image.Disk, changed, under disk.Disk, small bool) (image.Disk, error) {
	path, part := filepath.Join(w.folder, out.File), filepath.Join(w.folder, "."+out.File)
	f, err := os.Open(path)
	if err != nil {
		return out, err
	}
	defer f.Close()
	written, err := qcow2.Open(f, under)
	if err != nil {
		return out, fmt.Errorf("%s: %w", out.File, err)
	}
	before := taken(path)
	if out.Length, out.Digest, err = writeDisk(ctx, part, disk.Over(changed, written), out.LeansOn, small); err != nil {
		os.Remove(part)
		return out, err
	}
	if err := os.Rename(part, path); err != nil {
		return out, err
	}
	w.stored.Add(taken(path) - before)
	return out, nil
}

// taken is what a file takes on its disk, in bytes.
func taken(path string) int64 {
	s, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return onDisk(s)
}

// Finish makes the image exist.
func (w *Writer) Finish(_ context.Context, m *image.Manifest) error {
	base := filepath.Join(w.folder, w.stem)
	if err := writeAround(base, m); err != nil {
		return err
	}
	w.done = true
	return nil
}

// writeAround writes what stands around an image's disks, the manifest last.
func writeAround(base string, m *image.Manifest) error {
	body, err := encode(m)
	if err != nil {
		return err
	}
	definition := domainEnd
	if strings.HasPrefix(m.Definition, "{") {
		definition = layoutEnd
	}
	if err := plainfile.Put(base+definition, []byte(m.Definition)); err != nil {
		return err
	}
	around := map[string][]byte{definition: []byte(m.Definition), manifestEnd: body}
	if variables, err := m.FirmwareOf(image.UEFIVariables); err != nil {
		return err
	} else if variables != nil {
		if err := plainfile.Put(base+variablesEnd, variables); err != nil {
			return err
		}
		around[variablesEnd] = variables
	}
	var sums strings.Builder
	line := func(digest, name string) { fmt.Fprintf(&sums, "%s  %s\n", digest, name) }
	for _, d := range m.Disks {
		line(d.Digest, d.File)
	}
	for _, f := range parts(m) {
		line(f.Digest, f.Name)
	}
	for end, content := range around {
		digest := blake2b.Sum512(content)
		line(hex.EncodeToString(digest[:]), filepath.Base(base)+end)
	}
	if err := plainfile.Put(base+sumsEnd, []byte(sums.String())); err != nil {
		return err
	}
	return plainfile.Put(base+manifestEnd, body)
}

// End ends the work. What was written of an image that did not come to be goes.
func (w *Writer) End(context.Context) error {
	defer w.held.Close()
	if !w.done {
		return w.s.clear(w.id)
	}
	return os.Remove(filepath.Join(w.folder, w.stem+writingEnd))
}

// writeDisk writes a disk as a qcow2 file, durably, and tells its length and digest.
func writeDisk(ctx context.Context, path string, d disk.Disk, backing string, small bool) (length int64, digest string, err error) {
	f, err := createDirect(path, !small)
	if err != nil {
		return 0, "", plainfile.Full(err)
	}
	defer f.Close()
	stop := context.AfterFunc(ctx, func() { f.Close() }) // what is under way fails then
	defer stop()
	if small {
		if length, err = qcow2.Compress(ctx, f, d, backing); err == nil {
			digest, err = digestOf(ctx, f, nil) // its first bytes are written last, so it is known only now
		}
	} else {
		length, digest, err = writePlain(ctx, f, d, backing)
	}
	if err == nil {
		err = f.Truncate(length)
	}
	if err == nil {
		err = f.Sync()
	}
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return 0, "", fmt.Errorf("write %s: %w", path, plainfile.Full(err))
	}
	return length, digest, nil
}

func writePlain(ctx context.Context, f *os.File, d disk.Disk, backing string) (int64, string, error) {
	layout, err := qcow2.New(ctx, d, backing)
	if err != nil {
		return 0, "", err
	}
	out := newSink(f)
	_, err = layout.WriteTo(out)
	digest, ended := out.end()
	if ended != nil {
		err = ended // it is why WriteTo failed
	}
	return layout.Size(), digest, err
}

// digestOf reads a file to its end. progress, if not nil, counts the bytes.
func digestOf(ctx context.Context, f *os.File, progress func(int64)) (string, error) {
	sum := newHash()
	buffer := make([]byte, 1<<20)
	for at := int64(0); ; {
		n, err := f.ReadAt(buffer, at)
		sum.Write(buffer[:n])
		if progress != nil {
			progress(int64(n))
		}
		if at += int64(n); err == io.EOF {
			return hex.EncodeToString(sum.Sum(nil)), nil
		}
		if err != nil {
			return "", err
		}
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
	}
}
