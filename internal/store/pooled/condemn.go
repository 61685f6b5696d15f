package pooled

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
)

// condemn names packs that will go.
func (s *Store) condemn(ctx context.Context, packs []chunk.PackID) error {
	if len(packs) == 0 {
		return nil
	}
	payload := make([]byte, 0, 16*len(packs))
	for _, id := range packs {
		payload = append(payload, id[:]...)
	}
	name := "condemned/" + image.NewID()
	err := s.putObject(ctx, chunk.CondemnedObject, name, payload)
	if errors.Is(err, medium.ErrFull) {
		// Not even this fits: that is what the reserve is for.
		if err := s.medium.Delete(ctx, reserveName); err != nil {
			return err
		}
		err = s.putObject(ctx, chunk.CondemnedObject, name, payload)
	}
	if err != nil {
		return err
	}
	s.noteCondemned(name, packs)
	return nil
}

// The reserve is an object without meaning, which gives way when a store is so full that nothing could be condemned, and so
// nothing deleted. Random bytes, so that no medium makes less of it.
const (
	reserveName  = "reserve"
	reserveBytes = 1 << 20
)

func putReserve(ctx context.Context, m medium.Medium) error {
	body := make([]byte, reserveBytes)
	rand.Read(body)
	return m.Put(ctx, reserveName, body)
}

// restoreReserve puts the reserve back once there is room again.
func (s *Store) restoreReserve(ctx context.Context) error {
	_, err := s.medium.Stat(ctx, reserveName)
	if errors.Is(err, medium.ErrNotFound) {
		if err = putReserve(ctx, s.medium); errors.Is(err, medium.ErrFull) {
			return nil // another time
		}
	}
	return err
}

func (s *Store) noteCondemned(name string, packs []chunk.PackID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.condemned[name] = packs
	s.markCondemned(packs)
}

// markCondemned notes it with the packs that are known. The caller holds mu.
func (s *Store) markCondemned(packs []chunk.PackID) {
	for _, id := range packs {
		if n, ok := s.numbers[id]; ok {
			s.packs[n].condemned = true
		}
	}
}

// condemnations lists the condemnations that were read.
func (s *Store) condemnations() []string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	names := make([]string, 0, len(s.condemned))
	for name := range s.condemned {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// readCondemned brings the condemnations up to date. One that is damaged is as good as none: who began before it was is
// waited for, because its visit does not name it.
func (s *Store) readCondemned(ctx context.Context) error {
	objects, err := s.list(ctx, "condemned/")
	if err != nil {
		return err
	}
	s.mu.Lock()
	listed := map[string]bool{}
	for _, o := range objects {
		listed[o.Name] = true
	}
	for name := range s.condemned {
		if !listed[name] {
			delete(s.condemned, name) // all of its packs are gone
		}
	}
	for name := range s.damaged {
		if strings.HasPrefix(name, "condemned/") && !listed[name] {
			delete(s.damaged, name)
		}
	}
	s.mu.Unlock()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readsAtOnce)
	for _, o := range objects {
		s.mu.RLock()
		_, known := s.condemned[o.Name]
		s.mu.RUnlock()
		if known {
			continue
		}
		group.Go(func() error {
			payload, err := s.readObject(ctx, chunk.CondemnedObject, o.Name)
			switch {
			case errors.Is(err, medium.ErrNotFound):
				return nil
			case errors.Is(err, chunk.ErrDamaged):
				s.mu.Lock()
				defer s.mu.Unlock()
				s.damaged[o.Name] = err
				return nil
			case err != nil:
				return err
			}
			var packs []chunk.PackID
			for ; len(payload) >= 16; payload = payload[16:] {
				packs = append(packs, chunk.PackID(payload))
			}
			s.noteCondemned(o.Name, packs)
			return nil
		})
	}
	return group.Wait()
}
