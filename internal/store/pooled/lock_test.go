package pooled

import (
	"math/rand/v2"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// lockedImage stores a disk, of which some is as in the image before, and locks it.
func lockedImage(t *testing.T, s *Store, d disk.Memory, lock time.Duration) *image.Manifest {
	t.Helper()
	ctx := t.Context()
	m := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "tickets-db", Taken: time.Now(), Program: "test"}
	m.Lock(lock, time.Now())
	v, err := s.VisitToWrite(ctx, m.ID, "test")
	require.NoError(t, err)
	w := v.NewWriter(ctx)
	var count store.Progress
	root, err := storeDisk(ctx, d, nil, w, s.cuts, &count)
	require.NoError(t, err)
	require.NoError(t, w.Flush(ctx))
	m.Disks = []image.Disk{{Target: "vda", Size: d.Size(), Map: root}}
	require.NoError(t, v.Finish(ctx, m))
	require.NoError(t, v.End(ctx))
	return m
}

// For months a disk is stored each day and dropped when its lock is over: all that a locked image needs is locked for as long as it is, by few
// calls, also where renewals come late; and what nobody needs goes in the end.
func TestLocksOfAPlace(t *testing.T) {
	const lock, days, day = 14 * 24 * time.Hour, 120, 24 * time.Hour
	synctest.Test(t, func(t *testing.T) {
		ctx, rng := t.Context(), rand.New(rand.NewPCG(7, 11))
		m := mediumtest.NewLocking()
		s, err := Make(ctx, m, time.Now(), tiny, &secret, store.NewKey{Label: "safe in the harbour office", Passphrase: passphrase})
		require.NoError(t, err)
		s.packTarget = shortPack
		require.True(t, s.Lock(lock))
		var kept []*image.Manifest
		var since time.Time
		upkeep := func() {
			for len(kept) > 1 && !kept[0].Locked.After(time.Now()) {
				require.NoError(t, s.DropImage(ctx, kept[0].ID))
				kept = kept[1:]
			}
			require.ErrorIs(t, s.DropImage(ctx, kept[len(kept)-1].ID), image.ErrLocked)
			_, err := s.Sweep(ctx, store.SweepRequest{})
			require.NoError(t, err)
			_, err = s.Collect(ctx, nil)
			require.NoError(t, err)
			if rng.IntN(8) > 0 { // now and then a day's renewal fails
				began := time.Now()
				_, err := s.RenewLocks(ctx, since)
				require.NoError(t, err)
				since = began
			}
		}
		sound := func() {
			until := m.Until()
			for _, name := range []string{store.HeaderName, store.HeaderCopy} {
				require.Greater(t, time.Until(until[name]), lock, name)
			}
			for _, im := range kept {
				require.False(t, until[imageName(im.ID)].Before(im.Locked))
				trees, err := im.Trees()
				require.NoError(t, err)
				require.NoError(t, trees[0].Walk(ctx, s, func(v image.Visit) error {
					p, ok := s.find(v.Name)
					require.True(t, ok)
					require.False(t, until[packName(s.packs[p.slot.pack].id)].Before(im.Locked), "a pack of image %s, which was taken %s ago", im.ID, time.Since(im.Taken))
					return nil
				}))
			}
		}
		d := randomDisk(rng, 40*small)
		for range days {
			for range 4 {
				at := rng.IntN(len(d) / small)
				fill(rng, d[at*small:][:small])
			}
			kept = append(kept, lockedImage(t, s, d, lock))
			upkeep()
			sound()
			time.Sleep(day)
		}
		require.LessOrEqual(t, len(kept), 16)
		delete(m.Calls, store.HeaderName) // which is asked for each time
		delete(m.Calls, store.HeaderCopy)
		for name, n := range m.Calls {
			require.LessOrEqual(t, n, 3+int(days*day/lockPeriod(lock)), "%s is locked for %s at a time", name, lockPeriod(lock))
		}
		packs := len(m.Names("pack/"))
		for range 60 { // nothing new comes
			for len(kept) > 1 && !kept[0].Locked.After(time.Now()) {
				require.NoError(t, s.DropImage(ctx, kept[0].ID))
				kept = kept[1:]
			}
			_, err := s.Sweep(ctx, store.SweepRequest{})
			require.NoError(t, err)
			_, err = s.RenewLocks(ctx, since)
			require.NoError(t, err)
			since = time.Now()
			time.Sleep(day)
		}
		requireSame(t, s, kept[len(kept)-1].ID, d)
		require.Less(t, len(m.Names("pack/")), packs/2)
		require.Empty(t, m.Names("condemned/"), "all that was condemned is gone")
		keys := m.Names("key/")
		require.ErrorIs(t, m.Delete(ctx, keys[0]), medium.ErrLocked)
	})
}
