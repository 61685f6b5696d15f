package chunk

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/DataDog/zstd"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	PassphraseWork = 5 // a strong one takes a second each time
	os.Exit(m.Run())
}

func random(n int) []byte {
	rng := rand.New(rand.NewPCG(uint64(n), 3))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

// holed is n random bytes but for some zeros.
func holed(n, from, until int) []byte {
	b := random(n)
	clear(b[from:until])
	return b
}

func TestCompressLeavesAloneWhatGainsNothing(t *testing.T) {
	for name, c := range map[string]struct {
		block []byte
		codec Codec
	}{
		"text":                   {bytes.Repeat([]byte("sailing 00017 Brindle Sound\n"), 5000), Zstd},
		"random":                 {random(128 << 10), Plain},
		"short, random":          {random(100), Plain},
		"one byte":               {[]byte{1}, Plain},
		"empty":                  {nil, Plain},
		"random, a hole":         {append(random(64<<10), make([]byte, 64<<10)...), Zstd},
		"a hole at first":        {holed(64<<10, 0, 8<<10), Zstd},
		"a hole in the middle":   {holed(64<<10, 28<<10, 36<<10), Zstd},
		"a hole at last":         {holed(64<<10, 56<<10, 64<<10), Zstd},
		"a hole looked past":     {holed(64<<10, 8<<10, 24<<10), Plain},
		"too short to be judged": {holed(32<<10-1, 8<<10, 15<<10), Zstd},
		"just long enough":       {holed(32<<10, 8<<10, 15<<10), Plain},
		"less than a sixteenth":  {holed(64<<10, 0, 7<<9), Plain},
		"more than a sixteenth":  {holed(64<<10, 0, 5<<10), Zstd},
	} {
		stored, codec := Compress(c.block, nil, Ordinary)
		require.Equal(t, c.codec, codec, name)
		require.LessOrEqual(t, len(stored), len(c.block), name)
		for _, into := range [][]byte{nil, make([]byte, 0, 200<<10), make([]byte, 9)} {
			back, err := Expand(stored, codec, into)
			require.NoError(t, err, name)
			require.True(t, bytes.Equal(c.block, back), name)
		}
		if codec == Zstd {
			_, err := Expand(stored[:len(stored)-1], codec, nil)
			require.ErrorIs(t, err, ErrDamaged, name)
		}
	}
	for _, codec := range []Codec{9, Zstd} {
		_, err := Expand([]byte{1}, codec, nil)
		require.ErrorIs(t, err, ErrDamaged)
	}
	_, err := Expand(nil, Zstd, nil)
	require.ErrorIs(t, err, ErrDamaged)
	_, err = Expand(make([]byte, MaxFrame+1), Plain, nil)
	require.ErrorIs(t, err, ErrDamaged)
}

// A directory comes from a store, and its lengths may be anything: what a frame, a pack or a piece can't be is refused.
func TestHostileDirectories(t *testing.T) {
	type frame struct {
		stored uint32
		codec  Codec
		sizes  []uint32
	}
	encode := func(frames ...frame) (b []byte) {
		for _, f := range frames {
			b = append(binary.BigEndian.AppendUint32(b, f.stored), byte(f.codec))
			b = binary.BigEndian.AppendUint16(b, uint16(len(f.sizes)))
			for i, n := range f.sizes {
				name := Name{31: byte(i) + 1}
				b = binary.BigEndian.AppendUint32(append(b, name[:]...), n)
			}
		}
		return b
	}
	var largest []frame
	for range (1<<32 - 1) / (MaxFrame + Overhead) {
		largest = append(largest, frame{MaxFrame + Overhead, Plain, []uint32{1}})
	}
	rest := uint32((1<<32 - 1) % (MaxFrame + Overhead))
	for name, c := range map[string]struct {
		body []byte
		good bool
	}{
		"nothing":                     {nil, true},
		"the most that a frame holds": {encode(frame{MaxFrame + Overhead, Zstd, []uint32{MaxFrame - 5, 5}}), true},
		"more":                        {encode(frame{100, Zstd, []uint32{MaxFrame - 5, 6}}), false},
		"an empty piece":              {encode(frame{100, Zstd, []uint32{5, 0}}), false},
		"stored as more than any":     {encode(frame{MaxFrame + Overhead + 1, Plain, []uint32{5}}), false},
		"a codec to come":             {encode(frame{100, Zstd + 1, []uint32{5}}), false},
		"a frame of nothing":          {encode(frame{100, Plain, nil}), false},
		"half a head":                 {encode(frame{100, Plain, []uint32{5}}, frame{})[:frameHead+pieceHead+frameHead-1], false},
		"half a piece":                {encode(frame{100, Plain, []uint32{5}})[:frameHead+pieceHead-1], false},
		"the name of zeros":           {append(encode(frame{100, Plain, nil})[:5], append([]byte{0, 1}, make([]byte, pieceHead)...)...), false},
		"as long as a pack can be":    {encode(append(largest, frame{rest, Plain, []uint32{1}})...), true},
		"longer":                      {encode(append(largest, frame{rest + 1, Plain, []uint32{1}})...), false},
	} {
		d, err := NewDirectory(PackID{}, c.body)
		if c.good {
			require.NoError(t, err, name)
			require.Equal(t, len(c.body), d.Len(), name)
			continue
		}
		require.ErrorIs(t, err, ErrDamaged, name)
	}
	d, err := NewDirectory(PackID{}, encode(frame{7, Plain, []uint32{3, 4}}, frame{9, Zstd, []uint32{20}}))
	require.NoError(t, err)
	require.EqualValues(t, 16, d.Frames())

	tail := func(length uint32) []byte {
		return append(binary.BigEndian.AppendUint32([]byte(packMagic), length), make([]byte, 32)...)
	}
	for _, c := range []struct {
		tail []byte
		size int64
		at   int64 // -1 is an error
	}{
		{tail(5), 5 + TailSize, 0}, {tail(5), 4 + TailSize, -1}, {tail(5), 100, 100 - TailSize - 5}, {tail(5)[1:], 100, -1}, {append([]byte{'k'}, tail(5)[1:]...), 100, -1},
		{tail(64 << 20), 64<<20 + TailSize, 0}, {tail(64<<20 + 1), 65 << 20, -1}, {tail(5), 1<<32 - 1 + TailSize + 5, 1<<32 - 1}, {tail(5), 1<<32 + TailSize + 5, -1},
	} {
		at, length, err := DirectoryRange(c.tail, c.size)
		if c.at < 0 {
			require.ErrorIs(t, err, ErrDamaged, "%+v", c)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.at, at)
		require.Equal(t, c.size-TailSize-at, length)
	}
}

// A small frame that claims or holds far more than a frame may have is refused before it takes the memory.
func TestABombIsRefused(t *testing.T) {
	bomb, err := zstd.CompressLevel(nil, make([]byte, 64<<20), 1)
	require.NoError(t, err)
	require.Less(t, len(bomb), 1<<20)
	_, err = Expand(bomb, Zstd, nil)
	require.ErrorIs(t, err, ErrDamaged)
	_, err = Expand([]byte("no frame"), Zstd, nil)
	require.ErrorIs(t, err, ErrDamaged)
}

var secret = Secret{1, 2, 3}

// seals are the two kinds of store.
var seals = map[string]*Seal{"plain": nil, "sealed": NewSeal(secret)}

// makePack makes a pack of frames, each of one piece but the last two, which are one.
func makePack(seal *Seal, pieces ...[]byte) (PackID, []byte, Directory) {
	p := NewPack(seal, NewPackID(), nil)
	for i := 0; i < len(pieces); i++ {
		content := pieces[i]
		row := []Piece{{seal.Name(content), uint32(len(content))}}
		if i == len(pieces)-2 {
			i++
			content = append(bytes.Clone(content), pieces[i]...)
			row = append(row, Piece{seal.Name(pieces[i]), uint32(len(pieces[i]))})
		}
		stored, codec := Compress(content, nil, Ordinary)
		p.Add(row, stored, codec)
	}
	body, d := p.Finish()
	return p.ID(), body, d
}

func entries(d Directory) (out []Entry) {
	d.Each(func(e Entry) bool { out = append(out, e); return true })
	return out
}

// readPiece reads a piece of a pack's bytes.
func readPiece(seal *Seal, id PackID, e Entry, body []byte) ([]byte, error) {
	content, _, err := OpenFrame(seal.Pack(id), e.Offset, e.Codec, body[e.Offset:][:e.Stored], nil)
	if err != nil {
		return nil, err
	}
	return e.Piece(seal, content)
}

// A pack is found by its last bytes alone, and every byte of it is watched.
func TestAPackDescribesItself(t *testing.T) {
	pieces := [][]byte{random(5000), bytes.Repeat([]byte("gate-07 "), 9000), random(1), random(70)}
	for kind, seal := range seals {
		t.Run(kind, func(t *testing.T) {
			id, body, made := makePack(seal, pieces...)
			again, err := ParsePackID(id.String())
			require.NoError(t, err)
			require.Equal(t, id, again)
			require.Equal(t, seal == nil, bytes.Contains(body, []byte("gate-07 ")), "the first bytes of a frame are literals")
			read := func(id PackID, body []byte) (Directory, error) {
				tail := body[len(body)-TailSize:]
				offset, length, err := DirectoryRange(tail, int64(len(body)))
				if err != nil {
					return Directory{}, err
				}
				return ReadDirectory(seal, id, offset, body[offset:offset+length], tail)
			}
			d, err := read(id, body)
			require.NoError(t, err)
			require.Equal(t, entries(made), entries(d))
			require.Equal(t, made.Len(), d.Len())
			all := entries(d)
			require.Len(t, all, 4)
			require.Equal(t, []bool{true, true, false, true}, []bool{all[0].Last, all[1].Last, all[2].Last, all[3].Last})
			require.EqualValues(t, 1, all[3].Within)
			for i, e := range all {
				piece, err := readPiece(seal, id, e, body)
				require.NoError(t, err)
				require.Equal(t, pieces[i], piece)
			}
			_, err = read(NewPackID(), body)
			require.ErrorIs(t, err, ErrDamaged, "under another's name")
			for i := range body {
				flipped := bytes.Clone(body)
				flipped[i] ^= 1
				d, err := read(id, flipped)
				for _, e := range entries(d) {
					if err == nil {
						_, err = readPiece(seal, id, e, flipped)
					}
				}
				require.ErrorIs(t, err, ErrDamaged, "byte %d", i)
			}
			for _, n := range []int{0, 10, TailSize, len(body) / 2, len(body) - 1} {
				if n >= TailSize {
					_, err = read(id, body[:n])
					require.ErrorIs(t, err, ErrDamaged, "cut at %d", n)
				}
			}
			n := 0
			d.Each(func(Entry) bool { n++; return n < 2 })
			require.Equal(t, 2, n, "who has seen enough is not shown more")
			_, err = (Entry{Within: 5, Size: 10}).Piece(seal, make([]byte, 14))
			require.ErrorIs(t, err, ErrDamaged, "a piece that its frame does not hold")
		})
	}
	for _, bad := range []string{"", "zz", PackID{}.String() + "00", PackID{}.String()[:31] + "g", "../" + PackID{}.String()[3:]} {
		_, err := ParsePackID(bad)
		require.Error(t, err)
	}
}

func TestObjectsAndIndexes(t *testing.T) {
	one, _, a := makePack(nil, random(300), random(400))
	two, _, b := makePack(nil, random(500))
	payload := AppendIndex(AppendIndex(nil, a, 1000), b, 2000)
	for kind, seal := range seals {
		object := EncodeObject(seal, IndexObject, "index/1", payload)
		back, err := DecodeObject(seal, IndexObject, "index/1", object)
		require.NoError(t, err, kind)
		require.Equal(t, payload, back)
		require.Equal(t, seal == nil, bytes.Contains(object, entries(a)[0].Name[:]), "a sealed index tells no names")
		_, err = DecodeObject(seal, ImageObject, "index/1", object)
		require.ErrorContains(t, err, "kind")
		_, err = DecodeObject(seal, IndexObject, "index/2", object)
		require.ErrorIs(t, err, ErrDamaged, "under another's name")
		for other, with := range seals {
			_, err := DecodeObject(with, IndexObject, "index/1", object)
			require.Equal(t, kind == other, err == nil)
		}
		_, err = DecodeObject(NewSeal(Secret{9}), IndexObject, "index/1", object)
		require.ErrorIs(t, err, ErrDamaged)
		for i := range object {
			flipped := bytes.Clone(object)
			flipped[i] ^= 1
			_, err := DecodeObject(seal, IndexObject, "index/1", flipped)
			require.ErrorIs(t, err, ErrDamaged)
			_, err = DecodeObject(seal, IndexObject, "index/1", object[:i])
			require.ErrorIs(t, err, ErrDamaged)
		}
	}
	var ids []PackID
	var lengths []int64
	count := 0
	require.NoError(t, WalkIndex(payload, func(d Directory, length int64) error {
		ids, lengths, count = append(ids, d.Pack), append(lengths, length), count+len(entries(d))
		return nil
	}))
	require.Equal(t, []PackID{one, two}, ids)
	require.Equal(t, []int64{1000, 2000}, lengths)
	require.Equal(t, 3, count)
	for i := range payload {
		if err := WalkIndex(payload[:i], func(Directory, int64) error { return nil }); i > 0 && i != 24+a.Len() {
			require.ErrorIs(t, err, ErrDamaged, "cut at %d", i)
		}
	}
}

// A key opens with what it was made for and with nothing else.
func TestKeys(t *testing.T) {
	me, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	stranger, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	byWords, err := WrapForPassphrase(secret, "ebb and flow at the pier")
	require.NoError(t, err)
	byFile, err := WrapForRecipients(secret, me.Recipient().String())
	require.NoError(t, err)
	for name, c := range map[string]struct {
		key  string
		with Opener
		fits bool
	}{
		"passphrase":           {byWords, Opener{Passphrase: "ebb and flow at the pier"}, true},
		"wrong passphrase":     {byWords, Opener{Passphrase: "ebb and flow at the peer"}, false},
		"identity":             {byFile, Opener{Identity: "# of the operator\n" + me.String() + "\n"}, true},
		"another's identity":   {byFile, Opener{Identity: stranger.String()}, false},
		"passphrase for file":  {byFile, Opener{Passphrase: "ebb and flow at the pier"}, false},
		"nothing":              {byWords, Opener{}, false},
		"no identity at all":   {byFile, Opener{Identity: "hello"}, false},
		"identity, passphrase": {byWords, Opener{Identity: me.String()}, false},
	} {
		got, err := Unwrap(c.key, c.with)
		if !c.fits {
			require.ErrorIs(t, err, ErrWrongKey, name)
			continue
		}
		require.NoError(t, err, name)
		require.Equal(t, secret, got, name)
	}
	_, err = Unwrap(strings.Replace(byWords, "A", "B", 9), Opener{Passphrase: "ebb and flow at the pier"})
	require.Error(t, err)
	_, err = WrapForPassphrase(secret, "  ")
	require.Error(t, err)
	_, err = WrapForRecipients(secret, "age1nobody")
	require.Error(t, err)
	require.NotEqual(t, NewSeal(secret).Check(), NewSeal(Secret{}).Check())
}

func FuzzWalkIndex(f *testing.F) {
	_, _, d := makePack(nil, random(300), []byte("x"), []byte("y"))
	f.Add(AppendIndex(nil, d, 500))
	f.Fuzz(func(t *testing.T, b []byte) {
		var again []byte
		err := WalkIndex(b, func(d Directory, length int64) error {
			require.LessOrEqual(t, d.Frames(), int64(1<<32-1))
			d.Each(func(e Entry) bool {
				require.LessOrEqual(t, uint64(e.Within)+uint64(e.Size), uint64(MaxFrame))
				return true
			})
			again = AppendIndex(again, d, length)
			return nil
		})
		if err == nil {
			require.True(t, bytes.Equal(b, again))
		}
	})
}

func FuzzPack(f *testing.F) {
	id, body, _ := makePack(nil, random(300), bytes.Repeat([]byte("x"), 5000), random(30))
	f.Add(body)
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) < TailSize {
			return
		}
		tail := b[len(b)-TailSize:]
		offset, length, err := DirectoryRange(tail, int64(len(b)))
		if err != nil {
			return
		}
		digest := directoryDigest(nil, id, b[offset:offset+length]) // the fuzzer can't find digests
		copy(tail[12:], digest[:])
		d, err := ReadDirectory(nil, id, offset, b[offset:offset+length], tail)
		if err != nil {
			return
		}
		d.Each(func(e Entry) bool {
			require.LessOrEqual(t, int64(e.Offset)+int64(e.Stored), offset)
			if piece, err := readPiece(nil, id, e, b); err == nil {
				require.Len(t, piece, int(e.Size))
			}
			return true
		})
	})
}

func FuzzDecodeObject(f *testing.F) {
	f.Add(EncodeObject(nil, ImageObject, "x", []byte(`{"format": 1}`)))
	f.Add(EncodeObject(nil, ImageObject, "x", bytes.Repeat([]byte("a"), 1000)))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 45 {
			digest := objectDigest(b[:len(b)-32], "x") // the fuzzer can't find digests
			copy(b[len(b)-32:], digest[:])
		}
		if payload, err := DecodeObject(nil, ImageObject, "x", b); err == nil {
			again, err := DecodeObject(nil, ImageObject, "x", EncodeObject(nil, ImageObject, "x", payload))
			require.NoError(t, err)
			require.True(t, bytes.Equal(payload, again))
		}
	})
}

func FuzzUnwrap(f *testing.F) {
	key, err := WrapForPassphrase(secret, "x")
	require.NoError(f, err)
	f.Add(key)
	f.Fuzz(func(t *testing.T, key string) {
		if strings.Contains(key, "scrypt") {
			return // each guess may cost a second by design
		}
		Unwrap(key, Opener{Passphrase: "x", Identity: "AGE-SECRET-KEY-1"})
	})
}
