package disk

import (
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"time"

	"github.com/diskfs/go-diskfs/partition"
)

// Part is a range of a disk in which a file system may lie. Offset and Length are in bytes.
type Part struct {
	// Number counts from 1; it is 0 for a disk without a partition table.
	Number         int
	Offset, Length int64
	// Format is the file system's or volume's name as found by its signature ("ext4", "xfs", "swap" …), "" if unknown.
	Format string
}

// Parts lists the partitions of a disk (MBR or GPT); a disk with none is one part, the whole.
// The disk's content is not trusted: what lies outside of it is an error.
func Parts(d Disk) ([]Part, error) {
	if format := Format(d, 0, d.Size()); format != "" {
		return []Part{{0, 0, d.Size(), format}}, nil
	}
	table, err := partition.Read(tableFile{io.NewSectionReader(d, 0, d.Size()), d.Size()}, 512, 512)
	if err != nil {
		return []Part{{0, 0, d.Size(), ""}}, nil
	}
	var parts []Part
	for _, p := range table.GetPartitions() {
		start, length := p.GetStart(), p.GetSize()
		if length == 0 {
			continue
		}
		if start < 0 || length < 0 || start > d.Size() || length > d.Size()-start {
			return nil, fmt.Errorf("partition %d lies at %d+%d, outside of a disk of %d bytes", p.GetIndex(), start, length, d.Size())
		}
		parts = append(parts, Part{p.GetIndex(), start, length, Format(d, start, length)})
	}
	return parts, nil
}

// raidSuper are where a member of a Linux array of so many bytes may have its superblock: versions 1.2, 1.1, 1.0 and 0.90 (Linux, include/uapi/linux/raid/md_p.h).
func raidSuper(length int64) [4]int64 {
	return [4]int64{4096, 0, (length/512 - 16) &^ 7 * 512, length&^(64<<10-1) - 64<<10}
}

// Format names what lies in a range of a disk, by its signature, or "".
func Format(d io.ReaderAt, offset, length int64) string {
	at := func(pos int64, want string) bool {
		p := make([]byte, len(want))
		if pos+int64(len(want)) > length {
			return false
		}
		n, _ := d.ReadAt(p, offset+pos)
		return n == len(p) && string(p) == want
	}
	for _, pos := range raidSuper(length) {
		if pos >= 0 && at(pos, "\xfc\x4e\x2b\xa9") {
			return "raid" // what lies in a member that is mirrored looks like a file system, too
		}
	}
	switch {
	case at(0x438, "\x53\xef"):
		features := make([]byte, 4)
		if n, _ := d.ReadAt(features, offset+0x460); n == 4 && binary.LittleEndian.Uint32(features)&0x40 != 0 {
			return "ext4" // the feature "extents"
		}
		return "ext2"
	case at(0, "XFSB"):
		return "xfs"
	case at(0x10040, "_BHRfS_M"):
		return "btrfs"
	case at(3, "NTFS    "):
		return "ntfs"
	case at(82, "FAT32"), at(54, "FAT16"), at(54, "FAT12"):
		return "vfat"
	case at(0x8001, "CD001"):
		return "iso9660"
	case at(4086, "SWAPSPACE2"):
		return "swap"
	case at(512, "LABELONE"), at(0, "LABELONE"):
		return "lvm"
	case at(0, "LUKS\xba\xbe"):
		return "luks"
	case at(0, "hsqs"):
		return "squashfs"
	}
	return ""
}

// tableFile is a disk as the partition library wants to see it.
type tableFile struct {
	*io.SectionReader
	size int64
}

func (f tableFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f tableFile) Close() error               { return nil }
func (f tableFile) Name() string               { return "disk" }
func (f tableFile) Size() int64                { return f.size }
func (f tableFile) Mode() fs.FileMode          { return 0o444 }
func (f tableFile) ModTime() time.Time         { return time.Time{} }
func (f tableFile) IsDir() bool                { return false }
func (f tableFile) Sys() any                   { return nil }
