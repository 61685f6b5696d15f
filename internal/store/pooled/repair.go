package pooled

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// repairRounds bounds how often a repair looks again: each round may bring a map block back, under which more is missing.
const repairRounds = 8

// Repair checks the store, reading every byte, and mends what it can: lost pieces from another store, indexes from the packs,
// damaged packs by moving what is whole in them. from may be nil. What is left is in the report, and what was done.
func (s *Store) Repair(ctx context.Context, from store.Store, progress func(int64)) (store.Report, error) {
	var other *Store
	if from != nil {
		var ok bool
		if other, ok = from.(*Store); !ok {
			return store.Report{Problems: []store.Problem{}, Broken: []string{}}, fmt.Errorf("%s holds a store of the %s layout; only a pooled one has the pieces that another lost", from.Medium(), from.Header().Layout)
		}
	}
	var mended []string
	for round := 0; ; round++ {
		f, err := s.check(ctx, true, progress)
		if err != nil {
			return store.Report{Problems: []store.Problem{}, Broken: []string{}}, err
		}
		did, err := s.mend(ctx, f, other)
		mended = append(mended, did...)
		if err == nil && len(did) == 0 && len(f.lost) > 0 && other != nil && other.cuts != s.cuts {
			mended = append(mended, fmt.Sprintf("%s cuts otherwise, so most of its pieces are others: %d pieces could not be had from it; a store that was made like this one could give them (store add --like)", other.medium, len(f.lost)))
		}
		if err != nil || len(did) == 0 || round == repairRounds {
			f.report.Mended = mended
			return f.report, err
		}
	}
}

// mend does one round.
func (s *Store) mend(ctx context.Context, f *findings, from *Store) (did []string, err error) {
	tell := func(format string, args ...any) { did = append(did, fmt.Sprintf(format, args...)) }
	if err := s.mendHeader(ctx, f, tell); err != nil {
		return did, err
	}
	if len(f.lost) > 0 && from != nil {
		if err := from.Refresh(ctx); err != nil {
			return did, err
		}
		n, err := s.fetch(ctx, f.lost, from)
		if n > 0 {
			tell("%d lost pieces were fetched from %s", n, from.medium)
		}
		if err != nil {
			return did, err
		}
	}
	for _, id := range slices.Sorted(maps.Keys(f.images)) {
		if from == nil || !s.sameNames(from) {
			break
		}
		m, err := from.ReadImage(ctx, id)
		if err != nil {
			continue // it does not have it, or not whole
		}
		body, err := m.Encode()
		if err != nil {
			return did, err
		}
		if err := s.medium.Delete(ctx, imageName(id)); err != nil {
			return did, err
		}
		if err := s.putObject(ctx, chunk.ImageObject, imageName(id), body); err != nil {
			return did, err
		}
		tell("the manifest of image %s was fetched from %s", id, from.medium)
	}
	var indexes []string
	for _, name := range slices.Sorted(maps.Keys(f.others)) {
		switch prefix, _, _ := strings.Cut(name, "/"); prefix {
		case "index":
			indexes = append(indexes, name)
		case "condemned", "visit", "proof", "pin":
			if err := s.medium.Delete(ctx, name); err != nil {
				return did, err
			}
			tell("%s was deleted, for it can't be read", name)
		}
	}
	if len(indexes) > 0 {
		if err := s.reindex(ctx, indexes); err != nil {
			return did, err
		}
		tell("%d indexes were written anew from the packs", len(indexes))
	}
	if err := s.replacePacks(ctx, f, tell); err != nil {
		return did, err
	}
	return did, nil
}

func (s *Store) mendHeader(ctx context.Context, f *findings, tell func(string, ...any)) error {
	for _, name := range []string{store.HeaderName, store.HeaderCopy} {
		if f.others[name] == nil {
			continue
		}
		body, err := s.header.Encode()
		if err != nil {
			return err
		}
		if err := s.medium.Delete(ctx, name); err != nil {
			return err
		}
		if err := s.medium.Put(ctx, name, body); err != nil {
			return err
		}
		tell("%s was written anew", name)
	}
	return nil
}

// replacePacks condemns damaged packs and moves what is whole in them. Those that hold what images need and nobody has stay,
// condemned, until a later run stores it again.
func (s *Store) replacePacks(ctx context.Context, f *findings, tell func(string, ...any)) error {
	var packs []chunk.PackID
	s.mu.RLock()
	for id := range f.packs {
		n, ok := s.numbers[id]
		if !ok || !s.packs[n].condemned {
			packs = append(packs, id)
		}
	}
	s.mu.RUnlock()
	packs = slices.DeleteFunc(packs, func(id chunk.PackID) bool { return s.isCondemned(id) })
	if len(packs) == 0 {
		return nil
	}
	if err := s.condemn(ctx, packs); err != nil {
		return err
	}
	tell("%d damaged packs are condemned; what is whole in them moves to new ones", len(packs))
	_, err := s.Collect(ctx, nil)
	if errors.Is(err, chunk.ErrDamaged) {
		return nil // an image that can't be read: told by the report, and the packs wait
	}
	return err
}

func (s *Store) isCondemned(id chunk.PackID) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, packs := range s.condemned {
		if slices.Contains(packs, id) {
			return true
		}
	}
	return false
}

// sameNames reports whether two stores name equal pieces equally.
func (s *Store) sameNames(other *Store) bool {
	return s.seal == nil && other.seal == nil || s.seal != nil && other.seal != nil && s.header.Check == other.header.Check
}

// fetch stores pieces that another store has. Where that one is sealed with another secret, its pieces have other names, and
// all of it must be read to find them; map blocks can't be found so, for names are what they hold.
func (s *Store) fetch(ctx context.Context, lost map[chunk.Name]bool, from *Store) (n int, err error) {
	visit, err := s.VisitToWrite(ctx, image.NewID(), "keenlodge repair")
	if err != nil {
		return 0, err
	}
	defer visit.End(ctx)
	s.mu.Lock()
	for name := range lost {
		s.bad[name] = true // stored anew, whatever the index says
	}
	s.mu.Unlock()
	writing, cancel := context.WithCancel(ctx)
	w := visit.NewWriter(writing)
	defer func() { cancel(); w.Close() }()
	// What a lost name is, a piece or a map block, its store knows no more; either way it is stored as one.
	take := func(piece []byte) error {
		name := s.seal.Name(piece)
		if !lost[name] || !w.claim(name) {
			return nil
		}
		n++
		return w.putFrame([]chunk.Piece{{Name: name, Size: uint32(len(piece))}}, piece, false)
	}
	if s.sameNames(from) {
		for name := range lost {
			piece, err := from.GetMap(ctx, name)
			if errors.Is(err, chunk.ErrDamaged) {
				continue // it has no good copy either
			}
			if err == nil {
				err = take(piece)
			}
			if err != nil {
				return n, err
			}
		}
		return n, w.Flush(ctx)
	}
	var names []chunk.Name
	from.table.each(func(v *slot, _ bool) bool { names = append(names, v.name); return true })
	for _, name := range names {
		piece, err := from.GetMap(ctx, name)
		if errors.Is(err, chunk.ErrDamaged) {
			continue
		}
		if err == nil {
			err = take(piece)
		}
		if err != nil {
			return n, err
		}
	}
	return n, w.Flush(ctx)
}
