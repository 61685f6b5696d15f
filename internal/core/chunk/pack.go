package chunk

import (
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"fmt"
)

// A pack is
//
//	frames      one after the other, as stored
//	directory   for each frame: stored length 4, codec 1, number of pieces 2; then for each of its pieces: name 32, length 4
//	tail        TailSize bytes: "KLPACK\x00\x03", length of the directory as it lies (uint32, big endian), a digest (32 bytes)
//
// so that it can be written in one stream, and read by its last bytes where no index knows it. A frame's content is its pieces, one after the
// other. In a sealed store each frame and the directory are sealed by themselves. The digest is the store's name for the pack's name and
// the directory as it lies there, so that neither a changed directory nor a pack under another's name is taken for true.

const (
	frameHead = 7
	pieceHead = 36
	// TailSize is the length of a pack's tail in bytes.
	TailSize = 44
	// maxDirectory bounds a directory, for readers of damaged packs, in bytes.
	maxDirectory = 64 << 20

	packMagic = "KLPACK\x00\x03"
)

// Entry says where in its pack a piece lies: in a frame of Stored bytes from Offset on, from byte Within of its content on. All lengths are in
// bytes.
type Entry struct {
	Name         Name
	Offset       uint32
	Stored       uint32
	Codec        Codec
	Within, Size uint32
	// Last marks the last piece of its frame.
	Last bool
}

// PackID names a pack: 128 random bits. A name is never used again.
type PackID [16]byte

func (id PackID) String() string { return hex.EncodeToString(id[:]) }

// NewPackID draws a pack's name.
func NewPackID() PackID {
	var id PackID
	rand.Read(id[:])
	return id
}

// ParsePackID reads what String wrote.
func ParsePackID(s string) (PackID, error) {
	var id PackID
	if len(s) == 2*len(id) {
		if _, err := hex.Decode(id[:], []byte(s)); err == nil {
			return id, nil
		}
	}
	return id, fmt.Errorf("pack name %q: not 32 hexadecimal digits", s)
}

// Piece is a piece of a frame: its name, and its length in bytes.
type Piece struct {
	Name Name
	Size uint32
}

// Pack gathers frames.
type Pack struct {
	id        PackID
	seal      *Seal
	own       *PackSeal
	body      []byte
	directory []byte
}

// NewPack makes an empty pack, which uses body's memory.
func NewPack(seal *Seal, id PackID, body []byte) *Pack {
	return &Pack{id: id, seal: seal, own: seal.Pack(id), body: body[:0]}
}

// Add appends a compressed frame of pieces, at most 65,535.
func (p *Pack) Add(pieces []Piece, compressed []byte, codec Codec) {
	before := len(p.body)
	p.body = p.own.append(p.body, compressed)
	p.directory = binary.BigEndian.AppendUint32(p.directory, uint32(len(p.body)-before))
	p.directory = append(p.directory, byte(codec))
	p.directory = binary.BigEndian.AppendUint16(p.directory, uint16(len(pieces)))
	for _, k := range pieces {
		p.directory = append(p.directory, k.Name[:]...)
		p.directory = binary.BigEndian.AppendUint32(p.directory, k.Size)
	}
}

// Len is the number of bytes of frames so far.
func (p *Pack) Len() int { return len(p.body) }

// ID is the pack's name.
func (p *Pack) ID() PackID { return p.id }

// Finish returns the pack's bytes and its directory. The pack must not be used again.
func (p *Pack) Finish() ([]byte, Directory) {
	at := len(p.body)
	out := p.own.append(p.body, p.directory)
	lies := out[at:]
	digest := directoryDigest(p.seal, p.id, lies)
	length := len(lies)
	out = append(out, packMagic...)
	out = binary.BigEndian.AppendUint32(out, uint32(length))
	return append(out, digest[:]...), Directory{p.id, p.directory}
}

func directoryDigest(seal *Seal, id PackID, directory []byte) Name {
	return seal.Name(append(id[:len(id):len(id)], directory...))
}

// Directory is the encoded directory of a pack, checked: entries are read from it as they are needed.
type Directory struct {
	Pack PackID
	body []byte
}

// NewDirectory checks an encoded directory. Errors wrap [ErrDamaged].
func NewDirectory(id PackID, body []byte) (Directory, error) {
	bad := func(i int) (Directory, error) {
		return Directory{}, fmt.Errorf("pack %s: %w: its directory can't be one from byte %d on", id, ErrDamaged, i)
	}
	offset := int64(0)
	for i := 0; i < len(body); {
		if len(body)-i < frameHead {
			return bad(i)
		}
		stored, codec, n := binary.BigEndian.Uint32(body[i:]), Codec(body[i+4]), int(binary.BigEndian.Uint16(body[i+5:]))
		offset += int64(stored)
		if stored > MaxFrame+Overhead || codec > Zstd || n == 0 || len(body)-i-frameHead < n*pieceHead || offset > 1<<32-1 {
			return bad(i)
		}
		i += frameHead
		content := uint64(0)
		for range n {
			size := binary.BigEndian.Uint32(body[i+32:])
			if content += uint64(size); size == 0 || content > MaxFrame || Name(body[i:]).IsZero() {
				return bad(i)
			}
			i += pieceHead
		}
	}
	return Directory{id, body}, nil
}

// Each calls visit for every piece, in the order in which they lie, until it returns false.
func (d Directory) Each(visit func(Entry) bool) {
	offset := uint32(0)
	for b := d.body; len(b) > 0; {
		e := Entry{Offset: offset, Stored: binary.BigEndian.Uint32(b), Codec: Codec(b[4])}
		n := binary.BigEndian.Uint16(b[5:])
		b = b[frameHead:]
		for ; n > 0; n-- {
			e.Name, e.Size, e.Last = Name(b), binary.BigEndian.Uint32(b[32:]), n == 1
			if !visit(e) {
				return
			}
			e.Within += e.Size
			b = b[pieceHead:]
		}
		offset += e.Stored
	}
}

// Len is how many bytes the directory takes, before it is sealed.
func (d Directory) Len() int { return len(d.body) }

// Frames is how many bytes the frames take that the directory names.
func (d Directory) Frames() (bytes int64) {
	d.Each(func(e Entry) bool {
		if e.Last {
			bytes = int64(e.Offset) + int64(e.Stored)
		}
		return true
	})
	return bytes
}

// ReadDirectory opens a directory as it lies in its pack from offset on, and checks it against the pack's tail. Errors wrap [ErrDamaged].
func ReadDirectory(seal *Seal, id PackID, offset int64, directory, tail []byte) (Directory, error) {
	digest := directoryDigest(seal, id, directory)
	if len(tail) != TailSize || string(tail[12:]) != string(digest[:]) {
		return Directory{}, fmt.Errorf("pack %s: %w: its directory does not match its end and its name", id, ErrDamaged)
	}
	body, err := seal.Pack(id).Open(uint32(offset), directory)
	if err != nil {
		return Directory{}, fmt.Errorf("pack %s: %w", id, err)
	}
	d, err := NewDirectory(id, body)
	if err == nil && d.Frames() != offset {
		err = fmt.Errorf("pack %s: %w: its frames take %d bytes, not %d", id, ErrDamaged, offset, d.Frames())
	}
	return d, err
}

// DirectoryRange tells, from a pack's last TailSize bytes and its length, where its directory lies.
func DirectoryRange(tail []byte, packSize int64) (offset, length int64, err error) {
	if len(tail) != TailSize || string(tail[:8]) != packMagic {
		return 0, 0, fmt.Errorf("%w: it does not end like a pack", ErrDamaged)
	}
	length = int64(binary.BigEndian.Uint32(tail[8:]))
	offset = packSize - TailSize - length
	if length > maxDirectory || offset < 0 || offset > 1<<32-1 {
		return 0, 0, fmt.Errorf("%w: its directory of %d bytes does not fit", ErrDamaged, length)
	}
	return offset, length, nil
}

// OpenFrame opens and expands a frame as it lies in its pack; compressed is what it was before it was sealed. The content may use into's
// memory. What is in it is not verified: see [Entry.Piece]. Errors wrap [ErrDamaged].
func OpenFrame(own *PackSeal, offset uint32, codec Codec, stored, into []byte) (content, compressed []byte, err error) {
	if compressed, err = own.Open(offset, stored); err != nil {
		return nil, nil, err
	}
	content, err = Expand(compressed, codec, into)
	return content, compressed, err
}

// Piece is the piece in its frame's content, verified against its name. Errors wrap [ErrDamaged].
func (e Entry) Piece(seal *Seal, content []byte) ([]byte, error) {
	end := uint64(e.Within) + uint64(e.Size)
	if end > uint64(len(content)) {
		return nil, fmt.Errorf("%w: its frame has %d bytes, and it would end at %d", ErrDamaged, len(content), end)
	}
	piece := content[e.Within:end]
	if seal.Name(piece) != e.Name {
		return nil, fmt.Errorf("%w: its content has another digest", ErrDamaged)
	}
	return piece, nil
}
