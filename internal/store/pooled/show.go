package pooled

import (
	"context"
	"errors"
	"strings"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// Show describes the store. Days are told in zone.
func (s *Store) Show(ctx context.Context, zone *time.Location) (store.Summary, error) {
	out := store.Summary{Header: s.header, MinPiece: s.cuts.Min, MeanPiece: s.cuts.Mean, MaxPiece: s.cuts.Max, Days: []store.DayGrowth{}}
	if err := s.Refresh(ctx); err != nil {
		return out, err
	}
	if err := s.sweeping.acquire(ctx); err != nil { // a sweep counts, too
		return out, err
	}
	defer s.sweeping.release()
	_, counted := s.count(ctx, nil)
	if counted != nil && !errors.Is(counted, chunk.ErrDamaged) {
		return out, counted
	}
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return out, err
	}
	var data int64
	for _, id := range ids {
		man, err := s.ReadImage(ctx, id)
		if errors.Is(err, medium.ErrNotFound) {
			continue
		}
		if errors.Is(err, chunk.ErrDamaged) {
			out.Unreadable++
			continue
		}
		if err != nil {
			return out, err
		}
		out.Add(man, zone)
		data += man.Sizes.Data
	}
	var raw, lengths int64
	use := s.use()
	s.mu.RLock()
	for i, p := range s.packs {
		if p.gone {
			continue
		}
		out.Packs++
		raw, lengths = raw+p.raw, lengths+p.length
		out.Blocks += p.stored
		if counted == nil && i < len(use) {
			out.Unneeded += p.stored - use[i].live
		}
		if p.condemned {
			out.Condemned++
		}
	}
	s.mu.RUnlock()
	if out.Packs > 0 {
		out.MeanPack = lengths / int64(out.Packs)
	}
	// Maps are stored beside the data; on a store without anything to share they would make the second figure negative.
	out.Zeros, out.Dedup = out.Disks-data, max(0, data-raw)
	out.Compression = data - out.Dedup - out.Blocks
	visits, err := s.list(ctx, "visit/")
	if err != nil {
		return out, err
	}
	for _, o := range visits {
		if strings.HasSuffix(o.Name, ".start") {
			out.Visits++
		}
	}
	if out.Taken, out.Objects, err = s.Used(ctx); err != nil {
		return out, err
	}
	out.Room, err = s.medium.Room(ctx)
	return out, err
}

// Footprint implements [store.Store]: the packs that were there at the last [Store.Refresh], or came since.
func (s *Store) Footprint(context.Context) (bytes int64, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, p := range s.packs {
		if !p.gone {
			bytes += p.length
		}
	}
	return bytes, nil
}

// Used is what the store's objects take, in bytes, and their number.
func (s *Store) Used(ctx context.Context) (bytes int64, objects int, err error) {
	for _, prefix := range []string{"pack/", "index/", "image/", "key/", "visit/", "condemned/", "proof/", "pin/", "owner/", "trail/"} {
		err := s.medium.List(ctx, prefix, func(o medium.Object) error {
			bytes, objects = bytes+o.Size, objects+1
			return nil
		})
		if err != nil {
			return 0, 0, err
		}
	}
	return bytes, objects, nil
}
