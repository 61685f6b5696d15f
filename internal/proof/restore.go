package proof

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/site"
	"keenlodge/internal/reader"
	"keenlodge/internal/scratch"
	"keenlodge/internal/store"
)

// byRestore writes the disks out whole, as a restore does, compares what lies there then with the image block by block, has its file systems checked by
// their own tools, and its data by the machine's own programs that its policy names. Of an image of files it writes these out; an export is taken back by a fresh
// appliance.
func (pr *Proofs) byRestore(ctx context.Context, st store.Store, m *image.Manifest, runID string, progress func(int64)) (evidence []string, err error) {
	if m.Scope == image.Exported {
		return ofExport(pr.exports.Try(ctx, st, m, runID, progress))
	}
	if m.Files != nil {
		return pr.filesByRestore(ctx, st, m, progress)
	}
	checks, err := pr.checksOf(ctx, m)
	if err != nil {
		return nil, err
	}
	out, evidence, err := pr.WriteOut(ctx, st, m, true, progress)
	if err != nil {
		return evidence, err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	checked, err := pr.checkInside(ctx, out.Disks, checks)
	return append(evidence, checked...), err
}

// Written is an image that was written out whole into a scratch folder.
type Written struct {
	// Disks are in the order of the image's.
	Disks []reader.Disk
	room  *scratch.Room
	ends  []func() error
}

// Close removes what was written.
func (w *Written) Close() (err error) {
	for _, end := range w.ends {
		err = errors.Join(err, end())
	}
	return errors.Join(err, w.room.Close())
}

// WriteOut writes the disks of an image out whole, as a restore does; what a store gives is matched with the image's digests while it is read. Where asked,
// what lies there then is compared with what the store gave, block by block.
func (pr *Proofs) WriteOut(ctx context.Context, st store.Store, m *image.Manifest, compare bool, progress func(int64)) (w *Written, evidence []string, err error) {
	need := int64(0)
	for _, d := range m.Disks {
		need += max(d.Data, d.Length)
	}
	room, err := pr.Scratch.Room(need)
	if err != nil {
		return nil, nil, err
	}
	w = &Written{room: room}
	defer func() {
		if err != nil {
			err = errors.Join(err, w.Close())
			w = nil
		}
	}()
	if st.Header().Layout == site.Open { // whose disks say nothing of damage when they are read
		if evidence, err = st.ReadBack(ctx, m, func(int64) {}); err != nil {
			return w, evidence, err
		}
		evidence = nil
	}
	for _, d := range m.Disks {
		compared, err := pr.writeOne(ctx, st, m, d, w, compare, progress)
		if err != nil {
			return w, evidence, fmt.Errorf("disk %s: %w", d.Target, err)
		}
		if compare {
			evidence = append(evidence, fmt.Sprintf("%s: written out whole (%s), and %s of data compared block by block", d.Target, humanize.IBytes(uint64(d.Size)), humanize.IBytes(uint64(compared))))
		}
	}
	return w, evidence, nil
}

// writeOne writes a disk out as a restore does, to the medium, and compares what lies there where that is asked for.
func (pr *Proofs) writeOne(ctx context.Context, st store.Store, m *image.Manifest, d image.Disk, w *Written, compare bool, progress func(int64)) (compared int64, err error) {
	opened, err := st.OpenDisk(ctx, m, d)
	if err != nil {
		return 0, err
	}
	defer opened.Close()
	given := &given{Disk: opened}
	file := filepath.Join(w.room.Folder, d.Target+".qcow2")
	if err := writeOut(ctx, given, file, progress); err != nil {
		return 0, err
	}
	there, end, err := openOut(file)
	if err != nil {
		return 0, fmt.Errorf("what was written out: %w", err)
	}
	w.ends = append(w.ends, end)
	w.Disks = append(w.Disks, reader.Disk{Name: d.Target, Disk: there})
	if !compare {
		return 0, nil
	}
	return given.compare(ctx, there, progress)
}

// writeOut writes a disk into a file, to the medium.
func writeOut(ctx context.Context, d disk.Disk, file string, progress func(int64)) error {
	whole, err := qcow2.New(ctx, d, "")
	if err != nil {
		return err
	}
	out, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = whole.WriteTo(moving{ctx, out, progress})
	if err == nil {
		err = out.Sync()
	}
	if err == nil { // so that what is compared comes from the medium, and not from memory
		err = unix.Fadvise(int(out.Fd()), 0, 0, unix.FADV_DONTNEED)
	}
	return errors.Join(err, out.Close())
}

// moving counts what is written, and ends with a context.
type moving struct {
	ctx      context.Context
	out      io.Writer
	progress func(int64)
}

func (m moving) Write(p []byte) (int, error) {
	if m.ctx.Err() != nil {
		return 0, context.Cause(m.ctx)
	}
	n, err := m.out.Write(p)
	m.progress(int64(n))
	return n, err
}

// openOut opens what was written out.
func openOut(file string) (disk.Disk, func() error, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, nil, err
	}
	there, err := qcow2.Open(f, nil)
	if err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	return there, f.Close, nil
}
