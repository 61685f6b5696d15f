package pooled

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
)

var (
	moment = time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC)
	secret = chunk.Secret{1, 2, 3, 4}
)

const (
	passphrase = "ebb and flow at the pier"
	small      = 4096  // length of pieces for tests
	shortPack  = 32768 // and length of packs
)

// tiny are cuts by which each unit is a piece.
var tiny = cut.Cuts{Min: small, Mean: small, Max: small}

// secrets are those of the two kinds of store.
var secrets = map[string]*chunk.Secret{"plain": nil, "sealed": &secret}

func TestMain(m *testing.M) {
	chunk.PassphraseWork = 5 // a strong one takes a second each time
	os.Exit(m.Run())
}

// newStore makes a store of small pieces and short packs in memory.
func newStore(t testing.TB, sealed *chunk.Secret) (*Store, *mediumtest.Memory) {
	m := &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
	var keys []store.NewKey
	if sealed != nil {
		keys = append(keys, store.NewKey{Label: "safe in the harbour office", Passphrase: passphrase})
	}
	s, err := Make(context.Background(), m, moment, tiny, sealed, keys...)
	require.NoError(t, err)
	s.packTarget = shortPack
	return s, m
}

func reopen(t testing.TB, m medium.Medium, sealed *chunk.Secret) *Store {
	s, err := Open(context.Background(), m, sealed)
	require.NoError(t, err)
	s.packTarget = shortPack
	return s
}

// randomDisk holds random runs and zeros, with an odd end.
func randomDisk(rng *rand.Rand, size int) disk.Memory {
	d := make(disk.Memory, size)
	for range 30 {
		at := rng.IntN(size)
		end := min(size, at+rng.IntN(size/15))
		for i := at; i < end; i++ {
			d[i] = byte(rng.Uint32() >> 3)
		}
	}
	return d
}

// writeDisk stores a disk and its image, as a backup does.
func writeDisk(ctx context.Context, s *Store, d disk.Memory) (*image.Manifest, error) {
	m := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment, Program: "test"}
	v, err := s.VisitToWrite(ctx, m.ID, "test")
	if err != nil {
		return nil, err
	}
	defer v.End(ctx)
	return m, fillImage(ctx, s, v, m, d, nil, nil)
}

// fillImage writes a disk: whole, or what changed since a base.
func fillImage(ctx context.Context, s *Store, v *Visit, m *image.Manifest, d disk.Memory, base *image.Reader, changed func(block int) bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	w := v.NewWriter(ctx)
	tree := image.NewTreeWriter(w, d.Size())
	for i := 0; i*small < len(d); i++ {
		if base != nil && !changed(i) {
			if err := tree.Keep(ctx, base, int64(i), 1); err != nil {
				return err
			}
			continue
		}
		block := make([]byte, small)
		copy(block, d[i*small:])
		if disk.IsZero(block) {
			continue
		}
		names, err := w.PutPieces(ctx, block, []span{{0, small}})
		if err != nil {
			return err
		}
		if err := tree.Set(ctx, image.Part{At: int64(i), Units: 1, Piece: names[0]}); err != nil {
			return err
		}
	}
	root, err := tree.Finish(ctx)
	if err == nil {
		err = w.Flush(ctx)
	}
	if err != nil {
		return err
	}
	m.Disks = []image.Disk{{Target: "vda", Size: d.Size(), Map: root}}
	m.Sizes = image.Sizes{Disks: d.Size(), Data: d.Size()}
	m.Sizes.New, m.Sizes.Stored = w.Written()
	return v.Finish(ctx, m)
}

func firstDifference(s *Store, id string, want disk.Disk) (int64, error) {
	m, err := s.ReadImage(context.Background(), id)
	if err != nil {
		return 0, err
	}
	r, err := image.NewReader(s, m.Disks[0])
	if err != nil {
		return 0, err
	}
	return disk.FirstDifference(context.Background(), r, want)
}

// damage changes a bit of the largest pack, which holds pieces and not maps, and names it.
func damage(m *mediumtest.Memory) (name string) {
	for _, n := range m.Names("pack/") {
		if len(m.Peek(n)) > len(m.Peek(name)) {
			name = n
		}
	}
	body := m.Peek(name)
	body[100] ^= 1
	m.Poke(name, body)
	return name
}

func requireSame(t *testing.T, s *Store, id string, want disk.Disk) {
	t.Helper()
	at, err := firstDifference(s, id, want)
	require.NoError(t, err)
	require.EqualValues(t, -1, at, "first difference")
}

func requireClean(t *testing.T, s *Store) store.Report {
	t.Helper()
	r, err := s.Check(t.Context(), true, nil)
	require.NoError(t, err)
	require.Empty(t, r.Problems)
	require.Empty(t, r.Broken)
	return r
}

func TestImagesComeBackFromAnotherOpening(t *testing.T) {
	for kind, sealed := range secrets {
		t.Run(kind, func(t *testing.T) {
			s, m := newStore(t, sealed)
			one := randomDisk(rand.New(rand.NewPCG(1, 1)), 900<<10+1234)
			first, err := writeDisk(t.Context(), s, one)
			require.NoError(t, err)
			two := append(disk.Memory{}, one...)
			two[500<<10] ^= 1
			second, err := writeDisk(t.Context(), s, two)
			require.NoError(t, err)
			require.Less(t, second.Sizes.New, int64(60_000), "a piece, and the map blocks over it")

			again := reopen(t, m, sealed)
			requireSame(t, again, first.ID, one)
			requireSame(t, again, second.ID, two)
			require.NoError(t, again.DropImage(t.Context(), first.ID))
			requireSame(t, again, second.ID, two)
			require.Equal(t, 1, requireClean(t, again).Images)
			require.Empty(t, m.Names("visit/"), "nobody is there")
		})
	}
}

// A disk of 64 TiB with one byte at its end costs a handful of map blocks.
func TestALargeSparseDisk(t *testing.T) {
	ctx := t.Context()
	folder, err := dir.Open(t.TempDir())
	require.NoError(t, err)
	s, err := Make(ctx, folder, moment, NewCuts(), nil)
	require.NoError(t, err)
	v, err := s.VisitToWrite(ctx, image.NewID(), "test")
	require.NoError(t, err)
	defer v.End(ctx)
	w := v.NewWriter(ctx)
	size := int64(64<<40 - 512)
	tree := image.NewTreeWriter(w, size)
	last := (size - 1) / cut.Unit
	block := make([]byte, cut.Unit)
	block[0] = 7
	names, err := w.PutPieces(ctx, block, []span{{0, cut.Unit}})
	require.NoError(t, err)
	require.NoError(t, tree.Set(ctx, image.Part{At: last, Units: 1, Piece: names[0]}))
	root, err := tree.Finish(ctx)
	require.NoError(t, err)
	require.NoError(t, w.Flush(ctx))
	r, err := image.NewReader(s, image.Disk{Target: "vda", Size: size, Map: root})
	require.NoError(t, err)
	var runs []disk.Extent
	require.NoError(t, disk.Walk(ctx, r, func(e disk.Extent) error { runs = append(runs, e); return nil }))
	require.Equal(t, []disk.Extent{{Offset: 0, Length: last * cut.Unit, Kind: disk.Zero}, {Offset: last * cut.Unit, Length: size - last*cut.Unit, Kind: disk.Data}}, runs)
	p := make([]byte, 4)
	_, err = r.ReadAt(p, last*cut.Unit-2)
	require.NoError(t, err)
	require.Equal(t, []byte{0, 0, 7, 0}, p)
}

// The process dies at the n-th call to the medium, before it or after it, for all n of a backup and a sweep: then the
// images that were finished read back, a check is clean, and the next run reuses what arrived.
func TestDyingAnywhereHarmsNothing(t *testing.T) {
	errDead := errors.New("the process is dead")
	rng := rand.New(rand.NewPCG(2, 2))
	before, d := randomDisk(rng, 200<<10), randomDisk(rng, 400<<10)
	died := 0
	for n := 0; ; n++ {
		s, m := newStore(t, secrets[[]string{"plain", "sealed"}[n%2]])
		kept, err := writeDisk(t.Context(), s, before)
		require.NoError(t, err)
		dropped, err := writeDisk(t.Context(), s, randomDisk(rng, 100<<10))
		require.NoError(t, err)
		require.NoError(t, s.DropImage(t.Context(), dropped.ID))
		calls := 0
		dying := &mediumtest.Memory{Shelf: m.Shelf, Around: func(_, _ string, act func() error) error {
			calls++
			switch {
			case calls < n, calls == n && n%3 == 0:
				err := act()
				if calls == n {
					return errDead
				}
				return err
			}
			if calls >= n {
				return errDead
			}
			return nil
		}}
		mortal, err := Open(t.Context(), dying, secrets[[]string{"plain", "sealed"}[n%2]])
		var made *image.Manifest
		if err == nil {
			mortal.packTarget = shortPack
			if made, err = writeDisk(t.Context(), mortal, d); err == nil {
				_, err = mortal.Sweep(t.Context(), store.SweepRequest{})
			}
		}
		if err != nil {
			require.ErrorIs(t, err, errDead)
			died++
		}
		again := reopen(t, m, secrets[[]string{"plain", "sealed"}[n%2]])
		requireSame(t, again, kept.ID, before)
		requireClean(t, again)
		ids, err := again.ImageIDs(t.Context())
		require.NoError(t, err)
		for _, id := range ids {
			if id != kept.ID {
				requireSame(t, again, id, d)
			}
		}
		arrived := len(m.Names("pack/"))
		next, err := writeDisk(t.Context(), again, d)
		require.NoError(t, err)
		requireSame(t, again, next.ID, d)
		if made != nil && arrived > 10 {
			require.Less(t, next.Sizes.Stored, int64(240<<10), "what arrived is reused")
		}
		for _, name := range m.Names("visit/") {
			require.NoError(t, again.EndVisit(t.Context(), strings.Split(strings.TrimPrefix(name, "visit/"), ".")[0]))
		}
		_, err = again.Sweep(t.Context(), store.SweepRequest{})
		require.NoError(t, err)
		requireSame(t, again, kept.ID, before)
		requireSame(t, again, next.ID, d)
		requireClean(t, again)
		require.Empty(t, m.Names("condemned/"), "the next sweep ends what a dead one began")
		if died < n { // it lived through all of it
			break
		}
	}
	require.Greater(t, died, 40, "calls of a backup and a sweep")
}

// Any flipped, missing or cut byte is found in every kind of object; what it hits is named; and another store of the same
// content mends it.
func TestDamageIsFoundAndMended(t *testing.T) {
	ctx := t.Context()
	rng := rand.New(rand.NewPCG(4, 4))
	for kind, sealed := range secrets {
		s, m := newStore(t, sealed)
		d := randomDisk(rng, 300<<10)
		man, err := writeDisk(ctx, s, d)
		require.NoError(t, err)
		require.NoError(t, s.AddProof(ctx, man.ID, store.Proof{Level: "read", Passed: true}))
		require.NoError(t, s.SetPin(ctx, man.ID, &store.Pin{Note: "before the harbour upgrade"}))
		v, err := s.VisitToWrite(ctx, image.NewID(), "test")
		require.NoError(t, err)
		defer v.End(ctx)
		require.NoError(t, s.condemn(ctx, []chunk.PackID{chunk.NewPackID()}))
		whole := m.Shelf.Copy()
		for _, folder := range []string{"store.json", "store.copy.json", "pack/", "index/", "image/", "proof/", "pin/", "visit/", "condemned/", "key/"} {
			if names := whole.Names(folder); len(names) == 0 {
				require.Equal(t, "key/", folder)
				continue
			}
			for _, harm := range []string{"flip", "truncate", "delete"} {
				t.Run(kind+" "+folder+" "+harm, func(t *testing.T) {
					for range 6 {
						hurt := &mediumtest.Memory{Shelf: whole.Copy()}
						names := hurt.Names(folder)
						name := names[rng.IntN(len(names))]
						body := hurt.Peek(name)
						switch harm {
						case "flip":
							body[rng.IntN(len(body))] ^= 1 << rng.IntN(8)
						case "truncate":
							body = body[:rng.IntN(len(body))]
						case "delete":
							body = nil
						}
						hurt.Poke(name, body)
						again := reopen(t, hurt, sealed)
						report, err := again.Check(ctx, true, nil)
						require.NoError(t, err)
						switch {
						case harm == "delete" && folder != "pack/" && !strings.HasPrefix(folder, "store"):
							require.Empty(t, report.Problems, "as if it had never been")
							continue
						case folder == "pack/" && len(report.Broken) > 0:
							require.Equal(t, []string{man.ID}, report.Broken)
							p := report.Problems[0]
							require.Equal(t, []string{man.ID, "vda"}, []string{p.Image, p.Disk})
							require.Greater(t, p.Length, int64(0))
						default:
							require.NotEmpty(t, report.Problems, "%s in %s", harm, name)
							require.Equal(t, name, report.Problems[0].Object)
						}
						other := reopen(t, &mediumtest.Memory{Shelf: whole.Copy()}, sealed)
						mended, err := again.Repair(ctx, other, nil)
						require.NoError(t, err)
						if folder == "key/" {
							require.Len(t, mended.Problems, 1, "what opens a damaged key nobody knows")
							continue
						}
						require.NotEmpty(t, mended.Mended)
						if folder == "pack/" && again.stillVisited(ctx) {
							require.Empty(t, mended.Broken, "the damaged pack itself waits for the visit")
						} else {
							require.Empty(t, mended.Problems)
						}
						requireSame(t, again, man.ID, d)
					}
				})
			}
		}
	}
}

func (s *Store) stillVisited(ctx context.Context) bool {
	v, err := s.visits(ctx)
	return err != nil || len(v) > 0
}

// Where no other store has what is lost, the next run that stores it mends the older image; until then the pack stays.
func TestTheNextRunMends(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	d := randomDisk(rand.New(rand.NewPCG(5, 5)), 300<<10)
	man, err := writeDisk(ctx, s, d)
	require.NoError(t, err)
	name := damage(m)
	report, err := s.Repair(ctx, nil, nil)
	require.NoError(t, err)
	require.Equal(t, []string{man.ID}, report.Broken)
	require.Contains(t, m.Names("pack/"), name, "what else is in it might still be wanted")
	again, err := writeDisk(ctx, s, d)
	require.NoError(t, err)
	requireSame(t, s, again.ID, d)
	requireSame(t, s, man.ID, d)
	_, err = s.Sweep(ctx, store.SweepRequest{})
	require.NoError(t, err)
	require.NotContains(t, m.Names("pack/"), name)
	requireClean(t, s)
}

// Pieces of a store that cuts otherwise are no help, and the report says so.
func TestMendingFromAStoreThatCutsOtherwise(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	other, err := Make(ctx, &mediumtest.Memory{Shelf: mediumtest.NewShelf()}, moment, cut.Default(9), nil)
	require.NoError(t, err)
	d := randomDisk(rand.New(rand.NewPCG(6, 1)), 300<<10)
	man, err := writeDisk(ctx, s, d)
	require.NoError(t, err)
	w := writer(t, other)
	_, err = storeDisk(ctx, d, nil, w, other.cuts, &store.Progress{})
	require.NoError(t, err)
	require.NoError(t, w.Flush(ctx))
	damage(m)
	report, err := s.Repair(ctx, other, nil)
	require.NoError(t, err)
	require.Equal(t, []string{man.ID}, report.Broken)
	require.Contains(t, report.Mended[len(report.Mended)-1], "cuts otherwise")
}

// A store sealed with another secret names blocks otherwise; its content mends all the same.
func TestMendingFromADifferentlySealedStore(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	other, _ := newStore(t, &secret)
	d := randomDisk(rand.New(rand.NewPCG(6, 1)), 300<<10)
	man, err := writeDisk(ctx, s, d)
	require.NoError(t, err)
	_, err = writeDisk(ctx, other, d)
	require.NoError(t, err)
	damage(m)
	report, err := s.Repair(ctx, other, nil)
	require.NoError(t, err)
	require.Empty(t, report.Problems)
	requireSame(t, s, man.ID, d)
}

// Without a key, a sealed store tells nothing: no content, no names of machines, policies or files, no names of blocks.
func TestASealedStoreTellsNothing(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, &secret)
	d := make(disk.Memory, 64<<10)
	copy(d[8192:], strings.Repeat("crew-rota of the north pier\n", 500))
	man := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "harbour-radio", Policy: "weekly-system", Definition: "<domain>quay-1</domain>", Taken: moment}
	v, err := s.VisitToWrite(ctx, man.ID, "test")
	require.NoError(t, err)
	require.NoError(t, fillImage(ctx, s, v, man, d, nil, nil))
	require.NoError(t, s.SetPin(ctx, man.ID, &store.Pin{Note: "before the harbour upgrade"}))
	require.NoError(t, s.AddProof(ctx, man.ID, store.Proof{Evidence: []string{"/etc/hostname"}}))
	var plain *chunk.Seal
	telling := [][]byte{[]byte("crew-rota"), []byte("harbour"), []byte("weekly-system"), []byte("quay-1"), []byte("hostname"), []byte(passphrase), secret[:8]}
	for i := 0; i < len(d); i += small {
		name, keyed := plain.Name(d[i:i+small]), s.seal.Name(d[i:i+small])
		telling = append(telling, name[:8], keyed[:8])
	}
	for _, name := range m.Names("") {
		for _, word := range telling {
			require.False(t, bytes.Contains(m.Peek(name), word), "%s tells %q", name, word)
			require.NotContains(t, name, string(word))
		}
	}
	_, err = Open(ctx, m, nil)
	require.ErrorIs(t, err, store.ErrSealed)
	_, err = Open(ctx, m, &chunk.Secret{9})
	require.ErrorIs(t, err, chunk.ErrWrongKey)
	require.NoError(t, v.End(ctx))

	// Somebody puts a store that is not sealed in its place, to be given what should be sealed.
	_, bare := newStore(t, nil)
	_, err = Open(ctx, bare, &secret)
	require.ErrorContains(t, err, "not sealed, but it was before")
}

func TestKeysOfAStore(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, &secret)
	got, err := Unlock(ctx, m, chunk.Opener{Passphrase: passphrase})
	require.NoError(t, err)
	require.Equal(t, secret, got)
	_, err = Unlock(ctx, m, chunk.Opener{Passphrase: "ebb and flow"})
	require.ErrorIs(t, err, chunk.ErrWrongKey)
	me, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	added, err := s.AddKey(ctx, secret, store.NewKey{Label: "the operator's card", Recipients: []string{me.Recipient().String()}}, moment.Add(time.Hour))
	require.NoError(t, err)
	got, err = Unlock(ctx, m, chunk.Opener{Identity: me.String()})
	require.NoError(t, err)
	require.Equal(t, secret, got)
	keys, err := s.Keys(ctx)
	require.NoError(t, err)
	require.Len(t, keys, 2)
	require.Equal(t, []string{"safe in the harbour office", "the operator's card"}, []string{keys[0].Label, keys[1].Label})
	require.NoError(t, s.RemoveKey(ctx, keys[0].ID))
	_, err = Unlock(ctx, m, chunk.Opener{Passphrase: passphrase})
	require.ErrorIs(t, err, chunk.ErrWrongKey)
	require.ErrorContains(t, s.RemoveKey(ctx, added.ID), "the last one")
	require.ErrorContains(t, s.RemoveKey(ctx, "nosuchkey2"), "no key is called")
	_, err = s.AddKey(ctx, chunk.Secret{7}, store.NewKey{Passphrase: "x"}, moment)
	require.ErrorIs(t, err, chunk.ErrWrongKey)
	plain, bare := newStore(t, nil)
	_, err = plain.Keys(ctx)
	require.Error(t, err)
	_, err = Unlock(ctx, bare, chunk.Opener{Passphrase: passphrase})
	require.ErrorContains(t, err, "not sealed")
	_, err = Make(ctx, &mediumtest.Memory{Shelf: mediumtest.NewShelf()}, moment, tiny, &secret)
	require.ErrorContains(t, err, "needs a key")
}

// A sweep says before what it will give, gives it, moves what is needed out of packs that are mostly dead, and puts small ones
// together.
func TestSweepGivesWhatItPromised(t *testing.T) {
	ctx := t.Context()
	for kind, sealed := range secrets {
		t.Run(kind, func(t *testing.T) {
			s, m := newStore(t, sealed)
			rng := rand.New(rand.NewPCG(9, 9))
			a, b := randomDisk(rng, 500<<10), randomDisk(rng, 500<<10)
			// c shares a tenth of a, spread over all of its packs.
			c := randomDisk(rng, 500<<10)
			for i := 0; i < len(c); i += 10 * small {
				copy(c[i:], a[i:min(len(a), i+small)])
			}
			first, err := writeDisk(ctx, s, a)
			require.NoError(t, err)
			second, err := writeDisk(ctx, s, b)
			require.NoError(t, err)
			third, err := writeDisk(ctx, s, c)
			require.NoError(t, err)
			require.NoError(t, s.DropImage(ctx, first.ID))
			used, _, err := s.Used(ctx)
			require.NoError(t, err)
			plan, err := s.Sweep(ctx, store.SweepRequest{DryRun: true})
			require.NoError(t, err)
			require.Empty(t, m.Names("condemned/"))
			require.Greater(t, plan.Rewritten, 2)
			require.Greater(t, plan.Gives, int64(100<<10))
			var seen int64
			done, err := s.Sweep(ctx, store.SweepRequest{Progress: func(n int64) { seen += n }})
			require.NoError(t, err)
			require.Equal(t, done.Freed, seen)
			require.Equal(t, []int64{plan.Gives, plan.Move}, []int64{done.Gives, done.Move})
			require.InEpsilon(t, plan.Move, done.Moved, 0.3, "pieces of a pack are taken to compress alike")
			left, _, err := s.Used(ctx)
			require.NoError(t, err)
			require.InDelta(t, plan.Gives, used-left, 20_000, "directories and indexes aside")
			again := reopen(t, m, sealed)
			requireSame(t, again, second.ID, b)
			requireSame(t, again, third.ID, c)
			requireSame(t, s, third.ID, c)
			requireClean(t, again)

			for range fewSmall {
				b[rng.IntN(len(b))] ^= 1
				if second, err = writeDisk(ctx, s, b); err != nil {
					break
				}
			}
			require.NoError(t, err)
			before := len(m.Names("pack/"))
			_, err = s.Sweep(ctx, store.SweepRequest{})
			require.NoError(t, err)
			require.LessOrEqual(t, len(m.Names("pack/")), before-fewSmall/2)
			require.LessOrEqual(t, len(m.Names("index/")), 4)
			requireSame(t, reopen(t, m, sealed), second.ID, b)
		})
	}
}

// A sweep keeps to its pace and its window, and who reads meanwhile is not disturbed.
func TestSweepPaceAndWindow(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	rng := rand.New(rand.NewPCG(3, 9))
	a := randomDisk(rng, 500<<10)
	c := randomDisk(rng, 500<<10)
	for i := 0; i < len(c); i += 6 * small {
		copy(c[i:], a[i:min(len(a), i+small)])
	}
	first, err := writeDisk(ctx, s, a)
	require.NoError(t, err)
	third, err := writeDisk(ctx, s, c)
	require.NoError(t, err)
	reader := reopen(t, m, nil) // another lodge, whose index will be old
	require.NoError(t, s.DropImage(ctx, first.ID))
	r, err := s.Sweep(ctx, store.SweepRequest{Until: time.Now().Add(-time.Second)})
	require.NoError(t, err)
	require.Positive(t, r.Waiting)
	require.Zero(t, r.Moved)
	require.Contains(t, r.Why[0], "window closed")
	paced := 0
	r, err = s.Sweep(ctx, store.SweepRequest{Pace: func(_ context.Context, n int) error { paced += n; return nil }})
	require.NoError(t, err)
	require.EqualValues(t, 2*r.Moved, paced, "read and written")
	requireSame(t, reader, third.ID, c)
}

// Who visits keeps what a sweep condemns meanwhile; the next sweep takes it.
func TestASweepWaitsForVisits(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	d := randomDisk(rand.New(rand.NewPCG(3, 2)), 300<<10)
	man, err := writeDisk(ctx, s, d)
	require.NoError(t, err)
	elsewhere := reopen(t, m, nil)
	v, err := elsewhere.VisitToRead(ctx, "a restore")
	require.NoError(t, err)
	reader, err := image.NewReader(elsewhere, man.Disks[0])
	require.NoError(t, err)
	require.NoError(t, s.DropImage(ctx, man.ID))
	r, err := s.Sweep(ctx, store.SweepRequest{})
	require.NoError(t, err)
	require.Positive(t, r.Waiting)
	require.Zero(t, r.Deleted)
	require.Contains(t, r.Why[0], "1 visit")
	at, err := disk.FirstDifference(ctx, reader, d)
	require.NoError(t, err)
	require.EqualValues(t, -1, at)
	require.NoError(t, v.End(ctx))
	r, err = s.Sweep(ctx, store.SweepRequest{})
	require.NoError(t, err)
	require.Positive(t, r.Deleted)
	require.Empty(t, m.Names("pack/"))
}

// Somebody writes the content of a map block into his own disk, where it is a piece of the same name. A sweep that meets that piece first
// must not believe that it walked the map.
func TestAMapBlockAsData(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	v, err := s.VisitToWrite(ctx, image.NewID(), "test")
	require.NoError(t, err)
	w := v.NewWriter(ctx)
	// A piece under each of so many leaves that the map block over them has just a piece's length.
	const leaves = small / 32
	victim := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment, Program: "test",
		Disks: []image.Disk{{Target: "vda", Size: leaves * image.Span(1)}}}
	tree := image.NewTreeWriter(w, victim.Disks[0].Size)
	rng := rand.New(rand.NewPCG(8, 8))
	pieces := make([][]byte, leaves)
	for i := range pieces {
		pieces[i] = make([]byte, small)
		for j := range pieces[i] {
			pieces[i][j] = byte(rng.Uint32())
		}
		names, err := w.PutPieces(ctx, pieces[i], []span{{0, small}})
		require.NoError(t, err)
		require.NoError(t, tree.Set(ctx, image.Part{At: int64(i) * image.Span(1) / small, Units: 1, Piece: names[0]}))
	}
	victim.Disks[0].Map, err = tree.Finish(ctx)
	require.NoError(t, err)
	require.NoError(t, w.Flush(ctx))
	require.NoError(t, v.Finish(ctx, victim))
	require.NoError(t, v.End(ctx))
	root, err := victim.Disks[0].Root()
	require.NoError(t, err)
	body, err := s.GetMap(ctx, root)
	require.NoError(t, err)
	require.Len(t, body, small)

	hostile := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment.Add(-time.Hour), Program: "test"}
	v, err = s.VisitToWrite(ctx, hostile.ID, "test")
	require.NoError(t, err)
	require.NoError(t, fillImage(ctx, s, v, hostile, append(disk.Memory{}, body...), nil, nil))
	require.NoError(t, v.End(ctx))
	r, err := image.NewReader(s, hostile.Disks[0])
	require.NoError(t, err)
	met := false
	require.NoError(t, r.Walk(ctx, func(v image.Visit) error { met = met || v.Height == 0 && v.Name == root; return nil }))
	require.True(t, met, "the piece bears the map block's name")
	for range 3 {
		_, err = s.Sweep(ctx, store.SweepRequest{})
		require.NoError(t, err)
	}
	s = reopen(t, m, nil)
	requireClean(t, s)
	r, err = image.NewReader(s, victim.Disks[0])
	require.NoError(t, err)
	got := make([]byte, small)
	for i, want := range pieces {
		_, err := r.ReadAt(got, int64(i)*image.Span(1))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), "piece %d", i)
	}
}

// An image that can't be read stops a sweep: what it needs is not known.
func TestASweepStopsAtDamage(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	man, err := writeDisk(ctx, s, randomDisk(rand.New(rand.NewPCG(3, 3)), 300<<10))
	require.NoError(t, err)
	m.Poke("image/"+man.ID, []byte("KLOBJ and so on"))
	packs := m.Names("pack/")
	_, err = s.Sweep(ctx, store.SweepRequest{})
	require.ErrorIs(t, err, chunk.ErrDamaged)
	require.ErrorContains(t, err, man.ID)
	require.Equal(t, packs, m.Names("pack/"))
}

// A run that failed for want of room gives back what it stored, but for what others lean on.
func TestGiveBack(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	rng := rand.New(rand.NewPCG(3, 7))
	d := make(disk.Memory, 400<<10)
	for i := range d {
		d[i] = byte(rng.Uint32())
	}
	puts := 0
	m.Around = func(call, name string, act func() error) error {
		if call == "put" && strings.HasPrefix(name, "pack/") {
			puts++
		}
		// Then nothing fits any more, until the reserve gives way.
		if call == "put" && puts > 5 && m.Peek("reserve") != nil {
			return fmt.Errorf("injected: %w", medium.ErrFull)
		}
		return act()
	}
	v, err := s.VisitToWrite(ctx, image.NewID(), "test")
	require.NoError(t, err)
	w := v.NewWriter(ctx)
	for i := 0; i+small <= len(d) && err == nil; i += small {
		_, err = w.PutPieces(ctx, d[i:i+small], []span{{0, small}})
	}
	if err == nil {
		err = w.Flush(ctx)
	}
	require.ErrorIs(t, err, medium.ErrFull)
	require.NoError(t, w.GiveBack(ctx))
	require.NoError(t, v.End(ctx))
	m.Around = nil
	require.Nil(t, m.Peek("reserve"))
	r, err := s.Collect(ctx, nil)
	require.NoError(t, err)
	require.Equal(t, 5, r.Deleted)
	require.Empty(t, m.Names("pack/"))
	require.Empty(t, m.Names("condemned/"))
	require.NotNil(t, m.Peek("reserve"), "there is room again")
}

func TestShow(t *testing.T) {
	ctx := t.Context()
	s, _ := newStore(t, nil)
	d := make(disk.Memory, 100*small)
	for i := range 20 * small {
		d[i] = byte(i / small)
	}
	d[0] = 1
	for i := range 3 {
		man := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: []string{"timetable", "tickets-db"}[i%2], Taken: moment.AddDate(0, 0, i/2)}
		v, err := s.VisitToWrite(ctx, man.ID, "test")
		require.NoError(t, err)
		require.NoError(t, fillImage(ctx, s, v, man, d, nil, nil))
		require.NoError(t, v.End(ctx))
	}
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	sum, err := s.Show(ctx, lisbon)
	require.NoError(t, err)
	require.Equal(t, []int{3, 2, 2}, []int{sum.Images, sum.Machines, len(sum.Days)})
	require.Equal(t, 3*d.Size(), sum.Disks)
	require.Equal(t, sum.Disks, sum.Zeros+sum.Dedup+sum.Compression+sum.Blocks)
	require.Positive(t, sum.Dedup)
	require.Positive(t, sum.Compression)
	require.Zero(t, sum.Unneeded)
	require.Equal(t, "2026-03-01", sum.Days[0].Day)
	require.Equal(t, 2, sum.Days[0].Images)
}

// Strangers' files in the folder are left alone and harm nothing.
func TestStrangersFiles(t *testing.T) {
	ctx := t.Context()
	folder := t.TempDir()
	m, err := dir.Open(folder)
	require.NoError(t, err)
	s, err := Make(ctx, m, moment, NewCuts(), nil)
	require.NoError(t, err)
	d := randomDisk(rand.New(rand.NewPCG(6, 6)), 1<<20)
	man, err := writeDisk(ctx, s, d)
	require.NoError(t, err)
	for _, name := range []string{"pack/x", "pack/Thumbs.db", "pack/ab/" + strings.Repeat("0123456789", 4), "image/.DS_Store", "index/note.txt", "visit/x", "proof/y", "pin/z", "condemned/q"} {
		path := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte("hello"), 0o600))
	}
	again, err := Open(ctx, m, nil)
	require.NoError(t, err)
	report, err := again.Check(ctx, true, nil)
	require.NoError(t, err)
	require.Equal(t, 1, report.Images)
	require.Empty(t, report.Broken)
	_, err = again.Sweep(ctx, store.SweepRequest{})
	require.NoError(t, err)
	requireSame(t, again, man.ID, d)
	require.FileExists(t, filepath.Join(folder, "pack/Thumbs.db"))
}

func FuzzHeader(f *testing.F) {
	body, err := store.Header{Format: store.PooledFormat, Layout: "pooled", ID: "x", PlainCuts: &tiny}.Encode()
	require.NoError(f, err)
	f.Add(body)
	f.Fuzz(func(t *testing.T, b []byte) {
		if h, err := store.DecodeHeader(b); err == nil {
			again, err := h.Encode()
			require.NoError(t, err)
			same, err := store.DecodeHeader(again)
			require.NoError(t, err)
			require.Equal(t, h, same)
		}
	})
}

// Whatever a hostile store holds behind an envelope that is in order, the store is opened, looked through, checked and swept
// without a crash, and no image that was there before is lost.
func FuzzHostileObjects(f *testing.F) {
	kinds := []struct {
		name string
		kind chunk.ObjectKind
	}{{"index/x", chunk.IndexObject}, {"image/abcdefgh23", chunk.ImageObject}, {"visit/abcdefgh23.start", chunk.VisitObject}, {"condemned/abcdefgh23", chunk.CondemnedObject},
		{"proof/abcdefgh23.x", chunk.ProofObject}, {"pin/abcdefgh23.x", chunk.PinObject}, {"key/abcdefgh23", chunk.KeyObject}, {"exhibit/abcdefgh23.abcdefgh23.png", chunk.ExhibitObject}}
	s, m := newStore(f, nil)
	d := randomDisk(rand.New(rand.NewPCG(1, 1)), 50<<10)
	man, err := writeDisk(context.Background(), s, d)
	require.NoError(f, err)
	body, err := man.Encode()
	require.NoError(f, err)
	f.Add(uint8(1), body)
	f.Add(uint8(0), []byte("0123456789abcdef\x00\x00\x00\x01\x00\x00\x00\x00"))
	f.Add(uint8(2), []byte(`{"knows":["condemned/x"],"began":"2026-03-01T23:00:00Z"}`))
	f.Add(uint8(3), bytes.Repeat([]byte("0123456789abcdef"), 3))
	f.Add(uint8(4), []byte(`{"level":"read","passed":true}`))
	f.Add(uint8(5), []byte(`{"note":"x"}`))
	f.Add(uint8(6), []byte(`{"id":"abcdefgh23","kind":"passphrase","age":"x","label":"eA=="}`))
	f.Fuzz(func(t *testing.T, which uint8, payload []byte) {
		k := kinds[int(which)%len(kinds)]
		hostile := &mediumtest.Memory{Shelf: m.Shelf.Copy()}
		hostile.Poke(k.name, chunk.EncodeObject(nil, k.kind, k.name, payload))
		again, err := Open(t.Context(), hostile, nil)
		if err != nil {
			require.ErrorIs(t, err, chunk.ErrDamaged)
			return
		}
		if _, err := again.Check(t.Context(), true, nil); err != nil {
			require.ErrorIs(t, err, chunk.ErrDamaged)
		}
		again.AllNotes(t.Context())
		again.visits(t.Context())
		again.Sweep(t.Context(), store.SweepRequest{})
		requireSame(t, again, man.ID, d)
	})
}

// Many who begin images at once share their looks at the store: each needs one that begins after it came, and no look of its own.
func TestManyShareALook(t *testing.T) {
	const many = 32
	_, shelf := newStore(t, nil)
	synctest.Test(t, func(t *testing.T) {
		looks, cut := 0, false
		s := reopen(t, &mediumtest.Memory{Shelf: shelf.Shelf, Around: func(what, name string, act func() error) error {
			if what == "list" && name == "pack/" {
				looks++
				time.Sleep(time.Second)
				if cut && looks == 1 {
					return errors.New("the line was cut")
				}
			}
			return act()
		}}, nil)
		looks = 0
		var all sync.WaitGroup
		for range many {
			all.Go(func() {
				v, err := s.VisitToWrite(t.Context(), image.NewID(), "test")
				require.NoError(t, err)
				require.NoError(t, v.End(t.Context()))
			})
		}
		all.Wait()
		require.LessOrEqual(t, looks, 2)

		// A look that fails fails for who made it; those who wait look for themselves.
		looks, cut = 0, true
		failed := make(chan error, 3)
		for range cap(failed) {
			all.Go(func() { failed <- s.Refresh(t.Context()) })
		}
		all.Wait()
		close(failed)
		n := 0
		for err := range failed {
			if err != nil {
				require.ErrorContains(t, err, "the line was cut")
				n++
			}
		}
		require.Equal(t, []int{1, 2}, []int{n, looks})
	})
}

// A condemnation that another look at the store finds gone, while this one is between its lists, still tells of packs that this one has listed.
func TestACondemnationThatGoesDuringALook(t *testing.T) {
	ctx := t.Context()
	s, m := newStore(t, nil)
	var other *Store
	swept := true
	other = reopen(t, &mediumtest.Memory{Shelf: m.Shelf, Around: func(what, name string, act func() error) error {
		err := act()
		if what != "list" || name != "pack/" || swept {
			return err
		}
		swept = true // the sweep ends, and somebody in this process begins an image
		for _, kind := range []string{"pack/", "condemned/"} {
			for _, n := range m.Names(kind) {
				require.NoError(t, m.Delete(ctx, n))
			}
		}
		require.NoError(t, other.condemning.look(ctx, other.readCondemned))
		return err
	}}, nil)
	d := randomDisk(rand.New(rand.NewPCG(31, 1)), 100<<10)
	man := putImage(t, s, d)
	reading, err := s.VisitToRead(ctx, "test") // or the sweep would delete at once what it condemns
	require.NoError(t, err)
	require.NoError(t, s.DropImage(ctx, man.ID))
	_, err = s.Sweep(ctx, store.SweepRequest{})
	require.NoError(t, err)
	require.NotEmpty(t, m.Names("condemned/"))
	require.NotEmpty(t, m.Names("index/"))
	swept = false
	require.NoError(t, other.Refresh(ctx))
	require.True(t, swept)
	known := 0
	s.table.each(func(v *slot, _ bool) bool {
		if _, ok := other.find(v.name); ok {
			known++
		}
		require.False(t, other.firm(v.name), "an image must not lean on what is gone")
		return true
	})
	require.Positive(t, known)
	require.NoError(t, reading.End(ctx))
}

// No name of an object has a capital letter, so that a share on which case does not count keeps a store as any other place.
func TestNamesOnAShareWithoutCase(t *testing.T) {
	for kind, sealed := range secrets {
		t.Run(kind, func(t *testing.T) {
			s, m := newStore(t, sealed)
			var seen []string
			m.Around = func(call, name string, act func() error) error {
				seen = append(seen, name)
				return act()
			}
			for range 3 {
				d := randomDisk(rand.New(rand.NewPCG(3, uint64(len(seen)))), 8*small)
				im, err := writeDisk(t.Context(), s, d)
				require.NoError(t, err)
				require.NoError(t, s.SetPin(t.Context(), im.ID, &store.Pin{Note: "Harbour"}))
				require.NoError(t, s.AddProof(t.Context(), im.ID, store.Proof{Level: image.ByRead, Passed: true}))
				require.NoError(t, s.DropImage(t.Context(), im.ID))
			}
			_, err := s.Sweep(t.Context(), store.SweepRequest{})
			require.NoError(t, err)
			require.NoError(t, store.PutOwner(t.Context(), m, store.Owner{Lodge: "4fd4a95f-5393-4aaa-a5b5-105aee2b4a37", Since: moment}))
			require.Greater(t, len(seen), 40)
			for _, name := range seen {
				require.Equal(t, strings.ToLower(name), name)
			}
		})
	}
}
