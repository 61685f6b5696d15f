// Package mount shows disks as files through FUSE, and the file systems in them through loop devices. What a mount writes,
// such as a journal that is played back, stays in memory: the image itself is only ever read.
package mount

import (
	"context"
	"fmt"
	"io"
	"os"
	"sync"
	"syscall"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"

	"keenlodge/internal/core/disk"
)

// ErrRights says what a mount needs.
type ErrRights struct{ Missing string }

func (e ErrRights) Error() string {
	return e.Missing + `; run "keenlodge serve" as root on a host with FUSE and loop devices, or prove at level "read", which needs no mount`
}

// CheckRights finds out whether this process may mount.
func CheckRights() error {
	if os.Geteuid() != 0 {
		return ErrRights{"mounting needs root's rights, and this process has them not"}
	}
	for _, device := range []string{"/dev/fuse", "/dev/loop-control"} {
		if _, err := os.Stat(device); err != nil {
			return ErrRights{fmt.Sprintf("mounting needs %s, which this host lacks", device)}
		}
	}
	return nil
}

const (
	page = 4096
	// maxWritten is how much a mount may write into memory, in bytes: more than any journal.
	maxWritten = 512 << 20
)

// file is a disk as a FUSE file with an overlay of written pages.
type file struct {
	fs.Inode
	d       disk.Disk
	trouble *trouble
	mu      sync.RWMutex
	// written pages by number
	written map[int64][]byte
}

var _ interface {
	fs.NodeOpener
	fs.NodeReader
	fs.NodeWriter
	fs.NodeGetattrer
	fs.NodeFsyncer
} = (*file)(nil)

func (f *file) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, fuse.FOPEN_KEEP_CACHE, 0
}

func (f *file) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno { return 0 }

func (f *file) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Mode, out.Size, out.Blksize = 0o600, uint64(f.d.Size()), page
	return 0
}

func (f *file) Read(_ context.Context, _ fs.FileHandle, into []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	n, err := f.d.ReadAt(into, off)
	if err != nil && err != io.EOF {
		f.trouble.note(err)
		return nil, syscall.EIO
	}
	f.mu.RLock()
	defer f.mu.RUnlock()
	for at := off - off%page; at < off+int64(n); at += page {
		if p, ok := f.written[at/page]; ok {
			from := max(at, off)
			copy(into[from-off:n], p[from-at:])
		}
	}
	return fuse.ReadResultData(into[:n]), 0
}

func (f *file) Write(_ context.Context, _ fs.FileHandle, from []byte, off int64) (uint32, syscall.Errno) {
	if off < 0 || off+int64(len(from)) > f.d.Size() {
		return 0, syscall.EINVAL
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for n := 0; n < len(from); {
		at := off + int64(n)
		p, ok := f.written[at/page]
		if !ok {
			if len(f.written) >= maxWritten/page {
				return 0, syscall.ENOSPC
			}
			p = make([]byte, page)
			if _, err := f.d.ReadAt(p, at-at%page); err != nil && err != io.EOF {
				f.trouble.note(err)
				return 0, syscall.EIO
			}
			f.written[at/page] = p
		}
		n += copy(p[at%page:], from[n:])
	}
	return uint32(len(from)), 0
}

// trouble keeps the first error with which a disk could not be read: the kernel only passes on that there was one.
type trouble struct {
	mu  sync.Mutex
	err error
}

func (t *trouble) note(err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.err == nil {
		t.err = err
	}
}

func (t *trouble) first() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.err
}

// offer mounts a folder with one file a disk.
func offer(folder string, disks []disk.Disk, t *trouble) (*fuse.Server, error) {
	root := &fs.Inode{}
	options := &fs.Options{
		MountOptions: fuse.MountOptions{FsName: "keenlodge", Name: "keenlodge", DirectMountStrict: true, MaxReadAhead: 1 << 20},
		OnAdd: func(ctx context.Context) {
			for i, d := range disks {
				f := &file{d: d, trouble: t, written: map[int64][]byte{}}
				root.AddChild(diskFile(i), root.NewPersistentInode(ctx, f, fs.StableAttr{Mode: fuse.S_IFREG}), false)
			}
		},
	}
	server, err := fs.Mount(folder, root, options)
	if err != nil {
		return nil, fmt.Errorf("offer the disks through FUSE at %s: %w", folder, err)
	}
	return server, nil
}
