// Package vhdx reads and writes disk images in the open format VHDX, version 1 ([MS-VHDX], Open Specifications): dynamic ones are written; dynamic and fixed
// ones are read, also those whose log is to be played back.
package vhdx

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"unicode/utf16"
)

const (
	kib = 1 << 10
	mib = 1 << 20

	// Where things lie that lie at the same place in each file, and how long they are ([MS-VHDX] 2.2).
	headerAt, headerLength = 64 * kib, 4 * kib
	regionAt, regionLength = 192 * kib, 64 * kib
	headersEnd             = mib

	signatureFile, signatureHeader, signatureRegion, signatureMetadata = "vhdxfile", "head", "regi", "metadata"
	signatureEntry, signatureZero, signatureData, signatureSector      = "loge", "zero", "desc", "data"

	// States of blocks ([MS-VHDX] 2.5.1.1).
	stateMask                                                      = 7
	notPresent, undefined, stateZero, unmapped, present, partially = 0, 1, 2, 3, 6, 7
	offsetShift                                                    = 20

	sector         = 512
	leastBlock     = mib
	mostBlock      = 256 * mib
	mostSize       = 64 << 40 // [MS-VHDX] 2.6.2.2
	sectorsOfChunk = 1 << 23  // that one block of a sector bitmap tells of
)

// ErrDamaged marks a file whose bytes are not what they should be.
var ErrDamaged = errors.New("damaged VHDX file")

// guid is a GUID as it lies in the file: its first three parts in little-endian order.
type guid [16]byte

// parse makes a GUID of its text.
func parse(text string) (g guid) {
	var digits []byte
	for _, c := range []byte(text) {
		switch {
		case c >= '0' && c <= '9':
			digits = append(digits, c-'0')
		case c >= 'A' && c <= 'F':
			digits = append(digits, c-'A'+10)
		}
	}
	for i, at := range []int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15} {
		g[at] = digits[2*i]<<4 | digits[2*i+1]
	}
	return g
}

// What regions and items of metadata are called ([MS-VHDX] 2.2.3.2, 2.6.2).
var (
	regionBAT      = parse("2DC27766-F623-4200-9D64-115E9BFD4A08")
	regionMetadata = parse("8B7CA206-4790-4B9A-B8FE-575F050F886E")

	itemFile     = parse("CAA16737-FA36-4D43-B3B6-33F0AA44E76B")
	itemSize     = parse("2FA54224-CD1B-4876-B211-5DBED83BF4B8")
	itemID       = parse("BECA12AB-B2E6-4523-93EF-C309E000C746")
	itemLogical  = parse("8141BF1D-A96F-4709-BA47-F233A8FAAB5F")
	itemPhysical = parse("CDA348C7-445D-4471-9CC9-E9885251C556")
)

var (
	le         = binary.LittleEndian
	castagnoli = crc32.MakeTable(crc32.Castagnoli)
)

// seal writes the checksum of a structure that has it in its bytes 4 to 8 ([MS-VHDX] 2.2.2: CRC-32C, with these as zeros).
func seal(p []byte) {
	le.PutUint32(p[4:], 0)
	le.PutUint32(p[4:], crc32.Checksum(p, castagnoli))
}

// sealed reports whether a structure is as it was sealed.
func sealed(p []byte) bool {
	sum := crc32.Update(0, castagnoli, p[:4])
	sum = crc32.Update(sum, castagnoli, make([]byte, 4))
	return crc32.Update(sum, castagnoli, p[8:]) == le.Uint32(p[4:])
}

// wide is a text in UTF-16.
func wide(text string) (p []byte) {
	for _, u := range utf16.Encode([]rune(text)) {
		p = le.AppendUint16(p, u)
	}
	return p
}

// ratio is how many blocks there are for one block of a sector bitmap.
func ratio(block, logical int64) int64 { return sectorsOfChunk * logical / block }

// entries is how many entries the block allocation table has of a disk that leans on no other ([MS-VHDX] 2.5).
func entries(size, block, logical int64) int64 {
	blocks := ceil(size, block)
	if blocks == 0 {
		return 0
	}
	return blocks + (blocks-1)/ratio(block, logical)
}

func ceil(n, by int64) int64 { return (n + by - 1) / by }
