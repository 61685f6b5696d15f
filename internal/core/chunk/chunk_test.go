package chunk

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/DataDog/zstd"
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
	bomb, err := zstd.CompressLevel(nil, make([]byte, 64<<20), 1)
	require.NoError(t, err)
	require.Less(t, len(bomb), 1<<20)
	_, err = Expand(bomb, Zstd, MaxBlock)
	require.ErrorIs(t, err, ErrDamaged)
	_, err = ExpandAny(bomb, Zstd)
	require.ErrorIs(t, err, ErrDamaged)
	_, err = ExpandAny([]byte("no frame"), Zstd)
	require.ErrorIs(t, err, ErrDamaged)
}

var secret = Secret{1, 2, 3}

// seals are the two kinds of store.
var seals = map[string]*Seal{"plain": nil, "sealed": NewSeal(secret)}

func makePack(seal *Seal, blocks ...[]byte) (PackID, []byte, []Entry) {
	p := NewPack(seal, NewPackID(), nil)
	for _, b := range blocks {
		stored, codec := Compress(b, nil)
		p.Add(seal.Name(b), stored, codec, len(b))
	}
	return p.ID(), p.Finish(), p.Entries()
}

// A pack is found by its last bytes alone, and every byte of it is watched.
func TestAPackDescribesItself(t *testing.T) {
	blocks := [][]byte{random(5000), bytes.Repeat([]byte("gate-07 "), 9000), random(1)}
	for kind, seal := range seals {
		t.Run(kind, func(t *testing.T) {
			id, body, entries := makePack(seal, blocks...)
			again, err := ParsePackID(id.String())
			require.NoError(t, err)
			require.Equal(t, id, again)
			require.Equal(t, seal == nil, bytes.Contains(body, []byte("gate-07 ")), "the first bytes of a frame are literals")
			read := func(id PackID, body []byte) (Directory, error) {
				tail := body[len(body)-TailSize:]
				offset, length, err := DirectoryRange(seal, tail, int64(len(body)))
				if err != nil {
					return Directory{}, err
				}
				return ReadDirectory(seal, id, offset, body[offset:offset+length], tail)
			}
			d, err := read(id, body)
			require.NoError(t, err)
			require.Equal(t, len(entries), d.Len())
			own := seal.Pack(id)
			for i := range d.Len() {
				e := d.Entry(i)
				require.Equal(t, entries[i], e)
				block, _, err := ReadBlock(seal, own, e, body[e.Offset:][:e.Stored])
				require.NoError(t, err)
				require.Equal(t, blocks[i], block)
			}
			_, err = read(NewPackID(), body)
			require.ErrorIs(t, err, ErrDamaged, "under another's name")
			for i := range body {
				flipped := bytes.Clone(body)
				flipped[i] ^= 1
				d, err := read(id, flipped)
				for j := 0; err == nil && j < d.Len(); j++ {
					e := d.Entry(j)
					_, _, err = ReadBlock(seal, own, e, flipped[e.Offset:][:e.Stored])
				}
				require.ErrorIs(t, err, ErrDamaged, "byte %d", i)
			}
			for _, n := range []int{0, 10, TailSize, len(body) / 2, len(body) - 1} {
				if n >= TailSize {
					_, err = read(id, body[:n])
					require.ErrorIs(t, err, ErrDamaged, "cut at %d", n)
				}
			}
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
	payload := AppendIndex(AppendIndex(nil, one, 1000, a), two, 2000, b)
	for kind, seal := range seals {
		object := EncodeObject(seal, IndexObject, "index/1", payload)
		back, err := DecodeObject(seal, IndexObject, "index/1", object)
		require.NoError(t, err, kind)
		require.Equal(t, payload, back)
		require.Equal(t, seal == nil, bytes.Contains(object, a[0].Name[:]), "a sealed index tells no names")
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
		ids, lengths, count = append(ids, d.Pack), append(lengths, length), count+d.Len()
		return nil
	}))
	require.Equal(t, []PackID{one, two}, ids)
	require.Equal(t, []int64{1000, 2000}, lengths)
	require.Equal(t, 3, count)
	for i := range payload {
		if err := WalkIndex(payload[:i], func(Directory, int64) error { return nil }); i > 0 && i != 24+len(a)*EntrySize {
			require.ErrorIs(t, err, ErrDamaged, "cut at %d", i)
		}
	}
}

// A key opens with what it was made for and with nothing else.
func TestKeys(t *testing.T) {
	const work = 10 // a strong one takes a second each time
	me, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	stranger, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	byWords, err := WrapForPassphrase(secret, "ebb and flow at the pier", work)
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
	_, err = WrapForPassphrase(secret, "  ", work)
	require.Error(t, err)
	_, err = WrapForRecipients(secret, "age1nobody")
	require.Error(t, err)
	require.NotEqual(t, NewSeal(secret).Check(), NewSeal(Secret{}).Check())
}

func FuzzWalkIndex(f *testing.F) {
	id, _, entries := makePack(nil, random(300), []byte("x"))
	f.Add(AppendIndex(nil, id, 500, entries))
	f.Fuzz(func(t *testing.T, b []byte) {
		var again []byte
		err := WalkIndex(b, func(d Directory, length int64) error {
			entries := make([]Entry, d.Len())
			for i := range entries {
				entries[i] = d.Entry(i)
			}
			again = AppendIndex(again, d.Pack, length, entries)
			return nil
		})
		if err == nil {
			require.True(t, bytes.Equal(b, again))
		}
	})
}

func FuzzPack(f *testing.F) {
	id, body, _ := makePack(nil, random(300), bytes.Repeat([]byte("x"), 5000))
	f.Add(body)
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) < TailSize {
			return
		}
		tail := b[len(b)-TailSize:]
		offset, length, err := DirectoryRange(nil, tail, int64(len(b)))
		if err != nil {
			return
		}
		digest := directoryDigest(nil, id, b[offset:offset+length]) // the fuzzer can't find digests
		copy(tail[12:], digest[:])
		d, err := ReadDirectory(nil, id, offset, b[offset:offset+length], tail)
		for i := 0; err == nil && i < d.Len(); i++ {
			e := d.Entry(i)
			if end := int64(e.Offset) + int64(e.Stored); end <= offset {
				if block, _, err := ReadBlock(nil, nil, e, b[e.Offset:end]); err == nil {
					require.True(t, e.Size == 0 || len(block) == int(e.Size))
				}
			}
		}
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
	key, err := WrapForPassphrase(secret, "x", 1)
	require.NoError(f, err)
	f.Add(key)
	f.Fuzz(func(t *testing.T, key string) {
		if strings.Contains(key, "scrypt") {
			return // each guess may cost a second by design
		}
		Unwrap(key, Opener{Passphrase: "x", Identity: "AGE-SECRET-KEY-1"})
	})
}
