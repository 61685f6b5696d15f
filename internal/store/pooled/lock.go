package pooled

import (
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// A place that can ([medium.Locker]) locks itself what locked images need. A manifest is locked until its image may go. Packs, keys and the header are
// needed by images that are yet to come, too: they are locked for longer than that by a margin, and renewed when half of the margin is used
// up, so that most objects take one call in many days. What is left of the margin is for renewals that come late, and for clocks that differ.

// lockMargin is for how much longer than images what these share is locked.
func lockMargin(d time.Duration) time.Duration { return max(d/2, 4*24*time.Hour) }

// lockPeriod is how long after it was put, and from then on how often, an object's lock is renewed.
func lockPeriod(d time.Duration) time.Duration { return lockMargin(d) / 2 }

// triedAgain is after how long it is tried again to delete a pack that its place has locked.
const triedAgain = 12 * time.Hour

// Lock implements [store.Locker].
func (s *Store) Lock(d time.Duration) bool {
	s.locked.Store(int64(d))
	_, can := s.medium.(medium.Locker)
	return can
}

// locker is the medium where it is to lock what is put into it, with for how long.
func (s *Store) locker() (medium.Locker, time.Duration) {
	l, ok := s.medium.(medium.Locker)
	if d := time.Duration(s.locked.Load()); ok && d > 0 {
		return l, d
	}
	return nil, 0
}

// putShared puts an object that images share.
func (s *Store) putShared(ctx context.Context, name string, content []byte) error {
	if l, d := s.locker(); l != nil {
		return l.PutUntil(ctx, name, content, time.Now().Add(d+lockMargin(d)))
	}
	return s.medium.Put(ctx, name, content)
}

// lockManifest has an image's manifest locked for as long as the image is.
func (s *Store) lockManifest(ctx context.Context, m *image.Manifest) error {
	if l, ok := s.medium.(medium.Locker); ok && m.Locked.After(time.Now()) {
		return l.Extend(ctx, imageName(m.ID), m.Locked)
	}
	return nil
}

// RenewLocks implements [store.Locker].
func (s *Store) RenewLocks(ctx context.Context, since time.Time) (out store.RenewedLocks, err error) {
	l, d := s.locker()
	if l == nil {
		return out, nil
	}
	if out.Hidden, err = l.MendHidden(ctx); err != nil {
		return out, err
	}
	now := time.Now()
	out.Until = now.Add(d + lockMargin(d))
	due := []string{store.HeaderName, store.HeaderCopy}
	for _, prefix := range []string{"pack/", "key/"} {
		objects, err := s.list(ctx, prefix)
		if err != nil {
			return out, err
		}
		for _, o := range objects {
			out.Objects++
			if lockDue(o.Modified, since, now, lockPeriod(d)) && !s.isUseless(o.Name) {
				due = append(due, o.Name)
			}
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readsAtOnce)
	for _, name := range due {
		group.Go(func() error {
			err := l.Extend(ctx, name, out.Until)
			if errors.Is(err, medium.ErrNotFound) {
				return nil // a sweep was faster
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return out, fmt.Errorf("renew locks: %w", err)
	}
	out.Renewed = len(due)
	return out, nil
}

// lockDue reports whether the lock of what was put at a moment is to be renewed, where that was looked at last at since.
func lockDue(put, since, now time.Time, period time.Duration) bool {
	if since.IsZero() {
		return true
	}
	periods := func(t time.Time) int64 { return int64(max(0, t.Sub(put)) / period) }
	return periods(now) > periods(since)
}

// backOff notes that a pack which no image needs is locked by its place.
func (s *Store) backOff(id chunk.PackID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.useless[id] = time.Now().Add(triedAgain)
}

// backingOff reports whether it is too early to try again to delete a pack.
func (s *Store) backingOff(id chunk.PackID) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return time.Now().Before(s.useless[id])
}

// isUseless reports whether an object is a pack that goes as soon as its place lets it.
func (s *Store) isUseless(name string) bool {
	id, err := packOf(name)
	s.mu.RLock()
	defer s.mu.RUnlock()
	_, useless := s.useless[id]
	return err == nil && useless
}
