package image

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
)

// shelf keeps blocks in memory and counts what is asked of it.
type shelf struct {
	blocks map[chunk.Name][]byte
	gets   int
	kept   map[int]int
}

func newShelf() *shelf { return &shelf{blocks: map[chunk.Name][]byte{}, kept: map[int]int{}} }

func (s *shelf) Put(_ context.Context, block []byte) (chunk.Name, error) {
	n := nameOf(block)
	s.blocks[n] = bytes.Clone(block)
	return n, nil
}

// kept counts what was kept whole, by height.
func (s *shelf) Keep(_ context.Context, n chunk.Name, height int) error {
	if _, ok := s.blocks[n]; !ok {
		return chunk.ErrDamaged
	}
	s.kept[height]++
	return nil
}

// nameOf is the name of a block in a store that is not sealed.
func nameOf(block []byte) chunk.Name {
	var plain *chunk.Seal
	return plain.Name(block)
}

func (s *shelf) Get(_ context.Context, n chunk.Name) ([]byte, error) {
	s.gets++
	b, ok := s.blocks[n]
	if !ok {
		return nil, fmt.Errorf("block %s: %w", n, chunk.ErrDamaged)
	}
	return b, nil
}

const small = 4096 // a block size that makes trees high at little cost

// build stores a disk given by the content of some of its blocks.
func build(t *testing.T, s *shelf, size int64, content map[int64][]byte) Disk {
	t.Helper()
	w := NewTreeWriter(s, size, small)
	for i := int64(0); i < blocks(size, small); i++ {
		if c, ok := content[i]; ok {
			name, err := s.Put(t.Context(), c)
			require.NoError(t, err)
			require.NoError(t, w.Set(t.Context(), i, name))
		}
	}
	root, err := w.Finish(t.Context())
	require.NoError(t, err)
	return Disk{Target: "vda", Size: size, BlockSize: small, Map: root}
}

func fill(b byte) []byte { return bytes.Repeat([]byte{b}, small) }

// Trees of every height give back what was put in, at edges of map blocks too.
func TestATreeGivesBackTheDisk(t *testing.T) {
	for _, n := range []int64{1, 2, Fanout - 1, Fanout, Fanout + 1, 3*Fanout + 7, Fanout*Fanout + 5} {
		for name, at := range map[string][]int64{"nothing": {}, "the first": {0}, "the last": {n - 1}, "both ends": {0, n - 1}, "about the middle": {n / 2, min(n-1, n/2+1)}} {
			t.Run(fmt.Sprintf("%d blocks, %s", n, name), func(t *testing.T) {
				s := newShelf()
				content := map[int64][]byte{}
				for i, b := range at {
					content[b] = fill(byte(i + 1))
				}
				// Setting every block of a large disk is slow for nothing: only those with content are set.
				w := NewTreeWriter(s, n*small, small)
				for _, b := range at {
					if b >= w.next {
						name, err := s.Put(t.Context(), content[b])
						require.NoError(t, err)
						require.NoError(t, w.Set(t.Context(), b, name))
					}
				}
				root, err := w.Finish(t.Context())
				require.NoError(t, err)
				require.Equal(t, len(at) == 0, root == "", "a disk of zeros has no map")
				r, err := NewReader(s, Disk{Target: "vda", Size: n * small, BlockSize: small, Map: root})
				require.NoError(t, err)
				for b, c := range content {
					got := make([]byte, small)
					_, err := r.ReadAt(got, b*small)
					require.NoError(t, err)
					require.True(t, bytes.Equal(c, got), "block %d", b)
				}
				sum, err := disk.Allocated(t.Context(), r)
				require.NoError(t, err)
				require.EqualValues(t, len(content)*small, sum)
			})
		}
	}
}

// Reads at any offset and length agree with the disk in memory; those across the end are short, with io.EOF.
func TestReadsAnywhere(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 4))
	size := int64(3*Fanout*small + 1000)
	plain := make(disk.Memory, size)
	content := map[int64][]byte{}
	for range 400 {
		b := rng.Int64N(blocks(size, small))
		content[b] = fill(byte(1 + rng.IntN(255)))
		copy(plain[b*small:], content[b])
	}
	s := newShelf()
	r, err := NewReader(s, build(t, s, size, content))
	require.NoError(t, err)
	for range 2000 {
		off, n := rng.Int64N(size+10), rng.IntN(3*small)
		one, two := make([]byte, n), make([]byte, n)
		a, errA := r.ReadAt(one, off)
		b, errB := plain.ReadAt(two, off)
		if n == 0 {
			continue
		}
		require.Equal(t, b, a, "read %d at %d of %d", n, off, size)
		require.Equal(t, errB == io.EOF, errA == io.EOF)
		require.True(t, bytes.Equal(two[:b], one[:a]))
	}
	_, err = r.ReadAt(make([]byte, 1), -1)
	require.Error(t, err)
}

// Two disks that differ in one block share all map blocks but those on the path to it.
func TestASmallChangeCostsAPath(t *testing.T) {
	s := newShelf()
	size := int64(5 * Fanout * small)
	content := map[int64][]byte{}
	for i := int64(0); i < 5*Fanout; i++ {
		content[i] = fill(byte(1 + i%7))
	}
	build(t, s, size, content)
	before := len(s.blocks)
	content[2*Fanout+9] = fill(200)
	build(t, s, size, content)
	require.Equal(t, before+3, len(s.blocks), "the block, one map block, the root")
}

func TestBlocksMustRise(t *testing.T) {
	w := NewTreeWriter(newShelf(), 10*small, small)
	require.NoError(t, w.Set(t.Context(), 4, nameOf([]byte("x"))))
	require.ErrorContains(t, w.Set(t.Context(), 4, chunk.Name{}), "out of order")
	require.ErrorContains(t, w.Set(t.Context(), 10, chunk.Name{}), "out of order")
}

// A walk visits every block with its range; a map block that is refused hides what hangs on it.
func TestNamesVisitsAll(t *testing.T) {
	s := newShelf()
	size := int64(2*Fanout*small + 100)
	d := build(t, s, size, map[int64][]byte{0: fill(1), 5: fill(1), Fanout: fill(2), 2 * Fanout: fill(3)})
	r, err := NewReader(s, d)
	require.NoError(t, err)
	var data, maps []int64
	var last int64
	require.NoError(t, r.Names(t.Context(), func(_ chunk.Name, isMap bool, off, n int64) error {
		if isMap {
			maps = append(maps, off)
		} else {
			data, last = append(data, off), n
		}
		return nil
	}))
	require.Equal(t, []int64{0, 5 * small, Fanout * small, 2 * Fanout * small}, data)
	require.EqualValues(t, 100, last, "the end of the disk")
	require.Len(t, maps, 4)
	n := 0
	require.NoError(t, r.Names(t.Context(), func(chunk.Name, bool, int64, int64) error { n++; return ErrSkip }))
	require.Equal(t, 1, n)
	stop := errors.New("stop")
	require.ErrorIs(t, r.Names(t.Context(), func(chunk.Name, bool, int64, int64) error { return stop }), stop)
}

// What a damaged or hostile store gives is an error, never a wrong byte or a crash.
func TestDamagedTrees(t *testing.T) {
	s := newShelf()
	d := build(t, s, 3*Fanout*small, map[int64][]byte{0: fill(1), Fanout + 3: fill(2)})
	for name := range s.blocks {
		was := s.blocks[name]
		for how, becomes := range map[string][]byte{"odd": was[:len(was)-1], "empty": {}, "long": bytes.Repeat(was, Fanout+1)} {
			s.blocks[name] = becomes
			r, err := NewReader(s, d)
			require.NoError(t, err)
			_, one := r.ReadAt(make([]byte, 1), 0)
			_, two := r.ReadAt(make([]byte, 1), (Fanout+3)*small)
			if how != "empty" { // an empty map block means zeros, and a real store refuses it by its name
				require.ErrorIs(t, errors.Join(one, two), chunk.ErrDamaged, how)
			}
		}
		delete(s.blocks, name)
		r, err := NewReader(s, d)
		require.NoError(t, err)
		_, one := r.ReadAt(make([]byte, 1), 0)
		_, two := r.ReadAt(make([]byte, 1), (Fanout+3)*small)
		require.ErrorIs(t, errors.Join(one, two), chunk.ErrDamaged)
		s.blocks[name] = was
	}
}

func good() *Manifest {
	return &Manifest{Format: Format, ID: "abcdefgh23", Machine: "tickets-db", Policy: "nightly-guests", Taken: time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC),
		Scope: "machine", Capture: "full", Consistency: FileSystem, Frozen: 300 * time.Millisecond, Hypervisor: "quay-1", Definition: "<domain/>",
		Disks: []Disk{{Target: "vda", Size: 1 << 30, Format: "qcow2", BlockSize: 131072, Map: strings.Repeat("ab", 32)}}, Program: "test"}
}

func TestAManifestComesBack(t *testing.T) {
	object, err := good().Encode()
	require.NoError(t, err)
	again, err := Decode(object)
	require.NoError(t, err)
	require.Equal(t, good(), again)
	for i := range object { // flipped bytes are the envelope's to find
		_, err = Decode(object[:i])
		require.ErrorIs(t, err, chunk.ErrDamaged, "cut at %d", i)
	}
}

// An incremental tree takes over whole map blocks, reads none of the data, and equals the tree of the same disk in full.
func TestKeepTakesOverWhatDidNotChange(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	whole := 0
	for round := range 20 {
		s := newShelf()
		n := 1 + rng.Int64N(5*Fanout)
		size := n*small - rng.Int64N(small)
		content := map[int64][]byte{}
		for range rng.IntN(3000) {
			content[rng.Int64N(n)] = fill(byte(1 + rng.IntN(255)))
		}
		base, err := NewReader(s, build(t, s, size, content))
		require.NoError(t, err)
		w := NewTreeWriter(s, size, small)
		at := int64(0)
		for at < n {
			keep := min(n-at, rng.Int64N(2*Fanout))
			if keep > 0 {
				require.NoError(t, w.Keep(t.Context(), base, at, keep))
			}
			if at += keep; at < n {
				content[at] = fill(byte(1 + rng.IntN(255)))
				name, err := s.Put(t.Context(), content[at])
				require.NoError(t, err)
				require.NoError(t, w.Set(t.Context(), at, name))
				at++
			}
		}
		root, err := w.Finish(t.Context())
		require.NoError(t, err)
		require.Equal(t, build(t, s, size, content).Map, root, "round %d", round)
		whole += s.kept[1]
		other, err := NewReader(s, Disk{Target: "vda", Size: size + Fanout*small*Fanout, BlockSize: small})
		require.NoError(t, err)
		require.Error(t, NewTreeWriter(s, size, small).Keep(t.Context(), other, 0, 1), "another size")
	}
	require.Greater(t, whole, 10, "map blocks taken over as they are")
}

func TestManifestsThatMakeNoSense(t *testing.T) {
	for why, spoil := range map[string]func(*Manifest){
		"id":             func(m *Manifest) { m.ID = "../../etc" },
		"machine":        func(m *Manifest) { m.Machine = "" },
		"size":           func(m *Manifest) { m.Disks[0].Size = -1 },
		"block size":     func(m *Manifest) { m.Disks[0].BlockSize = 100_000 },
		"no block size":  func(m *Manifest) { m.Disks[0].BlockSize = 0 },
		"huge blocks":    func(m *Manifest) { m.Disks[0].BlockSize = 1 << 30 },
		"map":            func(m *Manifest) { m.Disks[0].Map = "12" },
		"map not digits": func(m *Manifest) { m.Disks[0].Map = strings.Repeat("zz", 32) },
	} {
		m := good()
		spoil(m)
		object, err := m.Encode()
		require.NoError(t, err)
		_, err = Decode(object)
		require.ErrorIs(t, err, chunk.ErrDamaged, why)
	}
	m := good()
	m.Format = Format + 1
	object, err := m.Encode()
	require.NoError(t, err)
	_, err = Decode(object)
	require.ErrorIs(t, err, ErrTooNew)
}

func TestNewIDsDiffer(t *testing.T) {
	seen := map[string]bool{}
	for range 10_000 {
		id := NewID()
		require.Regexp(t, idForm, id)
		require.False(t, seen[id])
		seen[id] = true
	}
}

func FuzzDecode(f *testing.F) {
	object, err := good().Encode()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(object)
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := Decode(b); err == nil {
			_, err := m.Encode()
			require.NoError(t, err)
		}
	})
}
