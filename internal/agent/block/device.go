// Package block knows a server's disks: which there are, what lies on them, which of their blocks are in use, and how they are read past the page
// cache.
package block

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
)

// sector is what the kernel counts disks in, whatever their own sectors are, in bytes.
const sector = 512

// Device is a disk of this server. Sizes are in bytes.
type Device struct {
	// Target is what images call it, Path where it is.
	Target, Path string
	// Number is what the kernel calls it: major shifted by 20, or minor.
	Number uint32
	Size   int64
	// Logical is the length of its sectors.
	Logical int64
	Model   string
	Serial  string
	// Left says why it is in no image, "" for one that is.
	Left string
}

// standOnOthers are how the names of devices begin that stand on others, or hold nothing that stays.
var standOnOthers = []string{"loop", "ram", "zram", "dm-", "md", "nbd", "sr", "fd", "drbd"}

// Devices lists the server's disks, by target. only narrows them to some, by target or path, of whatever kind they are; empty is all that stand
// on nothing else.
func Devices(only []string) ([]Device, error) {
	entries, err := os.ReadDir("/sys/block")
	if err != nil {
		return nil, fmt.Errorf("list disks: %w", err)
	}
	var out []Device
	for _, e := range entries {
		name := e.Name()
		path := "/dev/" + strings.ReplaceAll(name, "!", "/")
		target := strings.ReplaceAll(name, "!", "-")
		if len(only) > 0 {
			if !slices.Contains(only, target) && !slices.Contains(only, path) {
				continue
			}
		} else if slices.ContainsFunc(standOnOthers, func(k string) bool { return strings.HasPrefix(name, k) }) {
			continue
		}
		d, err := device(name, target, path)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it went just now
		}
		if err != nil {
			return nil, fmt.Errorf("disk %s: %w", target, err)
		}
		if d.Size == 0 {
			continue // a drive with nothing in it
		}
		if len(only) == 0 && read(name, "removable") == "1" {
			d.Left = "it can be taken out"
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b Device) int { return strings.Compare(a.Target, b.Target) })
	for _, o := range only {
		if !slices.ContainsFunc(out, func(d Device) bool { return d.Target == o || d.Path == o }) {
			return out, fmt.Errorf("this server has no disk %s, though its agent was told to offer that", o)
		}
	}
	return out, nil
}

func device(name, target, path string) (Device, error) {
	d := Device{Target: target, Path: path, Model: read(name, "device/model"), Serial: read(name, "device/serial")}
	if d.Serial == "" {
		d.Serial = read(name, "serial")
	}
	sectors, err := strconv.ParseInt(read(name, "size"), 10, 64)
	if err != nil {
		return d, err
	}
	d.Size = sectors * sector
	if d.Logical, err = strconv.ParseInt(read(name, "queue/logical_block_size"), 10, 64); err != nil {
		return d, err
	}
	number, ok := Number(read(name, "dev"))
	if !ok {
		return d, fmt.Errorf("its number is %q", read(name, "dev"))
	}
	d.Number = number
	return d, nil
}

// read reads an attribute of a block device, "" where it has none.
func read(name, attribute string) string {
	body, err := os.ReadFile(filepath.Join("/sys/block", name, attribute))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(body))
}

// Number is what the kernel calls a device, from "major:minor".
func Number(text string) (uint32, bool) {
	major, minor, ok := strings.Cut(text, ":")
	a, bad := strconv.ParseUint(major, 10, 12)
	b, worse := strconv.ParseUint(minor, 10, 20)
	return uint32(a)<<20 | uint32(b), ok && bad == nil && worse == nil
}

// Direct reads a device past the page cache, which may have what file systems wrote since differently. It is an [io.ReaderAt] for any range; what
// is not aligned costs more.
type Direct struct {
	f     *os.File
	size  int64
	align int64
	holes *holes // nil where what can't be read is an error
}

// Open opens a device for reading.
func (d Device) Open() (*Direct, error) {
	f, err := os.OpenFile(d.Path, os.O_RDONLY|unix.O_DIRECT, 0)
	if err != nil {
		return nil, err
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err == nil && size != d.Size {
		err = fmt.Errorf("it had %d bytes, and has %d now", d.Size, size)
	}
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("open %s: %w", d.Path, err)
	}
	return &Direct{f: f, size: size, align: max(4096, d.Logical)}, nil
}

// Close closes the device.
func (r *Direct) Close() error { return r.f.Close() }

// Size is the device's length in bytes.
func (r *Direct) Size() int64 { return r.size }

// ReadAt implements [io.ReaderAt].
func (r *Direct) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > r.size {
		return 0, fmt.Errorf("read at byte %d of %d", off, r.size)
	}
	want := min(int64(len(p)), r.size-off)
	first, last := off/r.align*r.align, (off+want+r.align-1)/r.align*r.align
	var n int64
	var err error
	if first == off && last == off+want && aligned(p, r.align) {
		n, err = r.fill(p[:want], off)
	} else {
		around := Buffer(int(last-first), int(r.align))
		n, err = r.fill(around[:min(last, r.size)-first], first)
		n = max(0, min(int64(copy(p, around[min(off-first, n):n])), want))
	}
	if err == nil && n < int64(len(p)) {
		err = io.EOF
	}
	return int(n), err
}

// fill reads all of an aligned range, of which only the disk's end may be cut.
func (r *Direct) fill(p []byte, off int64) (n int64, err error) {
	n, err = r.pread(p, off)
	if r.holes != nil && unreadable(err) {
		if err = r.around(p[n:], off+n, err); err == nil {
			n = int64(len(p))
		}
	}
	return n, err
}

// pread reads all of an aligned range, or up to an error.
func (r *Direct) pread(p []byte, off int64) (n int64, err error) {
	for n < int64(len(p)) {
		got, err := unix.Pread(int(r.f.Fd()), p[n:], off+n)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return n, &fs.PathError{Op: "read", Path: r.f.Name(), Err: err}
		}
		if got == 0 {
			return n, io.ErrUnexpectedEOF // it was made smaller, or taken out
		}
		n += int64(got)
	}
	return n, nil
}

func aligned(p []byte, align int64) bool {
	return len(p) > 0 && uintptr(unsafe.Pointer(&p[0]))%uintptr(align) == 0
}

// Buffer is memory of a length that begins at a multiple of align.
func Buffer(length, align int) []byte {
	p := make([]byte, length+align)
	skip := (align - int(uintptr(unsafe.Pointer(&p[0]))%uintptr(align))) % align
	return p[skip : skip+length : skip+length]
}

// Parts lists the device's partitions, as its own table has them.
func (d Device) Parts(r *Direct) ([]disk.Part, error) {
	return disk.Parts(whole{r})
}
