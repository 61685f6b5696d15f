// Package opening opens the file systems on images' disks for reading: in a reader guest, or on this host where that is switched on.
package opening

import (
	"context"
	"errors"
	"fmt"
	"io"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/mount"
	"keenlodge/internal/reader"
	"keenlodge/internal/store"
)

// Opened is an image whose file systems are open for reading. Close it.
type Opened interface {
	FileSystems() []reader.FileSystem
	// Count reads the files of a file system, by its name. Where there was no [Opened.Trouble], its error is about what lies there.
	Count(ctx context.Context, name string) (mount.Count, error)
	// List lists what lies in a file system, as [files.NewListReader] reads it. Close it.
	List(ctx context.Context, w reader.Where) (io.ReadCloser, error)
	// Read reads a range of a file. Close it.
	Read(ctx context.Context, r reader.Read) (reader.Found, io.ReadCloser, error)
	// Tree reports whether the machine's own mount table was found.
	Tree() bool
	// Locate finds which files lie in ranges of a file system's volume, for each range; paths are relative to its top.
	Locate(ctx context.Context, l reader.Locate) ([][]string, error)
	// Trouble is the first error with which a disk could not be read.
	Trouble() error
	Close() error
}

// mostOpen is how many images a process opens at once for proofs and checks.
const mostOpen = 2

// Opener opens them, a few images at a time.
type Opener struct {
	// Reader starts reader guests. OnHost opens file systems on this host instead, for proofs and checks.
	Reader reader.Starter
	OnHost bool
	mounts string
	slots  chan struct{} // an entry for each image that is open
}

// New makes an Opener that starts no reader guests before its Reader is set. mounts is the folder in which images are mounted on this host.
func New(mounts string) *Opener {
	none := func(context.Context, []reader.Disk, bool) (*reader.Guest, error) { return nil, reader.ErrUnfit }
	return &Opener{Reader: none, mounts: mounts, slots: make(chan struct{}, mostOpen)}
}

// CanOpen reports why the file systems of images can't be opened here, or nil.
func (o *Opener) CanOpen() error {
	if o.OnHost {
		return mount.CheckRights()
	}
	if err := reader.Able(); err != nil {
		return fmt.Errorf("%w; on a host without a hypervisor, start the service with --mount-on-host", err)
	}
	return nil
}

// OpenDisks opens the disks of an image. close closes all of them.
func OpenDisks(ctx context.Context, st store.Store, m *image.Manifest) (disks []reader.Disk, close func() error, err error) {
	var opened []store.OpenedDisk
	close = func() (err error) {
		for _, o := range opened {
			err = errors.Join(err, o.Close())
		}
		return err
	}
	for _, d := range m.Disks {
		o, err := st.OpenDisk(ctx, m, d)
		if err != nil {
			return nil, nil, errors.Join(err, close())
		}
		opened = append(opened, o)
		disks = append(disks, reader.Disk{Name: d.Target, Disk: o})
	}
	return disks, close, nil
}

// LookInto opens the file systems of an image's disks: in a reader guest, or on this host where that is switched on. It waits while others are open.
// moved is called with bytes that are read of the disks.
func (o *Opener) LookInto(ctx context.Context, st store.Store, m *image.Manifest, moved func(int64)) (_ Opened, err error) {
	select {
	case o.slots <- struct{}{}:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	free := func() error { <-o.slots; return nil }
	disks, closeDisks, err := OpenDisks(ctx, st, m)
	if err != nil {
		return nil, errors.Join(err, free())
	}
	for i := range disks {
		disks[i].Disk = counted{disks[i].Disk, moved}
	}
	ends := []func() error{closeDisks, free}
	if o.OnHost {
		by := map[string]disk.Disk{}
		for _, d := range disks {
			by[d.Name] = d.Disk
		}
		mounted, err := mount.Disks(o.mounts, by)
		if err != nil {
			return nil, errors.Join(err, closing(ends))
		}
		return onHost{mounted, append([]func() error{mounted.Close}, ends...)}, nil
	}
	g, err := o.Reader(ctx, disks, false)
	if err != nil {
		return nil, errors.Join(err, closing(ends))
	}
	return inGuest{g, append([]func() error{g.Close}, ends...)}, nil
}

func closing(ends []func() error) (err error) {
	for _, end := range ends {
		err = errors.Join(err, end())
	}
	return err
}

// counted is a disk of which is told what is read.
type counted struct {
	disk.Disk
	moved func(int64)
}

func (c counted) ReadAt(p []byte, offset int64) (int, error) {
	n, err := c.Disk.ReadAt(p, offset)
	c.moved(int64(n))
	return n, err
}

type inGuest struct {
	*reader.Guest
	ends []func() error
}

func (g inGuest) FileSystems() []reader.FileSystem { return g.Opened().FileSystems }
func (g inGuest) Tree() bool                       { return g.Opened().Tree }
func (g inGuest) Close() error                     { return closing(g.ends) }

type onHost struct {
	*mount.Mounted
	ends []func() error
}

func (h onHost) Close() error { return closing(h.ends) }
func (h onHost) Tree() bool   { return false }

// List implements [Opened]: on the host nothing is listed.
func (h onHost) List(context.Context, reader.Where) (io.ReadCloser, error) {
	return nil, fmt.Errorf("%w: files are listed in reader guests only", reader.ErrUnfit)
}

// Read implements [Opened]: on the host no file is read.
func (h onHost) Read(context.Context, reader.Read) (reader.Found, io.ReadCloser, error) {
	return reader.Found{}, nil, fmt.Errorf("%w: files are read in reader guests only", reader.ErrUnfit)
}

func (h onHost) FileSystems() (out []reader.FileSystem) {
	for _, f := range h.Mounted.FileSystems {
		out = append(out, reader.FileSystem{Name: f.Name(), Disk: f.Disk, Offset: f.Part.Offset, Format: f.Part.Format, Size: f.Part.Length, Why: f.Why, Refused: f.Refused})
	}
	return out
}

// folder is where a file system is mounted.
func (h onHost) folder(name string) (string, error) {
	for _, f := range h.Mounted.FileSystems {
		if f.Name() == name && f.Folder != "" {
			return f.Folder, nil
		}
	}
	return "", fmt.Errorf("file system %s is not open", name)
}

func (h onHost) Count(ctx context.Context, name string) (mount.Count, error) {
	folder, err := h.folder(name)
	if err != nil {
		return mount.Count{}, err
	}
	return mount.ReadFiles(ctx, folder)
}

func (h onHost) Locate(ctx context.Context, l reader.Locate) ([][]string, error) {
	folder, err := h.folder(l.FileSystem)
	if err != nil {
		return nil, err
	}
	return mount.FilesIn(ctx, folder, l.Ranges)
}
