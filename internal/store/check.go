package store

import (
	"context"
	"errors"
	"fmt"
	"sort"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
)

// Problem is damage found in a store, with what it hits.
type Problem struct {
	Image string `json:"image,omitempty"`
	Disk  string `json:"disk,omitempty"`
	// Offset and Length are the bytes of the disk that can't be had.
	Offset int64  `json:"offset,omitempty"`
	Length int64  `json:"length,omitempty"`
	What   string `json:"what"`
}

// Report is the outcome of a check.
type Report struct {
	Images   int       `json:"images"`
	Packs    int       `json:"packs"`
	Blocks   int       `json:"blocks"`
	Read     int64     `json:"read"` // bytes of blocks read back, before compression
	Problems []Problem `json:"problems"`
}

// maxProblems bounds a report; after so many the rest is counted only.
const maxProblems = 1000

// Check finds damage. It reads every image's manifest and map blocks and looks that the data blocks lie within their
// packs; with read it also reads each data block back and matches it against its name. The error is for a check that
// could not be carried out; damage is in the report.
func (s *Store) Check(ctx context.Context, read bool) (Report, error) {
	r := Report{Problems: []Problem{}}
	add := func(p Problem) {
		if len(r.Problems) < maxProblems {
			r.Problems = append(r.Problems, p)
		}
	}
	if err := s.Refresh(ctx); err != nil {
		return r, err
	}
	sizes := map[chunk.PackID]int64{}
	err := s.medium.List(ctx, "pack/", func(o medium.Object) error {
		if id, err := packOf(o); err == nil {
			sizes[id] = o.Size
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	r.Packs = len(sizes)
	s.mu.RLock()
	for _, err := range s.damaged {
		add(Problem{What: err.Error()})
	}
	s.mu.RUnlock()

	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return r, err
	}
	sort.Strings(ids)
	verdicts := map[chunk.Name]error{} // each block is looked at once, however many images share it
	for _, id := range ids {
		m, err := s.ReadImage(ctx, id)
		if errors.Is(err, medium.ErrNotFound) {
			continue // dropped meanwhile
		}
		if err != nil {
			add(Problem{Image: id, What: err.Error()})
			continue
		}
		r.Images++
		for _, d := range m.Disks {
			if err := s.checkDisk(ctx, m.ID, d, read, sizes, verdicts, &r, add); err != nil {
				return r, err
			}
		}
	}
	return r, nil
}

func (s *Store) checkDisk(ctx context.Context, id string, d image.Disk, read bool, sizes map[chunk.PackID]int64, verdicts map[chunk.Name]error, r *Report, add func(Problem)) error {
	reader, err := image.NewReader(s, d)
	if err != nil {
		add(Problem{Image: id, Disk: d.Target, What: err.Error()})
		return nil
	}
	err = reader.Names(ctx, func(name chunk.Name, isMap bool, offset, length int64) error {
		verdict, seen := verdicts[name]
		if !seen {
			verdict = s.checkBlock(ctx, name, read || isMap, sizes, &r.Read)
			verdicts[name] = verdict
			r.Blocks++
		}
		if verdict != nil {
			add(Problem{id, d.Target, offset, min(length, d.Size-offset), verdict.Error()})
			if isMap {
				return image.ErrSkip
			}
		}
		return ctx.Err()
	})
	return err
}

func (s *Store) checkBlock(ctx context.Context, name chunk.Name, read bool, sizes map[chunk.PackID]int64, sum *int64) error {
	p, pack, ok := s.find(name)
	if !ok {
		return fmt.Errorf("block %s is missing: no pack holds it", name)
	}
	size, ok := sizes[pack]
	if !ok {
		return fmt.Errorf("block %s is missing: pack %s is gone", name, pack)
	}
	if int64(p.offset)+int64(p.stored) > size {
		return fmt.Errorf("block %s is cut off: pack %s ends at byte %d", name, pack, size)
	}
	if !read {
		return nil
	}
	block, err := s.Get(ctx, name)
	*sum += int64(len(block))
	return err
}
