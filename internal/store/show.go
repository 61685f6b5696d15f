package store

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
)

// Summary is a store's description of itself. Lengths are in bytes.
type Summary struct {
	Header Header `json:"header"`
	Images int    `json:"images"`
	// Unreadable are images whose manifest is damaged.
	Unreadable int `json:"unreadable"`
	Machines   int `json:"machines"`
	// Disks is the length of all disks of all images. Zeros, Dedup and Compression are what was saved of it, step by step,
	// and Blocks is what remains: Disks = Zeros + Dedup + Compression + Blocks.
	Disks       int64 `json:"disks"`
	Zeros       int64 `json:"zeros"`
	Dedup       int64 `json:"dedup"`
	Compression int64 `json:"compression"`
	Blocks      int64 `json:"blocks"`
	// Unneeded is how much of Blocks no image needs; a sweep gives it back.
	Unneeded int64 `json:"unneeded"`
	// Taken is what all objects take on the medium, Objects and Packs are how many there are, MeanPack is a pack's length.
	Taken     int64       `json:"taken"`
	Objects   int         `json:"objects"`
	Packs     int         `json:"packs"`
	MeanPack  int64       `json:"mean_pack"`
	Condemned int         `json:"condemned"` // packs that will go
	Visits    int         `json:"visits"`    // runs, proofs and restores that are under way here
	Oldest    *time.Time  `json:"oldest"`
	Newest    *time.Time  `json:"newest"`
	Days      []DayGrowth `json:"days"` // oldest first
	Room      medium.Room `json:"room"`

	machines map[string]bool
}

// DayGrowth is what a day's images, as far as they still exist, added.
type DayGrowth struct {
	Day    string `json:"day"` // 2006-01-02, in the zone asked for
	Images int    `json:"images"`
	Stored int64  `json:"stored"`
}

// Show describes the store. Days are told in zone.
func (s *Store) Show(ctx context.Context, zone *time.Location) (Summary, error) {
	out := Summary{Header: s.header, Days: []DayGrowth{}}
	if err := s.Refresh(ctx); err != nil {
		return out, err
	}
	if err := s.sweeping.acquire(ctx); err != nil { // marks are a sweep's, too
		return out, err
	}
	defer s.sweeping.release()
	m := newMarker(s)
	marked := m.markAll(ctx)
	if marked != nil && !errors.Is(marked, chunk.ErrDamaged) {
		return out, marked
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
		if marked == nil && i < len(use) {
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
	// Map blocks are stored beside the data; on a store without anything to share they would make the second figure negative.
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

// Add counts an image. Days are told in zone, and kept in order.
func (out *Summary) Add(m *image.Manifest, zone *time.Location) {
	out.Images++
	out.Disks += m.Sizes.Disks
	if out.machines == nil {
		out.machines = map[string]bool{}
	}
	out.machines[m.Machine] = true
	out.Machines = len(out.machines)
	taken := m.Taken
	if out.Oldest == nil || taken.Before(*out.Oldest) {
		out.Oldest = &taken
	}
	if out.Newest == nil || taken.After(*out.Newest) {
		out.Newest = &taken
	}
	day := taken.In(zone).Format(time.DateOnly)
	i, found := slices.BinarySearchFunc(out.Days, day, func(d DayGrowth, day string) int { return strings.Compare(d.Day, day) })
	if !found {
		out.Days = slices.Insert(out.Days, i, DayGrowth{Day: day})
	}
	out.Days[i].Images++
	out.Days[i].Stored += m.Sizes.Stored
}

// Used is what the store's objects take, in bytes, and their number.
func (s *Store) Used(ctx context.Context) (bytes int64, objects int, err error) {
	for _, prefix := range []string{"pack/", "index/", "image/", "key/", "visit/", "condemned/", "proof/", "pin/"} {
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
