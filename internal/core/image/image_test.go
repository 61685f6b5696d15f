package image

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
)

// shelf keeps pieces and map blocks in memory, and counts what is asked of it.
type shelf struct {
	pieces map[chunk.Name][]byte
	gets   int
	kept   map[int]int
}

func newShelf() *shelf { return &shelf{pieces: map[chunk.Name][]byte{}, kept: map[int]int{}} }

func (s *shelf) PutMap(_ context.Context, body []byte) (chunk.Name, error) {
	n := nameOf(body)
	s.pieces[n] = bytes.Clone(body)
	return n, nil
}

// Keep counts what was kept whole, by height.
func (s *shelf) Keep(_ context.Context, n chunk.Name, height int) error {
	if _, ok := s.pieces[n]; !ok {
		return chunk.ErrDamaged
	}
	s.kept[height]++
	return nil
}

// nameOf is the name of a piece in a store that is not sealed.
func nameOf(piece []byte) chunk.Name {
	var plain *chunk.Seal
	return plain.Name(piece)
}

func (s *shelf) GetMap(_ context.Context, n chunk.Name) ([]byte, error) {
	s.gets++
	b, ok := s.pieces[n]
	if !ok {
		return nil, fmt.Errorf("piece %s: %w", n, chunk.ErrDamaged)
	}
	return b, nil
}

func (s *shelf) ReadParts(ctx context.Context, p []byte, parts []Wanted) error {
	for _, w := range parts {
		b, err := s.GetMap(ctx, w.Piece)
		if err == nil && copy(p[w.At:w.At+w.Length], b[min(w.From, int64(len(b))):]) < w.Length {
			err = fmt.Errorf("piece %s: %w: it is short", w.Piece, chunk.ErrDamaged)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

const unit = cut.Unit

// paint is a disk's content: what each unit is filled with, 0 for zeros. It costs little to make a large one.
type paint map[int64]byte

// parts cuts what is painted between units into pieces at random, stores them, and returns the ranges.
func (c paint) parts(s *shelf, rng *rand.Rand, at, end int64) (out []Part) {
	for at < end {
		if c[at] == 0 {
			at++
			continue
		}
		n := int64(1)
		for at+n < end && c[at+n] != 0 && n < 200 && rng.IntN(9) > 0 {
			n++
		}
		body := make([]byte, 0, n*unit)
		for i := range n {
			body = append(body, bytes.Repeat([]byte{c[at+i]}, unit)...)
		}
		name, _ := s.PutMap(context.Background(), body)
		out = append(out, Part{At: at, Units: n, Piece: name})
		at += n
	}
	return out
}

// disk is the content as a disk in memory.
func (c paint) disk(size int64) disk.Memory {
	m := make(disk.Memory, size)
	for at, b := range c {
		for i := at * unit; i < min(size, (at+1)*unit); i++ {
			m[i] = b
		}
	}
	return m
}

func build(t *testing.T, s *shelf, size int64, parts []Part) Disk {
	t.Helper()
	w := NewTreeWriter(s, size)
	for _, p := range parts {
		require.NoError(t, w.Set(t.Context(), p))
	}
	root, err := w.Finish(t.Context())
	require.NoError(t, err)
	return Disk{Target: "vda", Size: size, Map: root}
}

func requireSame(t *testing.T, s *shelf, d Disk, want disk.Disk, msg ...any) {
	t.Helper()
	r, err := NewReader(s, d)
	require.NoError(t, err)
	at, err := disk.FirstDifference(t.Context(), r, want)
	require.NoError(t, err)
	require.EqualValues(t, -1, at, msg...)
}

// Maps of every height give back what was put in, at edges of map blocks too.
func TestAMapGivesBackTheDisk(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	leaf := int64(leafUnits)
	for _, n := range []int64{1, 2, leaf - 1, leaf, leaf + 1, 3*leaf + 7, leaf*fanout - 1, leaf * fanout, leaf*fanout + 1, 5 * leaf * fanout, leaf*fanout*fanout + 5} {
		for name, at := range map[string][]int64{"nothing": {}, "the first": {0}, "the last": {n - 1}, "both ends": {0, n - 1}, "about the middle": {n / 2, min(n-1, n/2+1)}} {
			t.Run(fmt.Sprintf("%d units, %s", n, name), func(t *testing.T) {
				s, c := newShelf(), paint{}
				for i, u := range at {
					c[u] = byte(i + 1)
				}
				var parts []Part
				for i, u := range at {
					if i == 0 || u != at[i-1] {
						parts = append(parts, c.parts(s, rng, u, u+1)...)
					}
				}
				size := n*unit - 100
				d := build(t, s, size, parts)
				require.Equal(t, len(at) == 0, d.Map == "", "a disk of zeros has no map")
				r, err := NewReader(s, d)
				require.NoError(t, err)
				for u, b := range c {
					got := make([]byte, unit)
					k, err := r.ReadAt(got, u*unit)
					require.True(t, err == nil || err == io.EOF && u == n-1)
					require.Equal(t, bytes.Repeat([]byte{b}, k), got[:k], "unit %d", u)
				}
				sum, err := disk.Allocated(t.Context(), r)
				require.NoError(t, err)
				held, err := r.Held(t.Context(), 0, n)
				require.NoError(t, err)
				require.EqualValues(t, len(c)*unit, held)
				if c[n-1] != 0 {
					held -= 100
				}
				require.Equal(t, held, sum)
			})
		}
	}
}

// Reads at any offset and length agree with the disk in memory; those across the end are short, with io.EOF.
func TestReadsAnywhere(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 4))
	size := int64(2*leafUnits*unit + 1000)
	c := paint{}
	for range 900 {
		c[rng.Int64N(units(size))] = byte(1 + rng.IntN(255))
	}
	plain := c.disk(size)
	s := newShelf()
	d := build(t, s, size, c.parts(s, rng, 0, units(size)))
	requireSame(t, s, d, plain)
	r, err := NewReader(s, d)
	require.NoError(t, err)
	for range 2000 {
		off, n := rng.Int64N(size+10), rng.IntN(9*unit)
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

// Two disks that differ in one piece share all map blocks but those on the path to it.
func TestASmallChangeCostsAPath(t *testing.T) {
	s := newShelf()
	size := int64(5 * fanout * leafUnits * unit)
	piece, _ := s.PutMap(t.Context(), bytes.Repeat([]byte{1}, 64*unit))
	var parts []Part
	for at := int64(0); at < units(size); at += 640 {
		parts = append(parts, Part{At: at, Units: 64, Piece: piece})
	}
	build(t, s, size, parts)
	before := len(s.pieces)
	parts[len(parts)/2].Units = 63
	build(t, s, size, parts)
	require.Equal(t, before+3, len(s.pieces), "one leaf, one map block, the root")
}

func TestRangesMustRise(t *testing.T) {
	w := NewTreeWriter(newShelf(), 10*unit)
	name := nameOf([]byte("x"))
	require.NoError(t, w.Set(t.Context(), Part{At: 4, Units: 2, Piece: name}))
	for _, p := range []Part{{At: 5, Units: 1}, {At: 8, Units: 3}, {At: 10, Units: 1}, {At: 7}} {
		p.Piece = name
		require.ErrorContains(t, w.Set(t.Context(), p), "out of order", "%+v", p)
	}
}

// What goes on in the same piece is one range, whoever set it.
func TestRangesAreJoined(t *testing.T) {
	s := newShelf()
	name, _ := s.PutMap(t.Context(), bytes.Repeat([]byte{1}, 9*unit))
	apart := []Part{{At: 3, Units: 2, From: 1, Piece: name}, {At: 5, Units: 4, From: 3, Piece: name}, {At: 9, Units: 1, From: 8, Piece: name}, {At: 11, Units: 1, From: 8, Piece: name}}
	d := build(t, s, 100*unit, apart)
	require.Equal(t, build(t, s, 100*unit, []Part{{At: 3, Units: 6, From: 1, Piece: name}, {At: 9, Units: 1, From: 8, Piece: name}, {At: 11, Units: 1, From: 8, Piece: name}}).Map, d.Map)
	require.Equal(t, build(t, s, 100*unit, []Part{{At: 3, Units: 6, From: 1, Piece: name}, {At: 9, Units: 1, From: 7, Piece: name}}).Map, build(t, s, 100*unit, []Part{{At: 3, Units: 7, From: 1, Piece: name}}).Map)
}

// A walk visits everything with its range; a map block that is refused hides what hangs on it.
func TestAWalkVisitsAll(t *testing.T) {
	s := newShelf()
	leaf := int64(leafUnits)
	size := 2*leaf*unit + 100
	piece, _ := s.PutMap(t.Context(), bytes.Repeat([]byte{1}, 8*unit))
	d := build(t, s, size, []Part{{At: 0, Units: 2, Piece: piece}, {At: 5, Units: 3, From: 2, Piece: piece}, {At: leaf - 1, Units: 2, From: 4, Piece: piece}, {At: 2 * leaf, Units: 1, Piece: piece}})
	r, err := NewReader(s, d)
	require.NoError(t, err)
	var data, maps []Visit
	require.NoError(t, r.Walk(t.Context(), func(v Visit) error {
		if v.Height > 0 {
			maps = append(maps, v)
		} else {
			data = append(data, v)
		}
		return nil
	}))
	want := []Visit{{Offset: 0, Length: 2 * unit}, {Offset: 5 * unit, Length: 3 * unit, From: 2 * unit}, {Offset: (leaf - 1) * unit, Length: unit, From: 4 * unit}, {Offset: leaf * unit, Length: unit, From: 5 * unit}, {Offset: 2 * leaf * unit, Length: 100}}
	for i := range want {
		want[i].Name = piece
	}
	require.Equal(t, want, data)
	require.Len(t, maps, 4)
	require.Equal(t, []any{2, int64(0), size}, []any{maps[0].Height, maps[0].Offset, maps[0].Length})
	require.Equal(t, []any{1, 2 * leaf * unit, int64(100)}, []any{maps[3].Height, maps[3].Offset, maps[3].Length})
	n := 0
	require.NoError(t, r.Walk(t.Context(), func(Visit) error { n++; return ErrSkip }))
	require.Equal(t, 1, n)
	stop := errors.New("stop")
	require.ErrorIs(t, r.Walk(t.Context(), func(Visit) error { return stop }), stop)
}

// Of a disk with many levels, a walk and the map blocks as they lie tell the same ranges; each lies within what its map block spans.
func TestAWalkOfManyLevels(t *testing.T) {
	s := newShelf()
	const size = 3 * fanout * leafUnits * unit
	piece, _ := s.PutMap(t.Context(), bytes.Repeat([]byte{1}, 8*unit))
	want := map[int64]int64{}
	var parts []Part
	for at := int64(7); at < size/unit-8; at += 5 * leafUnits {
		parts = append(parts, Part{At: at, Units: 8, Piece: piece})
		want[at*unit] = 8 * unit
		if next := (at/leafUnits + 1) * leafUnits; next < at+8 {
			want[at*unit], want[next*unit] = (next-at)*unit, (at+8-next)*unit
		}
	}
	d := build(t, s, size, parts)
	require.Equal(t, 3, d.Height())
	r, err := NewReader(s, d)
	require.NoError(t, err)
	got, over := map[int64]int64{}, map[int]Visit{}
	require.NoError(t, r.Walk(t.Context(), func(v Visit) error {
		if up, ok := over[v.Height+1]; ok {
			require.GreaterOrEqual(t, v.Offset, up.Offset)
			require.LessOrEqual(t, v.Offset+v.Length, up.Offset+up.Length)
		}
		if over[v.Height] = v; v.Height == 0 {
			got[v.Offset] = v.Length
		}
		return nil
	}))
	require.Equal(t, want, got)
	clear(got)
	var walk func(name chunk.Name, height int, at int64)
	walk = func(name chunk.Name, height int, at int64) {
		body, err := s.GetMap(t.Context(), name)
		require.NoError(t, err)
		require.NoError(t, Children(body, height, at, func(v Visit) error {
			if v.Height == 0 {
				got[v.Offset] = v.Length
				return nil
			}
			require.Equal(t, Span(height-1), v.Length)
			walk(v.Name, v.Height, v.Offset)
			return nil
		}))
	}
	root, err := d.Root()
	require.NoError(t, err)
	walk(root, 3, 0)
	require.Equal(t, want, got)
	delete(s.pieces, piece)
	n, err := r.ReadAt(make([]byte, 100), 7*unit)
	require.Error(t, err)
	require.Zero(t, n)
}

// What a damaged or hostile store gives is an error, never a wrong byte or a crash.
func TestDamagedMaps(t *testing.T) {
	s := newShelf()
	c := paint{0: 1, leafUnits + 3: 2}
	d := build(t, s, 3*leafUnits*unit, c.parts(s, rand.New(rand.NewPCG(1, 1)), 0, 3*leafUnits))
	for name, was := range s.pieces {
		for how, becomes := range map[string][]byte{"odd": was[:len(was)-1], "long": bytes.Repeat(was, fanout*2+1), "other": bytes.Repeat([]byte{0xff}, len(was)), "none": nil} {
			if s.pieces[name] = becomes; becomes == nil {
				delete(s.pieces, name)
			}
			r, err := NewReader(s, d)
			require.NoError(t, err)
			_, one := r.ReadAt(make([]byte, unit), 0)
			_, two := r.ReadAt(make([]byte, unit), (leafUnits+3)*unit)
			if len(was) < unit || how == "odd" || how == "none" { // what a piece holds is the store's to verify
				require.ErrorIs(t, errors.Join(one, two), chunk.ErrDamaged, how)
			}
		}
		s.pieces[name] = was
	}
	entry := func(at, n, from uint16) []byte {
		return append(binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, at), n), from), bytes.Repeat([]byte{7}, 32)...)
	}
	_, err := decodeParts(append(entry(0, 4, 0), entry(4, leafUnits-4, 0)...), 0)
	require.ErrorIs(t, err, chunk.ErrDamaged, "more than a piece may have")
	_, err = decodeParts(append(entry(0, 4, 0), entry(4, 200, 56)...), 0)
	require.NoError(t, err)
	for why, body := range map[string][]byte{"order": append(entry(4, 2, 0), entry(5, 1, 0)...), "nothing": entry(0, 0, 0), "over the end": entry(leafUnits-1, 2, 0), "zeros": append(entry(0, 1, 0)[:6], make([]byte, 32)...), "part": entry(0, 1, cut.MaxPiece/unit)} {
		_, err := decodeParts(body, 0)
		require.ErrorIs(t, err, chunk.ErrDamaged, why)
		err = Children(body, 1, 0, func(Visit) error { return nil })
		require.ErrorIs(t, err, chunk.ErrDamaged, why)
	}
}

func good() *Manifest {
	return &Manifest{Format: Format, ID: "abcdefgh23", Machine: "tickets-db", Policy: "nightly-guests", Taken: time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC),
		Scope: "machine", Capture: "full", Consistency: FileSystem, Frozen: 300 * time.Millisecond, Hypervisor: "quay-1", Definition: "<domain/>",
		Disks: []Disk{{Target: "vda", Size: 1 << 30, Format: "qcow2", Map: strings.Repeat("ab", 32)}}, Program: "test"}
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

// What firmware keeps comes back, is given for what it is only, and no length that it claims is believed.
func TestFirmware(t *testing.T) {
	m, variables := good(), bytes.Repeat([]byte{0xff, 1, 2}, 180_224)
	m.Firmware = []Firmware{NewFirmware(UEFIVariables, variables), {Kind: TPMState, Left: NotSealed}}
	object, err := m.Encode()
	require.NoError(t, err)
	require.Less(t, len(object), 8<<10)
	m, err = Decode(object)
	require.NoError(t, err)
	got, err := m.FirmwareOf(UEFIVariables)
	require.NoError(t, err)
	require.Equal(t, variables, got)
	got, err = m.FirmwareOf(TPMState)
	require.NoError(t, err)
	require.Nil(t, got)
	largest := NewFirmware(UEFIVariables, make([]byte, MaxFirmware))
	_, err = largest.Bytes()
	require.NoError(t, err)
	bomb := NewFirmware(UEFIVariables, make([]byte, 64<<20))
	shorter, longer, cut, text := largest, largest, largest, largest
	shorter.Size, longer.Size, cut.Content, text.Content = largest.Size-1, largest.Size+1, largest.Content[:9], []byte("variables")
	for _, f := range []Firmware{bomb, shorter, longer, cut, text, {Kind: UEFIVariables}} {
		_, err := f.Bytes()
		require.ErrorIs(t, err, chunk.ErrDamaged)
	}
}

// An incremental map takes over whole map blocks, reads none of the data, and equals the map of the same ranges in full.
func TestKeepTakesOverWhatDidNotChange(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	whole, high := 0, 0
	for round := range 40 {
		s := newShelf()
		n := 1 + rng.Int64N([]int64{3, 5 * fanout}[round%2]*leafUnits)
		size := n*unit - rng.Int64N(unit)
		piece, _ := s.PutMap(t.Context(), bytes.Repeat([]byte{byte(round)}, 64*unit))
		var ranges []Part
		for at := rng.Int64N(50); at < n; at += 1 + rng.Int64N(40) {
			p := Part{At: at, Units: min(n-at, 1+rng.Int64N(40)), From: rng.Int64N(20), Piece: piece}
			ranges = append(ranges, p)
			at = p.End()
			if rng.IntN(30) == 0 {
				at += rng.Int64N(3 * leafUnits)
			}
		}
		base, err := NewReader(s, build(t, s, size, ranges))
		require.NoError(t, err)
		other, _ := s.PutMap(t.Context(), bytes.Repeat([]byte{99}, 64*unit))
		w := NewTreeWriter(s, size)
		var want []Part
		for at := int64(0); at < n; {
			keep := min(n-at, rng.Int64N([]int64{100, 2 * leafUnits, 3 * fanout * leafUnits}[rng.IntN(3)]))
			if keep > 0 {
				require.NoError(t, w.Keep(t.Context(), base, at, keep))
				for _, p := range ranges {
					if p.End() > at && p.At < at+keep {
						want = append(want, p.clip(at, at+keep))
					}
				}
			}
			if at += keep; at < n && rng.IntN(2) == 0 {
				p := Part{At: at, Units: min(n-at, 1+rng.Int64N(60)), Piece: other}
				require.NoError(t, w.Set(t.Context(), p))
				want = append(want, p)
				at = p.End()
			} else {
				at += rng.Int64N(50) // zeros since
			}
		}
		root, err := w.Finish(t.Context())
		require.NoError(t, err)
		require.Equal(t, build(t, s, size, want).Map, root, "round %d of %d units", round, n)
		whole, high = whole+s.kept[1], high+s.kept[2]
		far, err := NewReader(s, Disk{Target: "vda", Size: size * fanout * fanout})
		require.NoError(t, err)
		require.ErrorContains(t, NewTreeWriter(s, size).Keep(t.Context(), far, 0, 1), fmt.Sprintf("a map of %d levels can't be taken into one of %d", height(far.Size()), height(size)))
	}
	require.Greater(t, whole, 10, "leaves taken over as they are")
	require.Greater(t, high, 1, "and more than leaves")
}

// What did not change at all is taken over by one name, and two maps are compared without a look at what is the same.
func TestTheWholeIsKeptAtOnce(t *testing.T) {
	s := newShelf()
	size := int64(2*fanout*leafUnits*unit + 5*unit)
	piece, _ := s.PutMap(t.Context(), bytes.Repeat([]byte{1}, 64*unit))
	var ranges []Part
	for at := int64(0); at+100 < units(size); at += 300 {
		ranges = append(ranges, Part{At: at, Units: 64, Piece: piece})
	}
	ranges = append(ranges, Part{At: units(size) - 2, Units: 2, Piece: piece})
	d := build(t, s, size, ranges)
	base, err := NewReader(s, d)
	require.NoError(t, err)
	s.gets, s.kept = 0, map[int]int{}
	w := NewTreeWriter(s, size)
	require.NoError(t, w.Keep(t.Context(), base, 0, units(size)))
	root, err := w.Finish(t.Context())
	require.NoError(t, err)
	require.Equal(t, d.Map, root)
	require.Equal(t, map[int]int{1: 0, 2: 3}, map[int]int{1: s.kept[1], 2: s.kept[2]}, "the last one, which is not full, too")
	require.Equal(t, 1, s.gets, "the root")

	held, err := base.Held(t.Context(), 100, 400)
	require.NoError(t, err)
	require.EqualValues(t, 64*unit, held, "of 100 to 500 only 300 to 364")
}

func TestKinds(t *testing.T) {
	for i, l := range Levels {
		for k, o := range Levels {
			require.Equal(t, i >= k, l.AtLeast(o))
		}
		require.False(t, l.AtLeast("dream"))
		require.False(t, Level("dream").AtLeast(l))
	}
	require.False(t, Level("dream").AtLeast("dream"))
}

func TestManifestsThatMakeNoSense(t *testing.T) {
	for why, spoil := range map[string]func(*Manifest){
		"id":             func(m *Manifest) { m.ID = "../../etc" },
		"machine":        func(m *Manifest) { m.Machine = "" },
		"size":           func(m *Manifest) { m.Disks[0].Size = -1 },
		"map":            func(m *Manifest) { m.Disks[0].Map = "12" },
		"map not digits": func(m *Manifest) { m.Disks[0].Map = strings.Repeat("zz", 32) },
		"target":         func(m *Manifest) { m.Disks[0].Target = "../../../dev/vda" },
		"no target":      func(m *Manifest) { m.Disks[0].Target = "" },
		"one name twice": func(m *Manifest) { m.Disks = append(m.Disks, m.Disks[0]) },
		"a huge disk":    func(m *Manifest) { m.Disks[0].Size = MaxDisk + 1 },
		"much firmware":  func(m *Manifest) { m.Firmware = make([]Firmware, mostFirmware+1) },
		"many disks":     func(m *Manifest) { m.Disks = make([]Disk, mostDisks+1) },
		"a file's size":  func(m *Manifest) { m.Disks[0] = Disk{Target: "vda", File: "vda.qcow2", Size: -1} },
		"a file's name":  func(m *Manifest) { m.Disks[0] = Disk{Target: "vda", File: "../vda.qcow2"} },
		"a base's name": func(m *Manifest) {
			m.Base, m.Disks[0] = "abcdefgh24", Disk{Target: "vda", File: "vda.qcow2", LeansOn: "/etc/passwd"}
		},
		"a base of none": func(m *Manifest) { m.Disks[0] = Disk{Target: "vda", File: "vda.qcow2", LeansOn: "vda-1.qcow2"} },
	} {
		m := good()
		spoil(m)
		object, err := m.Encode()
		require.NoError(t, err)
		_, err = Decode(object)
		require.ErrorIs(t, err, chunk.ErrDamaged, why)
	}
	for _, d := range []Disk{{Target: "vda"}, {Target: "vda", File: "vda.qcow2"}, {Target: "vda", File: "vda.qcow2", LeansOn: "vda-1.qcow2"}} {
		m := good()
		m.Base, m.Disks[0] = "abcdefgh24", d
		object, err := m.Encode()
		require.NoError(t, err)
		_, err = Decode(object)
		require.NoError(t, err, "%+v", d)
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
