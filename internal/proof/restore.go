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
	"keenlodge/internal/store"
)

const (
	// scratchMark begins the names of the folders in which images are written out.
	scratchMark = "restore-"
	// scratchLeft is what is left free beside what is written, in bytes.
	scratchLeft = 1 << 30
	// compareAt is how much is compared at once, in bytes.
	compareAt = 1 << 20
)

// byRestore writes the disks out whole, as a restore does, compares what lies there then with the image block by block, and has its file systems checked by
// their own tools.
func (pr *Proofs) byRestore(ctx context.Context, st store.Store, m *image.Manifest, progress func(int64)) (evidence []string, err error) {
	out, evidence, err := pr.WriteOut(ctx, st, m, true, progress)
	if err != nil {
		return evidence, err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	checked, err := pr.checkSystems(ctx, out.Disks)
	return append(evidence, checked...), err
}

// Written is an image that was written out whole into a scratch folder.
type Written struct {
	// Disks are in the order of the image's.
	Disks  []reader.Disk
	folder string
	held   *os.File
	ends   []func() error
}

// Close removes what was written.
func (w *Written) Close() (err error) {
	for _, end := range w.ends {
		err = errors.Join(err, end())
	}
	return errors.Join(err, os.RemoveAll(w.folder), w.held.Close())
}

// WriteOut writes the disks of an image out whole, as a restore does; what a store gives is matched with the image's digests while it is read. Where asked,
// what lies there then is compared with the image once more, block by block.
func (pr *Proofs) WriteOut(ctx context.Context, st store.Store, m *image.Manifest, compare bool, progress func(int64)) (w *Written, evidence []string, err error) {
	if w, err = pr.scratch(m); err != nil {
		return nil, nil, err
	}
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
		file := filepath.Join(w.folder, d.Target+".qcow2")
		if err := pr.writeOut(ctx, st, m, d, file, progress); err != nil {
			return w, evidence, fmt.Errorf("disk %s: %w", d.Target, err)
		}
		there, end, err := openOut(file)
		if err != nil {
			return w, evidence, fmt.Errorf("disk %s, written out: %w", d.Target, err)
		}
		w.ends = append(w.ends, end)
		w.Disks = append(w.Disks, reader.Disk{Name: d.Target, Disk: there})
		if !compare {
			continue
		}
		n, err := pr.compare(ctx, st, m, d, there, progress)
		if err != nil {
			return w, evidence, fmt.Errorf("disk %s: %w", d.Target, err)
		}
		evidence = append(evidence, fmt.Sprintf("%s: written out whole (%s), and %s of data compared block by block", d.Target, humanize.IBytes(uint64(d.Size)), humanize.IBytes(uint64(n))))
	}
	return w, evidence, nil
}

// scratch makes a folder for an image, if there is room for it.
func (pr *Proofs) scratch(m *image.Manifest) (*Written, error) {
	if err := os.MkdirAll(pr.Scratch, 0o700); err != nil {
		return nil, err
	}
	need := int64(0)
	for _, d := range m.Disks {
		need += max(d.Data, d.Length)
	}
	var room unix.Statfs_t
	if err := unix.Statfs(pr.Scratch, &room); err != nil {
		return nil, fmt.Errorf("scratch folder %s: %w", pr.Scratch, err)
	}
	if free := int64(room.Bavail) * room.Bsize; free < need+scratchLeft {
		return nil, fmt.Errorf("scratch folder %s has %s left, and the image takes %s and leaves %s; make room, or start the service with --scratch elsewhere", pr.Scratch, humanize.IBytes(uint64(free)), humanize.IBytes(uint64(need)), humanize.IBytes(scratchLeft))
	}
	folder, err := os.MkdirTemp(pr.Scratch, scratchMark)
	if err != nil {
		return nil, err
	}
	held, err := holdScratch(folder)
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(folder))
	}
	return &Written{folder: folder, held: held}, nil
}

// writeOut writes a disk out as a restore does, to the medium.
func (pr *Proofs) writeOut(ctx context.Context, st store.Store, m *image.Manifest, d image.Disk, file string, progress func(int64)) error {
	opened, err := st.OpenDisk(ctx, m, d)
	if err != nil {
		return err
	}
	defer opened.Close()
	whole, err := qcow2.New(ctx, opened, "")
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

// compare compares a disk of an image with what was written out of it, and tells how much data there was.
func (pr *Proofs) compare(ctx context.Context, st store.Store, m *image.Manifest, d image.Disk, there disk.Disk, progress func(int64)) (data int64, err error) {
	opened, err := st.OpenDisk(ctx, m, d)
	if err != nil {
		return 0, err
	}
	defer opened.Close()
	if there.Size() != d.Size {
		return 0, failed{fmt.Errorf("it was written out as %d bytes, and has %d", there.Size(), d.Size)}
	}
	one, two := make([]byte, compareAt), make([]byte, compareAt)
	for at := int64(0); at < d.Size; {
		n := min(compareAt, d.Size-at)
		extents, err := opened.Extents(ctx, at, n)
		if err != nil {
			return data, err
		}
		if len(extents) == 0 {
			return data, fmt.Errorf("nothing is known of what lies at %d", at)
		}
		e := extents[0]
		n = min(n, e.Offset+e.Length-at)
		if _, err := there.ReadAt(two[:n], at); err != nil && err != io.EOF {
			return data, fmt.Errorf("what was written out: %w", err)
		}
		clear(one[:n])
		if e.Kind != disk.Zero {
			if _, err := opened.ReadAt(one[:n], at); err != nil && err != io.EOF {
				return data, err
			}
			data += n
			progress(n)
		}
		if string(one[:n]) != string(two[:n]) {
			return data, failed{fmt.Errorf("what was written out differs from the image in the %d bytes at %d: the scratch folder's medium does not keep what it is given", n, at)}
		}
		at += n
	}
	return data, nil
}

// checkSystems has the file systems of disks checked by their own tools, in a reader guest.
func (pr *Proofs) checkSystems(ctx context.Context, disks []reader.Disk) (evidence []string, err error) {
	if why := reader.Able(); pr.stores.OnHost || why != nil {
		return []string{"its file systems were not checked by their own tools, which is done in reader guests, and this host has none"}, nil
	}
	g, err := pr.stores.Reader(ctx, disks, false)
	if err != nil {
		return nil, err
	}
	defer g.Close()
	for _, f := range g.Opened().FileSystems {
		if f.Refused {
			return evidence, failed{fmt.Errorf("%s (%s): %s", f.Name, f.Format, f.Why)}
		}
		if f.Why != "" {
			evidence = append(evidence, f.Name+": not checked: "+f.Why)
			continue
		}
		c, err := g.Check(ctx, f.Name)
		if err != nil {
			return evidence, errors.Join(err, g.Trouble())
		}
		switch {
		case c.Tool == "":
			evidence = append(evidence, fmt.Sprintf("%s: %s is checked by no tool that this host has", f.Name, f.Format))
		case !c.Clean:
			return evidence, failed{fmt.Errorf("%s: %s finds damage in it: %s", f.Name, c.Tool, c.Said)}
		default:
			evidence = append(evidence, fmt.Sprintf("%s: %s, clean by %s", f.Name, f.Format, c.Tool))
		}
	}
	return evidence, nil
}

// holdScratch takes the lock of a folder in the scratch one, which whoever writes there holds while he lives.
func holdScratch(folder string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ClearScratch removes what proofs of a dead process wrote out.
func (pr *Proofs) ClearScratch() error {
	left, err := filepath.Glob(filepath.Join(pr.Scratch, scratchMark+"*"))
	for _, folder := range left {
		held, busy := holdScratch(folder)
		if busy != nil {
			continue // another process is at work there
		}
		err = errors.Join(err, os.RemoveAll(folder), held.Close())
	}
	return err
}
