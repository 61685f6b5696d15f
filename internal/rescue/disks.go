package rescue

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/layout"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/raw"
)

// target is a disk of this machine. It is a [disk.Disk] once it is open. Sizes are in bytes.
type target struct {
	name, model string
	size        int64
	holds       string // what lies on it, in words; "" for nothing
	f           *os.File
}

// Size implements [disk.Disk].
func (t *target) Size() int64 { return t.size }

// ReadAt implements [io.ReaderAt].
func (t *target) ReadAt(p []byte, off int64) (int, error) { return t.f.ReadAt(p, off) }

// Extents implements [disk.Disk]: a device does not tell what of it is empty.
func (t *target) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Data}}, nil
}

// open opens the disk, for writing or for reading only.
func (t *target) open(write bool) (err error) {
	flags := os.O_RDONLY
	if write {
		flags = os.O_RDWR | unix.O_EXCL // nothing else of this machine has it
	}
	t.f, err = os.OpenFile("/dev/"+t.name, flags, 0)
	return err
}

func (t *target) close() error { return t.f.Close() }

// targets lists this machine's disks, by name.
func targets() (out []*target, err error) {
	found, err := filepath.Glob("/sys/block/*")
	if err != nil {
		return nil, err
	}
	for _, place := range found {
		name := filepath.Base(place)
		if slices.ContainsFunc([]string{"loop", "ram", "sr", "fd", "dm-", "md", "zram", "nbd"}, func(kind string) bool { return strings.HasPrefix(name, kind) }) || word(place, "ro") == "1" {
			continue
		}
		t := &target{name: name, model: model(place), size: number(place, "size") * 512}
		if t.size == 0 {
			continue
		}
		ours, err := t.look()
		if err != nil {
			return nil, fmt.Errorf("disk %s: %w", name, err)
		}
		if !ours {
			out = append(out, t)
		}
	}
	return out, nil
}

// model is what a disk says that it is.
func model(place string) string {
	vendor := word(place, "device/vendor")
	if strings.HasPrefix(vendor, "0x") { // a number that says nothing to people
		vendor = ""
	}
	return plain.Text(strings.TrimSpace(vendor+" "+word(place, "device/model")), 40)
}

// Label is what the medium is called by its own file system.
const Label = "KEENLODGE_RESCUE"

// look says what lies on a disk, and whether it is the medium itself, or one like it.
func (t *target) look() (medium bool, err error) {
	if err := t.open(false); err != nil {
		return false, err
	}
	defer t.close()
	l, err := layout.Read(t)
	if errors.Is(err, layout.ErrDamaged) {
		t.holds = "something that makes no sense"
		return false, nil
	}
	if err != nil {
		return false, err
	}
	var parts []string
	for _, p := range l.Parts {
		if p.Format == "iso9660" {
			label := make([]byte, len(Label)) // ECMA-119, 8.4: the volume's identifier
			if _, err := t.ReadAt(label, p.Offset+0x8028); err == nil && string(label) == Label {
				return true, nil
			}
		}
		if p.Format != "" || l.Table != layout.None {
			parts = append(parts, strings.TrimSpace(fmt.Sprintf("%s %s", size(p.Length), p.Format)))
		}
	}
	if t.holds = strings.Join(parts, ", "); t.holds == "" && !t.blank() {
		t.holds = "something that is not known here"
	}
	return false, nil
}

// blank reports whether the begin and the end of a disk are zeros, where whatever lies on one has its signs.
func (t *target) blank() bool {
	room := make([]byte, min(t.size, 1<<20))
	for _, at := range []int64{0, t.size - int64(len(room))} {
		if n, _ := t.ReadAt(room, at); n < len(room) || !disk.IsZero(room) {
			return false
		}
	}
	return true
}

func word(place, what string) string {
	body, _ := os.ReadFile(filepath.Join(place, what))
	return strings.TrimSpace(string(body))
}

func number(place, what string) int64 {
	n, _ := strconv.ParseInt(word(place, what), 10, 64)
	return n
}

// write writes a disk onto a target, to its medium. told is called now and then with how many bytes of data are there.
func write(ctx context.Context, d disk.Disk, t *target, told func(int64)) error {
	if d.Size() > t.size {
		return fmt.Errorf("it is of %s, and disk %s of %s", size(d.Size()), t.name, size(t.size))
	}
	var done atomic.Int64
	if err := raw.Fill(ctx, t.f, d, t.zero, func(n int) { told(done.Add(int64(n))) }); err != nil {
		return fmt.Errorf("write to disk %s: %w", t.name, err)
	}
	if err := t.f.Sync(); err != nil {
		return fmt.Errorf("put down what was written to disk %s: %w", t.name, err)
	}
	return nil
}

// zero fills a range with zeros, by the device's own means where it has some.
func (t *target) zero(offset, length int64) error {
	span := [2]uint64{uint64(offset), uint64(length)}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, t.f.Fd(), unix.BLKZEROOUT, uintptr(unsafe.Pointer(&span)))
	if errno != 0 {
		return fmt.Errorf("fill %d bytes at %d of disk %s with zeros: %w", length, offset, t.name, errno)
	}
	return nil
}

// again has the kernel read the partition table anew.
func (t *target) again() error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, t.f.Fd(), unix.BLKRRPART, 0); errno != 0 {
		return fmt.Errorf("have the kernel read the partitions of disk %s anew: %w", t.name, errno)
	}
	return nil
}
