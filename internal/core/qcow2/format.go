// Package qcow2 reads and writes disk images in QEMU's open format, version 3, as the QEMU project specifies it
// (docs/interop/qcow2): alone or lying over a backing file, plain or compressed.
package qcow2

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

const (
	clusterBits = 16
	cluster     = 1 << clusterBits
	perTable    = cluster / 8 // entries of 8 bytes in an L1, L2 or refcount table's cluster
	perRefblock = cluster / 2 // 16-bit counts in a refcount block

	copied     = 1 << 63 // the cluster's count is exactly one
	compressed = 1 << 62 // the entry describes a compressed cluster
	zeroFlag   = 1 << 0  // the cluster reads as zeros
	offsetMask = 0x00fffffffffffe00

	magic          = 0x514649fb // "QFI\xfb"
	endExtension   = 0
	formatOfBacker = 0xe2792aca // header extension: the backing file's format

	featureDirty   = 1 << 0 // counts may be stale; who only reads does not care
	featureZstd    = 1 << 3 // the header names the compression
	known          = featureDirty | featureZstd
	compressedZlib = 0
	compressedZstd = 1
)

// ErrDamaged marks a file whose bytes are not what they should be.
var ErrDamaged = errors.New("damaged qcow2 file")

// header is what of a file's header is not always the same. Offsets and lengths are in bytes but for refClusters.
type header struct {
	size                  int64
	backing, format       string // format is the backing file's; "" is qcow2
	zstd                  bool
	l1, l1Entries         int64
	refTable, refClusters int64
	clusterBits           uint
}

// encode writes the header's cluster.
func (h header) encode() []byte {
	be := binary.BigEndian
	// Behind the fixed part come the extensions, then the backing file's name.
	const fixed = 112
	var rest []byte
	if h.backing != "" {
		rest = be.AppendUint32(rest, formatOfBacker)
		format := cmp.Or(h.format, "qcow2")
		rest = be.AppendUint32(rest, uint32(len(format)))
		rest = append(rest, format...)
		rest = append(rest, make([]byte, (8-len(format)%8)%8)...)
	}
	rest = be.AppendUint64(rest, endExtension)
	backingAt := uint64(0)
	if h.backing != "" {
		backingAt = fixed + uint64(len(rest))
		rest = append(rest, h.backing...)
	}
	p := be.AppendUint32(make([]byte, 0, cluster), magic)
	p = be.AppendUint32(p, 3)
	p = be.AppendUint64(p, backingAt)
	p = be.AppendUint32(p, uint32(len(h.backing)))
	p = be.AppendUint32(p, clusterBits)
	p = be.AppendUint64(p, uint64(h.size))
	p = be.AppendUint32(p, 0) // not encrypted
	p = be.AppendUint32(p, uint32(tables(h.size)))
	p = be.AppendUint64(p, uint64(h.l1))
	p = be.AppendUint64(p, uint64(h.refTable))
	p = be.AppendUint32(p, uint32(h.refClusters))
	p = be.AppendUint32(p, 0) // no internal snapshots
	p = be.AppendUint64(p, 0)
	incompatible, kind := uint64(0), byte(compressedZlib)
	if h.zstd {
		incompatible, kind = featureZstd, compressedZstd
	}
	p = be.AppendUint64(p, incompatible)
	p = be.AppendUint64(p, 0) // no compatible features
	p = be.AppendUint64(p, 0) // no autoclear features
	p = be.AppendUint32(p, 4) // counts of 1<<4 bits
	p = be.AppendUint32(p, fixed)
	p = append(p, kind, 0, 0, 0, 0, 0, 0, 0)
	return append(p, rest...)
}

// decodeHeader reads and checks a header.
func decodeHeader(r io.ReaderAt) (h header, err error) {
	bad := func(format string, args ...any) (header, error) {
		return h, fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
	}
	be := binary.BigEndian
	p := make([]byte, 112)
	n, err := r.ReadAt(p, 0)
	if err != nil && err != io.EOF {
		return h, err
	}
	if n < 72 || be.Uint32(p) != magic {
		return bad("it does not begin as one")
	}
	version := be.Uint32(p[4:])
	if version != 2 && version != 3 {
		return h, fmt.Errorf("qcow2 version %d is not known", version)
	}
	backingAt, backingLen := be.Uint64(p[8:]), be.Uint32(p[16:])
	h.clusterBits = uint(be.Uint32(p[20:]))
	size, l1Entries, l1 := be.Uint64(p[24:]), be.Uint32(p[36:]), be.Uint64(p[40:])
	if be.Uint32(p[32:]) != 0 {
		return h, errors.New("the qcow2 file is encrypted")
	}
	if version == 3 {
		length := be.Uint32(p[100:])
		if n < 104 || length < 104 {
			return bad("its header has %d bytes", length)
		}
		incompatible := be.Uint64(p[72:])
		if incompatible&^known != 0 {
			return h, fmt.Errorf("the qcow2 file needs features that are not known here (%#x)", incompatible&^known)
		}
		if incompatible&featureZstd != 0 {
			if n < 105 || length < 112 || p[104] > compressedZstd {
				return bad("its compression is not known")
			}
			h.zstd = p[104] == compressedZstd
		}
	}
	switch {
	case h.clusterBits < 9 || h.clusterBits > 21:
		return bad("clusters of 1<<%d bytes", h.clusterBits)
	case size > 1<<60 || l1 > 1<<60:
		return bad("a disk of %d bytes, with its table at %d", size, l1)
	}
	h.size, h.l1, h.l1Entries = int64(size), int64(l1), int64(l1Entries)
	span := int64(1) << h.clusterBits
	if need := ceil(ceil(h.size, span), span/8); h.l1Entries < need || h.l1Entries > 4<<20 {
		return bad("a disk of %d bytes with %d tables", h.size, h.l1Entries)
	}
	if backingAt == 0 {
		return h, nil
	}
	if backingLen > 1023 || backingAt > uint64(span) {
		return bad("a backing file's name of %d bytes at %d", backingLen, backingAt)
	}
	name := make([]byte, backingLen)
	if _, err := r.ReadAt(name, int64(backingAt)); err != nil {
		return bad("the backing file's name is cut off")
	}
	h.backing = string(name)
	return h, nil
}
