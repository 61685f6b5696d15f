package mount

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Range is a part of a file system's volume. Offset and Length are in bytes.
type Range struct{ Offset, Length int64 }

// mostFiles bounds the files that are named for each range.
const mostFiles = 50

// FilesIn finds the files whose content lies in ranges of a mounted file system's volume, for each range; paths are relative to
// the folder. It asks the kernel where each file lies (FIEMAP, Documentation/filesystems/fiemap.rst) and reads none of them.
func FilesIn(ctx context.Context, folder string, ranges []Range) ([][]string, error) {
	found := make([][]string, len(ranges))
	root, err := os.OpenRoot(folder) // nothing in it leads out of it
	if err != nil {
		return nil, err
	}
	defer root.Close()
	err = fs.WalkDir(root.FS(), ".", func(path string, e fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil || !e.Type().IsRegular() {
			return nil // a folder that can't be read is damage, too, and is told by the check
		}
		file, err := root.Open(filepath.FromSlash(path))
		if err != nil {
			return nil
		}
		defer file.Close()
		extents, err := whereIs(file)
		if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTTY) {
			return errors.New("the file system does not tell where its files lie")
		}
		if err != nil {
			return nil
		}
		for i, r := range ranges {
			for _, x := range extents {
				if x.Offset < r.Offset+r.Length && r.Offset < x.Offset+x.Length && len(found[i]) < mostFiles {
					found[i] = append(found[i], path)
					break
				}
			}
		}
		return nil
	})
	return found, err
}

// fiemap is struct fiemap of linux/fiemap.h with room for some extents.
type fiemap struct {
	start, length        uint64
	flags, mapped, count uint32
	_                    uint32
	extents              [64]fiemapExtent
}

type fiemapExtent struct {
	logical, physical, length uint64
	_                         [2]uint64
	flags                     uint32
	_                         [3]uint32
}

const (
	fiemapRequest    = 0xc020660b // FS_IOC_FIEMAP
	fiemapExtentLast = 1
)

// whereIs lists where a file's content lies on its volume.
func whereIs(file *os.File) ([]Range, error) {
	var out []Range
	for start := uint64(0); ; {
		m := fiemap{start: start, length: ^uint64(0) - start, count: 64}
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, file.Fd(), fiemapRequest, uintptr(unsafe.Pointer(&m))); errno != 0 {
			return nil, errno
		}
		for _, x := range m.extents[:min(m.mapped, 64)] {
			out = append(out, Range{int64(x.physical), int64(x.length)})
			start = x.logical + x.length
			if x.flags&fiemapExtentLast != 0 {
				return out, nil
			}
		}
		if m.mapped == 0 {
			return out, nil
		}
	}
}
