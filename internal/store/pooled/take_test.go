package pooled

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// shelfOf makes a store in memory that cuts as all others of these tests do.
func shelfOf(t testing.TB, sealed *chunk.Secret) (*Store, *mediumtest.Memory) {
	m := &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
	var keys []store.NewKey
	if sealed != nil {
		keys = append(keys, store.NewKey{Label: "safe", Passphrase: passphrase})
	}
	s, err := Make(context.Background(), m, moment, cut.Default(7), sealed, keys...)
	require.NoError(t, err)
	s.packTarget = 256 << 10
	return s, m
}

// taken has a store take an image over, since an older one of which it has a copy, and tells how much it read and what it sent.
func taken(ctx context.Context, to, from *Store, m, older, copied *image.Manifest) (out *image.Manifest, read, stored int64, err error) {
	id := image.NewID()
	w, err := to.Begin(ctx, &image.Manifest{ID: id}, store.WriteOptions{Program: "test"})
	if err != nil {
		return nil, 0, 0, err
	}
	defer func() { err = errors.Join(err, w.End(ctx, err)) }()
	var count store.Progress
	out, err = w.(store.Taker).Take(ctx, store.Taking{From: from, Image: m, Older: older, Copy: copied, Count: &count})
	if err != nil {
		return nil, count.Read.Load(), 0, err
	}
	out.ID = id
	if err = w.Flush(ctx); err == nil {
		err = w.Finish(ctx, out)
	}
	_, stored = w.Written()
	return out, count.Read.Load(), stored, err
}

// storeImage stores a disk as a backup does.
func storeImage(t testing.TB, s *Store, d disk.Disk, base *image.Manifest) *image.Manifest {
	m := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment, Program: "test"}
	w, err := s.Begin(t.Context(), m, store.WriteOptions{Program: "test"})
	require.NoError(t, err)
	var older *store.OlderDisk
	if base != nil {
		older = &store.OlderDisk{Desc: base.Disks[0]}
	}
	var count store.Progress
	out, err := w.Disk(t.Context(), "vda", "raw", d, older, &count)
	require.NoError(t, err)
	m.Disks = []image.Disk{out}
	require.NoError(t, w.Flush(t.Context()))
	require.NoError(t, w.Finish(t.Context(), m))
	require.NoError(t, w.End(t.Context(), nil))
	return m
}

func requireDisk(t testing.TB, s *Store, m *image.Manifest, want disk.Disk) {
	t.Helper()
	_, err := s.ReadBack(t.Context(), m, func(int64) {})
	require.NoError(t, err)
	at, err := firstDifference(s, m.ID, want)
	require.NoError(t, err)
	require.EqualValues(t, -1, at)
}

// Between stores with any keys an image comes over whole, what is there already does not travel, and what is made of a chain of changes costs what changed.
func TestTakenImagesAreWhole(t *testing.T) {
	other := chunk.Secret{9, 9, 9}
	for _, k := range []struct {
		name     string
		from, to *chunk.Secret
	}{{"plain to plain", nil, nil}, {"plain to sealed", nil, &secret}, {"sealed to plain", &secret, nil}, {"one secret", &secret, &secret}, {"two secrets", &secret, &other}} {
		t.Run(k.name, func(t *testing.T) {
			t.Parallel()
			rng := rand.New(rand.NewPCG(20, 3))
			from, _ := shelfOf(t, k.from)
			to, shelf := shelfOf(t, k.to)
			can, equally := to.Exchanges(from)
			require.True(t, can)
			require.Equal(t, k.name == "plain to plain" || k.name == "one secret", equally)
			// Half of it can be compressed, so that frames of both kinds travel.
			d := randomDisk(rng, 9<<20+123)
			for i := range len(d) / 2 {
				d[i] &= 3
			}
			disks, images := []disk.Memory{d}, []*image.Manifest{storeImage(t, from, d, nil)}
			for range 3 {
				next := slices.Clone(disks[len(disks)-1])
				for range 4 {
					at := rng.IntN(len(next) - 5000)
					copy(next[at:], []byte("tickets are sold at the pier"))
				}
				var read atomic.Int64
				c := changed{Memory: next, extents: extentsSince(disks[len(disks)-1], next), read: &read}
				disks, images = append(disks, next), append(images, storeImage(t, from, c, images[len(images)-1]))
			}
			first, _, stored, err := taken(t.Context(), to, from, images[0], nil, nil)
			require.NoError(t, err)
			require.Positive(t, stored)
			requireDisk(t, reopen(t, shelf, k.to), first, disks[0])

			_, _, again, err := taken(t.Context(), to, from, images[0], nil, nil)
			require.NoError(t, err)
			require.Zero(t, again, "it is all there")

			last, read, few, err := taken(t.Context(), to, from, images[3], images[0], first)
			require.NoError(t, err)
			require.Less(t, few, stored/2)
			require.Less(t, read, stored/2, "and no more is read")
			requireDisk(t, reopen(t, shelf, k.to), last, disks[3])

			// Each stands alone: what they came from may go, on either side.
			for _, m := range images {
				require.NoError(t, from.DropImage(t.Context(), m.ID))
			}
			require.NoError(t, to.DropImage(t.Context(), first.ID))
			_, err = to.Sweep(t.Context(), store.SweepRequest{})
			require.NoError(t, err)
			requireDisk(t, reopen(t, shelf, k.to), last, disks[3])
		})
	}
}

// extentsSince calls what is equal unchanged, in units.
func extentsSince(was, is disk.Memory) (out []disk.Extent) {
	for at := 0; at < len(is); at += cut.Unit {
		end := min(len(is), at+cut.Unit)
		kind := disk.Data
		if slices.Equal(was[at:end], is[at:end]) {
			kind = disk.Unchanged
		}
		if n := len(out); n > 0 && out[n-1].Kind == kind {
			out[n-1].Length += int64(end - at)
			continue
		}
		out = append(out, disk.Extent{Offset: int64(at), Length: int64(end - at), Kind: kind})
	}
	return out
}

// Images of files come over as those of disks do, and an older copy spares the rest.
func TestTakenFilesAreWhole(t *testing.T) {
	for kind, sealed := range secrets {
		t.Run(kind, func(t *testing.T) {
			rng := rand.New(rand.NewPCG(20, 4))
			from, _ := shelfOf(t, nil)
			to, shelf := shelfOf(t, sealed)
			tree := filestest.Random(rng, 400)
			older, err := writeFiles(t.Context(), from, tree.Wire(nil), nil)
			require.NoError(t, err)
			next := tree.Change(rng, 5)
			newer, err := writeFiles(t.Context(), from, next.Wire(tree), older)
			require.NoError(t, err)
			first, _, stored, err := taken(t.Context(), to, from, older, nil, nil)
			require.NoError(t, err)
			requireTree(t, reopen(t, shelf, sealed), first.ID, tree)
			second, _, few, err := taken(t.Context(), to, from, newer, older, first)
			require.NoError(t, err)
			require.Less(t, few, stored)
			requireTree(t, reopen(t, shelf, sealed), second.ID, next)
		})
	}
}

// One that was cut goes on where it was: what arrived is not sent again, and nothing of it counts as an image.
func TestATakingThatWasCutGoesOn(t *testing.T) {
	from, _ := shelfOf(t, nil)
	to, shelf := shelfOf(t, &secret)
	d := randomDisk(rand.New(rand.NewPCG(20, 5)), 20<<20)
	m := storeImage(t, from, d, nil)
	whole, _, all, err := taken(t.Context(), first(shelfOf(t, &secret)), from, m, nil, nil)
	require.NoError(t, err)
	require.NotNil(t, whole)
	sum := int64(0)
	for tries := 1; ; tries++ {
		var puts atomic.Int64
		shelf.Around = func(call, name string, act func() error) error {
			if call == "put" && strings.HasPrefix(name, "pack/") && puts.Add(1) > 6 {
				return medium.ErrUnreachable
			}
			return act()
		}
		got, _, sent, err := taken(t.Context(), to, from, m, nil, nil)
		shelf.Around = nil
		if err == nil {
			require.Greater(t, tries, 2)
			require.Less(t, sum+sent, all*3/2)
			requireDisk(t, reopen(t, shelf, &secret), got, d)
			return
		}
		require.ErrorIs(t, err, medium.ErrUnreachable)
		require.Less(t, tries, 60)
		ids, err := to.ImageIDs(t.Context())
		require.NoError(t, err)
		require.Empty(t, ids)
		to = reopen(t, shelf, &secret)
		to.packTarget = 256 << 10
	}
}

func first[A, B any](a A, _ B) A { return a }

// Damage does not spread: what is damaged in the store that gives is not taken, and the piece is named.
func TestDamageIsNotTaken(t *testing.T) {
	from, shelf := shelfOf(t, nil)
	to, _ := shelfOf(t, nil)
	m := storeImage(t, from, randomDisk(rand.New(rand.NewPCG(20, 6)), 8<<20), nil)
	for _, name := range shelf.Names("pack/") {
		body := shelf.Peek(name)
		body[len(body)/3] ^= 4
		shelf.Poke(name, body)
	}
	_, _, _, err := taken(t.Context(), to, reopen(t, shelf, nil), m, nil, nil)
	require.ErrorIs(t, err, chunk.ErrDamaged)
	require.ErrorContains(t, err, "piece ")
	ids, err := to.ImageIDs(t.Context())
	require.NoError(t, err)
	require.Empty(t, ids)
}
