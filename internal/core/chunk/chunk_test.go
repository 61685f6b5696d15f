package chunk

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func random(n int) []byte {
	rng := rand.New(rand.NewPCG(uint64(n), 3))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

func TestCompressLeavesAloneWhatGainsNothing(t *testing.T) {
	for name, c := range map[string]struct {
		block []byte
		codec Codec
	}{
		"text":           {bytes.Repeat([]byte("sailing 00017 Brindle Sound\n"), 5000), Zstd},
		"random":         {random(128 << 10), Plain},
		"short, random":  {random(100), Plain},
		"one byte":       {[]byte{1}, Plain},
		"empty":          {nil, Plain},
		"random, a hole": {append(random(64<<10), make([]byte, 64<<10)...), Zstd},
	} {
		stored, codec := Compress(c.block, nil)
		require.Equal(t, c.codec, codec, name)
		require.LessOrEqual(t, len(stored), len(c.block), name)
		back, err := Expand(stored, codec, len(c.block))
		require.NoError(t, err, name)
		require.True(t, bytes.Equal(c.block, back), name)
		if len(c.block) > 0 {
			_, err = Expand(stored, codec, len(c.block)-1)
			require.ErrorIs(t, err, ErrDamaged, name)
		}
	}
	_, err := Expand([]byte{1}, 9, 1)
	require.ErrorIs(t, err, ErrDamaged)
	_, err = Expand(nil, Zstd, MaxBlock+1)
	require.ErrorIs(t, err, ErrDamaged)
}

// A small frame that claims or holds far more than a block may have is refused before it takes the memory.
func TestABombIsRefused(t *testing.T) {
	bomb := encoder.EncodeAll(make([]byte, 64<<20), nil)
	require.Less(t, len(bomb), 1<<20)
	_, err := Expand(bomb, Zstd, MaxBlock)
	require.ErrorIs(t, err, ErrDamaged)
}

func pack(blocks ...[]byte) (PackID, []byte, []Entry) {
	p := NewPack(100)
	for _, b := range blocks {
		stored, codec := Compress(b, nil)
		p.Add(NameOf(b), stored, codec, len(b))
	}
	entries := p.Entries()
	id, body := p.Finish()
	return id, body, entries
}

// A pack is found by its last bytes alone.
func TestAPackDescribesItself(t *testing.T) {
	blocks := [][]byte{random(5000), bytes.Repeat([]byte("gate-07 "), 9000), random(1)}
	id, body, entries := pack(blocks...)
	again, err := ParsePackID(id.String())
	require.NoError(t, err)
	require.Equal(t, id, again)
	offset, length, err := DirectoryRange(body[len(body)-TailSize:], int64(len(body)))
	require.NoError(t, err)
	got, err := DecodeDirectory(id, body[offset:offset+length])
	require.NoError(t, err)
	require.Equal(t, entries, got)
	for i, e := range got {
		block, err := Expand(body[e.Offset:][:e.Stored], e.Codec, int(e.Size))
		require.NoError(t, err)
		require.Equal(t, blocks[i], block)
		require.Equal(t, e.Name, NameOf(block))
	}
	_, err = DecodeDirectory(PackID{}, body[offset:offset+length])
	require.ErrorIs(t, err, ErrDamaged)
	_, _, err = DirectoryRange(body[len(body)-TailSize:], TailSize)
	require.ErrorIs(t, err, ErrDamaged, "a directory larger than its pack")
	for _, bad := range []string{"", "zz", id.String() + "00", id.String()[:31] + "g", "../" + id.String()[3:]} {
		_, err := ParsePackID(bad)
		require.Error(t, err)
	}
}

func TestObjectsAndIndexes(t *testing.T) {
	one, _, a := pack(random(300), random(400))
	two, _, b := pack(random(500))
	payload := EncodeIndex([]PackDirectory{{one, a}, {two, b}})
	object := EncodeObject(IndexObject, payload)
	back, err := DecodeObject(IndexObject, object)
	require.NoError(t, err)
	got, err := DecodeIndex(back)
	require.NoError(t, err)
	require.Equal(t, []PackDirectory{{one, a}, {two, b}}, got)
	_, err = DecodeObject(ImageObject, object)
	require.ErrorContains(t, err, "kind")
	for i := range payload {
		if _, err := DecodeIndex(payload[:i]); i > 0 && i != 20+len(a)*EntrySize {
			require.ErrorIs(t, err, ErrDamaged, "cut at %d", i)
		}
	}
	for i := range object {
		flipped := bytes.Clone(object)
		flipped[i] ^= 1
		_, err := DecodeObject(IndexObject, flipped)
		require.ErrorIs(t, err, ErrDamaged)
	}
}

func FuzzDecodeIndex(f *testing.F) {
	id, _, entries := pack(random(300), []byte("x"))
	f.Add(EncodeIndex([]PackDirectory{{id, entries}}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if packs, err := DecodeIndex(b); err == nil {
			require.True(t, bytes.Equal(b, EncodeIndex(packs)))
		}
	})
}

func FuzzDecodeObject(f *testing.F) {
	f.Add(EncodeObject(ImageObject, []byte(`{"format": 1}`)))
	f.Add(EncodeObject(ImageObject, bytes.Repeat([]byte("a"), 1000)))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 45 {
			digest := NameOf(b[:len(b)-32]) // the fuzzer can't find digests
			copy(b[len(b)-32:], digest[:])
		}
		if payload, err := DecodeObject(ImageObject, b); err == nil {
			again, err := DecodeObject(ImageObject, EncodeObject(ImageObject, payload))
			require.NoError(t, err)
			require.True(t, bytes.Equal(payload, again))
		}
	})
}
