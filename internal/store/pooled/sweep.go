package pooled

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

const (
	// A pack is rewritten when at least this share of it is of no image, in percent: where little changes each day, a store then takes about a
	// seventh more than its images need, and a sweep moves one and a half times what was stored (TestAYear).
	rewriteDead = 25
	// Packs below a quarter of the usual length are put together once there are so many of them.
	fewSmall = 16
	// moveBatch is how much is moved before the packs that it came from are deleted, in bytes.
	moveBatch = 256 << 20
)

// Sweep gives back the space of pieces that no image needs. It may run while images are written, from several processes at
// once, and be killed anywhere.
func (s *Store) Sweep(ctx context.Context, r store.SweepRequest) (store.SweepReport, error) {
	out := store.SweepReport{DryRun: r.DryRun, Why: []string{}}
	if r.Pace == nil {
		r.Pace = func(context.Context, int) error { return nil }
	}
	if r.Progress == nil {
		r.Progress = func(int64) {}
	}
	if err := s.sweeping.acquire(ctx); err != nil {
		return out, err
	}
	defer s.sweeping.release()
	if err := s.Refresh(ctx); err != nil {
		return out, err
	}
	visits, err := s.visits(ctx)
	if err != nil {
		return out, err
	}
	without := r.Without
	if !r.DryRun {
		without = nil
	}
	if out.Images, err = s.count(ctx, r.Expected, without...); err != nil {
		return out, err
	}
	plan := s.plan(len(visits) > 0, &out)
	if r.DryRun {
		return out, nil
	}
	if err := s.condemn(ctx, plan); err != nil {
		return out, err
	}
	err = s.collect(ctx, r, &out)
	if err == nil {
		err = s.tidyIndexes(ctx)
	}
	if err == nil {
		err = s.dropStrayNotes(ctx)
	}
	return out, err
}

// Collect deletes what is condemned already, as far as visits allow.
func (s *Store) Collect(ctx context.Context, expected func(context.Context) ([]string, error)) (store.SweepReport, error) {
	out := store.SweepReport{Why: []string{}}
	if err := s.sweeping.acquire(ctx); err != nil {
		return out, err
	}
	defer s.sweeping.release()
	if err := s.readCondemned(ctx); err != nil || len(s.condemnations()) == 0 {
		return out, err
	}
	r := store.SweepRequest{Expected: expected, Pace: func(context.Context, int) error { return nil }, Progress: func(int64) {}}
	return out, s.collect(ctx, r, &out)
}

// usage is how much of a pack images need: bytes of its pieces before compression, how many pieces, and what they take of it as stored.
type usage struct {
	raw, live int64
	pieces    int
}

// use sums up what was counted, by number of pack.
func (s *Store) use() []usage {
	s.mu.RLock()
	packs := slices.Clone(s.packs)
	s.mu.RUnlock()
	n := len(packs)
	use := make([]usage, n)
	need := func(v slot) {
		if int(v.pack) < n {
			use[v.pack].raw += int64(v.size())
			use[v.pack].pieces++
		}
	}
	var moved []chunk.Name // pieces of condemned packs, which may have a copy that stays
	s.table.each(func(v *slot, live bool) bool {
		switch {
		case !live || int(v.pack) >= n:
		case packs[v.pack].condemned:
			moved = append(moved, v.name)
		default:
			need(*v)
		}
		return true
	})
	for _, name := range moved {
		// Where all copies are condemned none of their packs is useless: another sweep may be deleting all but this one.
		keepers := s.copies(name)
		if i := slices.IndexFunc(keepers, func(p place) bool { return !p.condemned }); i >= 0 {
			keepers = keepers[i : i+1]
		}
		for _, p := range keepers {
			need(p.slot)
		}
	}
	for i := range use {
		use[i].live = packs[i].share(use[i].raw)
	}
	return use
}

// plan chooses packs to condemn. While somebody visits, packs that no index names are most likely being written.
func (s *Store) plan(visited bool, out *store.SweepReport) []chunk.PackID {
	use := s.use()
	s.mu.RLock()
	defer s.mu.RUnlock()
	var plan, small []chunk.PackID
	var smallLive, smallGives int64
	for i, u := range use {
		p := s.packs[i]
		if p.gone {
			continue
		}
		out.Packs++
		out.Blocks += u.pieces
		out.Stored += p.stored
		out.Dead += p.stored - u.live
		gives := p.length - u.live
		switch {
		case p.condemned:
			out.Gives += gives
		case visited && !p.indexed:
		case u.pieces == 0:
			out.Useless++
			out.Gives += gives
			plan = append(plan, p.id)
		case (p.stored-u.live)*100 >= rewriteDead*p.stored:
			out.Rewritten++
			out.Move += u.live
			out.Gives += gives
			plan = append(plan, p.id)
		case p.length < int64(s.packTarget)/4:
			small = append(small, p.id)
			smallLive, smallGives = smallLive+u.live, smallGives+gives
		}
	}
	if len(small) >= fewSmall {
		out.Rewritten += len(small)
		out.Move, out.Gives = out.Move+smallLive, out.Gives+smallGives
		plan = append(plan, small...)
	}
	return plan
}

// collect deletes condemned packs, and moves what images need of them before. It looks at visits first and at images then:
// who began before the condemnation is waited for, and whoever has ended has its image there.
func (s *Store) collect(ctx context.Context, r store.SweepRequest, out *store.SweepReport) error {
	// Where a piece lies in two packs, another sweep may have condemned the one and this sweep the other. Each looks again
	// after its own condemnation is there, so at least one of them sees both, and moves the piece.
	if err := s.Refresh(ctx); err != nil {
		return err
	}
	visits, err := s.visits(ctx)
	if err != nil {
		return err
	}
	if _, err := s.count(ctx, r.Expected); err != nil {
		return err
	}
	use := s.use()
	var useless, partly []chunk.PackID
	finished := map[string][]chunk.PackID{}
	s.mu.RLock()
	waiting := map[chunk.PackID]bool{}
	for name, packs := range s.condemned {
		blocked := slices.ContainsFunc(visits, func(v present) bool { return !slices.Contains(v.knows, name) })
		if !blocked {
			finished[name] = packs
		}
		for _, id := range packs {
			n, ok := s.numbers[id]
			switch {
			case blocked:
				waiting[id] = true
			case !ok && s.damaged[packName(id)] != nil:
				useless = append(useless, id) // nothing in it can be found any more
			case !ok:
				// Gone, or it came since the last look; the next sweep will know.
			case use[n].pieces == 0:
				useless = append(useless, id)
			default:
				partly = append(partly, id)
			}
		}
	}
	s.mu.RUnlock()
	if len(waiting) > 0 {
		out.Waiting = len(waiting)
		out.Why = append(out.Why, fmt.Sprintf("%d packs are condemned but wait for %d visits (runs, proofs or restores) that began before; the next sweep goes on", len(waiting), len(visits)))
	}
	order := func(a, b chunk.PackID) int { return slices.Compare(a[:], b[:]) }
	slices.SortFunc(useless, order)
	slices.SortFunc(partly, order)
	// What is of no use goes first: on a full disk it makes the room for moving the rest.
	for _, id := range slices.Compact(useless) {
		if err := s.deletePack(ctx, id, r, out); err != nil {
			return err
		}
	}
	if err := s.moveAll(ctx, slices.Compact(partly), r, out); err != nil {
		return err
	}
	if out.Locked > 0 {
		out.Why = append(out.Why, fmt.Sprintf("%d packs that no image needs are locked by their place; a sweep deletes them when it lets them go", out.Locked))
	}
	return s.closeCondemned(ctx, finished)
}

func (s *Store) deletePack(ctx context.Context, id chunk.PackID, r store.SweepRequest, out *store.SweepReport) error {
	s.mu.RLock()
	length := int64(0)
	if n, ok := s.numbers[id]; ok {
		length = s.packs[n].length
	}
	s.mu.RUnlock()
	if s.backingOff(id) {
		out.Locked++
		return nil
	}
	err := s.medium.Delete(ctx, packName(id))
	if errors.Is(err, medium.ErrLocked) {
		s.backOff(id)
		out.Locked++
		return nil
	}
	if err != nil {
		return err
	}
	if length > 0 {
		out.Deleted++
		out.Freed += length
		r.Progress(length)
	}
	return nil
}

// moveAll moves what images need of condemned packs into new ones, a batch at a time, and deletes them.
func (s *Store) moveAll(ctx context.Context, packs []chunk.PackID, r store.SweepRequest, out *store.SweepReport) error {
	for len(packs) > 0 {
		if !r.Until.IsZero() && !time.Now().Before(r.Until) {
			out.Waiting += len(packs)
			out.Why = append(out.Why, fmt.Sprintf("the window closed before %d packs were rewritten; the next sweep goes on", len(packs)))
			return nil
		}
		n, err := s.moveSome(ctx, packs, r, out)
		if err != nil {
			return err
		}
		packs = packs[n:]
	}
	return nil
}

// moveSome does that for the first of the packs, and returns how many these were.
func (s *Store) moveSome(ctx context.Context, packs []chunk.PackID, r store.SweepRequest, out *store.SweepReport) (n int, err error) {
	writing, cancel := context.WithCancel(ctx)
	w := s.newWriter(writing)
	defer func() { cancel(); w.Close() }()
	var moved []chunk.PackID
	for bytes := int64(0); n < len(packs) && bytes < moveBatch; n++ {
		read, err := s.movePack(ctx, w, packs[n], r)
		if errors.Is(err, chunk.ErrDamaged) {
			out.Waiting++
			out.Why = append(out.Why, fmt.Sprintf("pack %s stays, for images need what is damaged in it: %v; repair the store with: store check --repair", packs[n], err))
		} else if err != nil {
			return n, err
		} else {
			moved = append(moved, packs[n])
		}
		bytes += read
	}
	if err := w.Flush(ctx); err != nil {
		return n, err
	}
	_, stored := w.Written()
	out.Moved += stored
	for _, id := range moved {
		if err := s.deletePack(ctx, id, r, out); err != nil {
			return n, err
		}
	}
	return n, nil
}

// movePack copies what images need of a pack, as it is compressed, after it was verified.
func (s *Store) movePack(ctx context.Context, w *Writer, id chunk.PackID, r store.SweepRequest) (bytes int64, err error) {
	s.mu.RLock()
	n, ok := s.numbers[id]
	var length int64
	if ok {
		length = s.packs[n].length
	}
	s.mu.RUnlock()
	if !ok {
		return 0, nil // another sweep was faster
	}
	d, err := s.readDirectory(ctx, id, length)
	if errors.Is(err, medium.ErrNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	// Frame by frame: one of which all is needed moves as it is compressed.
	var frame, needed []chunk.Entry
	d.Each(func(e chunk.Entry) bool {
		frame = append(frame, e)
		if s.table.live(e.Name) && !s.firm(e.Name) && !w.has(e.Name) {
			needed = append(needed, e)
		}
		if !e.Last {
			return true
		}
		var moved int64
		if moved, err = s.moveFrame(ctx, w, id, frame, needed, r); err != nil {
			return false
		}
		bytes += moved
		frame, needed = frame[:0], needed[:0]
		return true
	})
	if errors.Is(err, medium.ErrNotFound) {
		err = nil
	}
	return bytes, err
}

// moveFrame copies the needed pieces of a frame.
func (s *Store) moveFrame(ctx context.Context, w *Writer, id chunk.PackID, frame, needed []chunk.Entry, r store.SweepRequest) (bytes int64, err error) {
	if len(needed) == 0 {
		return 0, nil
	}
	if err := r.Pace(ctx, 2*int(frame[0].Stored)); err != nil {
		return 0, err
	}
	stored, err := s.readPack(ctx, id, int64(frame[0].Offset), int64(frame[0].Stored))
	if err != nil {
		return 0, err
	}
	content, compressed, err := chunk.OpenFrame(s.seal.Pack(id), frame[0].Offset, frame[0].Codec, stored, nil)
	if err != nil {
		return 0, err
	}
	var pieces []chunk.Piece
	var at []span
	for _, e := range needed {
		if _, err := e.Piece(s.seal, content); err != nil {
			return 0, fmt.Errorf("piece %s: %w", e.Name, err)
		}
		if w.claim(e.Name) {
			pieces, at = append(pieces, chunk.Piece{Name: e.Name, Size: e.Size}), append(at, span{int(e.Within), int(e.Within + e.Size)})
		}
	}
	if len(pieces) == len(frame) {
		return int64(frame[0].Stored), w.add(pieces, compressed, frame[0].Codec, len(content), false)
	}
	for i, p := range pieces {
		if err := w.putFrame([]chunk.Piece{p}, content[at[i].from:at[i].until], false); err != nil {
			return 0, err
		}
	}
	return int64(frame[0].Stored), nil
}

// closeCondemned takes the condemnations away of whose packs none is left.
func (s *Store) closeCondemned(ctx context.Context, finished map[string][]chunk.PackID) error {
	if err := s.restoreReserve(ctx); err != nil || len(finished) == 0 {
		return err
	}
	left := map[chunk.PackID]bool{}
	objects, err := s.list(ctx, "pack/")
	if err != nil {
		return err
	}
	for _, o := range objects {
		if id, err := packOf(o.Name); err == nil {
			left[id] = true
		}
	}
	for name, packs := range finished {
		if slices.ContainsFunc(packs, func(id chunk.PackID) bool { return left[id] }) {
			continue
		}
		if err := s.medium.Delete(ctx, name); err != nil {
			return err
		}
	}
	return s.Refresh(ctx)
}

// tidyIndexes puts small indexes together, and writes those anew that name packs which are gone.
func (s *Store) tidyIndexes(ctx context.Context) error {
	const (
		small = 2 << 20 // bytes
		many  = 16
	)
	s.mu.RLock()
	var anew, few []string
	for name, f := range s.indexes {
		gone := 0
		for _, id := range f.packs {
			if _, ok := s.numbers[id]; !ok {
				gone++
			}
		}
		if s.damaged[name] != nil {
			continue // for a repair
		}
		if gone > 0 {
			anew = append(anew, name)
		} else if f.bytes < small {
			few = append(few, name)
		}
	}
	unindexed := 0
	for _, p := range s.packs {
		if !p.gone && !p.indexed {
			unindexed++
		}
	}
	s.mu.RUnlock()
	if len(few) >= many {
		anew = append(anew, few...)
	}
	if len(anew) == 0 && unindexed < many {
		return nil
	}
	return s.reindex(ctx, anew)
}

// reindex writes one index of what some name, and of packs that none names, and deletes them.
func (s *Store) reindex(ctx context.Context, names []string) error {
	slices.Sort(names)
	done := map[chunk.PackID]bool{}
	var packs []landedPack
	bytes := 0
	add := func(d chunk.Directory, length int64) {
		s.mu.RLock()
		n, there := s.numbers[d.Pack]
		there = there && !s.packs[n].condemned
		s.mu.RUnlock()
		if !there || done[d.Pack] {
			return
		}
		done[d.Pack] = true
		packs, bytes = append(packs, landedPack{d, length}), bytes+d.Len()
	}
	var old []string
	flush := func() error {
		if err := s.writeIndex(ctx, packs); err != nil {
			return err
		}
		for _, name := range old {
			if err := s.medium.Delete(ctx, name); err != nil {
				return err
			}
			s.mu.Lock()
			delete(s.indexes, name)
			delete(s.damaged, name)
			s.mu.Unlock()
		}
		packs, bytes, old = nil, 0, nil
		return nil
	}
	for _, name := range names {
		payload, err := s.readObject(ctx, chunk.IndexObject, name)
		if err == nil {
			err = chunk.WalkIndex(payload, func(d chunk.Directory, length int64) error { add(d, length); return nil })
		}
		if err != nil && !errors.Is(err, medium.ErrNotFound) && !errors.Is(err, chunk.ErrDamaged) {
			return err
		}
		old = append(old, name)
		if bytes >= chunk.MaxIndex/2 {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	s.mu.RLock()
	var unindexed []pack
	for _, p := range s.packs {
		if !p.gone && !p.indexed && !p.condemned && !done[p.id] {
			unindexed = append(unindexed, p)
		}
	}
	s.mu.RUnlock()
	for _, p := range unindexed {
		d, err := s.readDirectory(ctx, p.id, p.length)
		if errors.Is(err, medium.ErrNotFound) || errors.Is(err, chunk.ErrDamaged) {
			continue
		}
		if err != nil {
			return err
		}
		add(d, p.length)
	}
	return flush()
}
