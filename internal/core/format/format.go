// Package format knows the kinds of files in which disks are exchanged, and writes and reads them: those of qcow2, vhdx and vmdk, and plain bytes.
package format

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/vhdx"
	"keenlodge/internal/core/vmdk"
)

// Kind is a kind of files that disks, or whole machines, are exchanged in. Files of it end with a dot and its name.
type Kind string

const (
	// Raw is the disk's bytes.
	Raw   Kind = "raw"
	QCOW2 Kind = "qcow2"
	VHDX  Kind = "vhdx"
	VMDK  Kind = "vmdk"
	// OVA is a package of a machine with all its disks (package ovf).
	OVA Kind = "ova"
)

// Kinds lists every kind.
var Kinds = []Kind{Raw, QCOW2, VHDX, VMDK, OVA}

// Write writes a disk as a file of a kind that holds one disk, and tells how long that is, in bytes. name is what the file is called, for kinds that say so.
func Write(ctx context.Context, w io.Writer, d disk.Disk, as Kind, name string) (int64, error) {
	w = &until{ctx, w}
	switch as {
	case Raw:
		return io.CopyBuffer(struct{ io.Writer }{w}, io.NewSectionReader(d, 0, d.Size()), make([]byte, 1<<20))
	case QCOW2:
		f, err := qcow2.New(ctx, d, "")
		if err != nil {
			return 0, err
		}
		return f.WriteTo(w)
	case VHDX:
		f, err := vhdx.New(ctx, d)
		if err != nil {
			return 0, err
		}
		return f.WriteTo(w)
	case VMDK:
		return vmdk.Write(ctx, w, d, name)
	}
	return 0, fmt.Errorf("%q holds no single disk%s", as, suggest.Hint(as, Kinds[:4]))
}

// until writes until a context ends.
type until struct {
	ctx context.Context
	w   io.Writer
}

func (u *until) Write(p []byte) (int, error) {
	if u.ctx.Err() != nil {
		return 0, context.Cause(u.ctx)
	}
	return u.w.Write(p)
}

// Of tells by its first bytes what kind of file something is; what shows no other is raw.
func Of(r io.ReaderAt) (Kind, error) {
	p := make([]byte, 512)
	n, err := r.ReadAt(p, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	for _, known := range []struct {
		at   int
		sign string
		kind Kind
	}{{0, "QFI\xfb", QCOW2}, {0, "vhdxfile", VHDX}, {0, "KDMV", VMDK}, {0, "# Disk DescriptorFile", VMDK}, {257, "ustar", OVA}} {
		if bytes.HasPrefix(p[min(known.at, n):n], []byte(known.sign)) {
			return known.kind, nil
		}
	}
	return Raw, nil
}

// Open opens a file of so many bytes that holds one disk. One that leans on another file is refused.
func Open(r io.ReaderAt, length int64, of Kind) (disk.Disk, error) {
	switch of {
	case QCOW2:
		if leans, err := qcow2.Backing(r); err == nil && leans != "" {
			return nil, fmt.Errorf("it leans on another file, %.80q; merge it into one first: qemu-img convert -O qcow2", leans)
		}
		return qcow2.Open(r, nil)
	case VHDX:
		return vhdx.Open(r, length)
	case VMDK:
		return vmdk.Open(r, length)
	case Raw:
		if length == 0 || length%512 != 0 {
			return nil, fmt.Errorf("it has %d bytes, which are no whole sectors of 512 bytes, and nothing shows that it is of another kind", length)
		}
		if d, ok := r.(disk.Disk); ok {
			return d, nil // which knows its holes
		}
		return plain{io.NewSectionReader(r, 0, length)}, nil
	}
	return nil, fmt.Errorf("%q holds no single disk", of)
}

// plain is a disk of bytes of which nothing more is known.
type plain struct{ *io.SectionReader }

// Extents implements [disk.Disk].
func (p plain) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Data}}, nil
}
