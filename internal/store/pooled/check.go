package pooled

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// findings are what a check found, for a repair.
type findings struct {
	mu     sync.Mutex
	report store.Report
	bad    map[chunk.Name]string // pieces without a good copy, with the object at fault
	why    map[chunk.Name]error
	packs  map[chunk.PackID]bool  // packs to be replaced
	lost   map[chunk.Name]bool    // pieces that images need and nobody has
	clean  map[node]bool          // map blocks under which all is well
	images map[string]error       // images whose manifest can't be read
	others map[string]error       // other damaged objects, by name
	sizes  map[chunk.PackID]int64 // packs that are there
}

// Check finds damage. It reads every object but packs, looks that each pack has the length and the directory that it ought to
// have, and walks every image; with read it also reads every byte of the packs. progress is called with bytes read; it may be
// nil. The error is for a check that could not be carried out; damage is in the report.
func (s *Store) Check(ctx context.Context, read bool, progress func(int64)) (store.Report, error) {
	f, err := s.check(ctx, read, progress)
	if err != nil {
		return store.Report{Problems: []store.Problem{}, Broken: []string{}}, err
	}
	return f.report, nil
}

func (s *Store) check(ctx context.Context, read bool, progress func(int64)) (*findings, error) {
	if progress == nil {
		progress = func(int64) {}
	}
	f := &findings{report: store.Report{Problems: []store.Problem{}, Broken: []string{}}, bad: map[chunk.Name]string{}, why: map[chunk.Name]error{},
		packs: map[chunk.PackID]bool{}, lost: map[chunk.Name]bool{}, clean: map[node]bool{}, images: map[string]error{}, others: map[string]error{}, sizes: map[chunk.PackID]int64{}}
	if err := s.Refresh(ctx); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context, *findings) error{s.checkHeader, s.checkObjects} {
		if err := step(ctx, f); err != nil {
			return nil, err
		}
	}
	if err := s.checkPacks(ctx, f, read, progress); err != nil {
		return nil, err
	}
	if err := s.checkImages(ctx, f); err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(f.others)) {
		f.report.Add(store.Problem{Object: name, What: f.others[name].Error()})
	}
	// From now on new images don't lean on what is damaged; the next run stores it again and so mends older images, too.
	s.mu.Lock()
	s.bad = map[chunk.Name]bool{}
	for name := range f.bad {
		s.bad[name] = true
	}
	s.mu.Unlock()
	slices.Sort(f.report.Broken)
	return f, nil
}

func (s *Store) checkHeader(ctx context.Context, f *findings) error {
	for _, name := range []string{store.HeaderName, store.HeaderCopy} {
		h, err := store.ReadHeaderAs(ctx, s.medium, name)
		switch {
		case err == nil && !reflect.DeepEqual(h, s.header):
			f.others[name] = fmt.Errorf("%w: it is of another store", chunk.ErrDamaged)
		case store.IsHeaderGone(err):
			f.others[name] = err
		case err != nil:
			return err
		}
	}
	return nil
}

// checkObjects reads every small object.
func (s *Store) checkObjects(ctx context.Context, f *findings) error {
	for prefix, kind := range map[string]chunk.ObjectKind{"index/": chunk.IndexObject, "condemned/": chunk.CondemnedObject,
		"visit/": chunk.VisitObject, "proof/": chunk.ProofObject, "pin/": chunk.PinObject, exhibits: chunk.ExhibitObject, "key/": chunk.KeyObject} {
		objects, err := s.list(ctx, prefix)
		if err != nil {
			return err
		}
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(readsAtOnce)
		for _, o := range objects {
			if kind == chunk.VisitObject && !strings.HasSuffix(o.Name, ".start") {
				continue
			}
			group.Go(func() error {
				var err error
				switch kind {
				case chunk.KeyObject:
					_, err = readKey(ctx, s.medium, o.Name)
				case chunk.IndexObject:
					var payload []byte
					if payload, err = s.readObject(ctx, kind, o.Name); err == nil {
						err = chunk.WalkIndex(payload, func(chunk.Directory, int64) error { return nil })
					}
				default:
					_, err = s.readObject(ctx, kind, o.Name)
				}
				if errors.Is(err, chunk.ErrDamaged) {
					f.mu.Lock()
					defer f.mu.Unlock()
					f.others[o.Name] = err
					return nil
				}
				if errors.Is(err, medium.ErrNotFound) {
					return nil
				}
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// checkPacks looks at every pack that is there or ought to be.
func (s *Store) checkPacks(ctx context.Context, f *findings, read bool, progress func(int64)) error {
	objects, err := s.list(ctx, "pack/")
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(4)
	for _, o := range objects {
		id, err := packOf(o.Name)
		if err != nil {
			continue
		}
		f.sizes[id] = o.Size
		group.Go(func() error {
			err := s.checkPack(ctx, f, id, o.Size, read, progress)
			if errors.Is(err, medium.ErrNotFound) {
				return nil // swept meanwhile
			}
			return err
		})
	}
	err = group.Wait()
	f.report.Packs = len(f.sizes)
	return err
}

func (s *Store) checkPack(ctx context.Context, f *findings, id chunk.PackID, size int64, read bool, progress func(int64)) error {
	name := packName(id)
	fault := func(err error) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.packs[id] = true
		f.others[name] = err
	}
	d, err := s.readDirectory(ctx, id, size)
	if errors.Is(err, chunk.ErrDamaged) {
		fault(err)
		// An index may still know what lies in it; each piece is then looked at by itself.
		return s.checkKnown(ctx, f, id, size)
	}
	if err != nil || !read {
		return err
	}
	body, err := s.medium.Get(ctx, name, 0, size)
	if err != nil {
		return err
	}
	progress(size)
	s.checkFrames(id, d, body, func(e chunk.Entry, err error) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.report.Blocks++
		if err != nil {
			f.packs[id] = true
			f.others[name] = fmt.Errorf("pack %s: piece at byte %d: %w", id, e.Offset, err)
			f.bad[e.Name], f.why[e.Name] = name, err
		}
	})
	f.mu.Lock()
	f.report.Read += size
	f.mu.Unlock()
	return nil
}

// checkFrames calls found for every piece of a pack, whose bytes body has, with what is wrong with it.
func (s *Store) checkFrames(id chunk.PackID, d chunk.Directory, body []byte, found func(e chunk.Entry, err error)) {
	own := s.seal.Pack(id)
	var content []byte
	var broken error
	d.Each(func(e chunk.Entry) bool {
		if e.Within == 0 {
			end := int64(e.Offset) + int64(e.Stored)
			if content, broken = nil, nil; end > int64(len(body)) {
				broken = fmt.Errorf("%w: it would end at byte %d of %d", chunk.ErrDamaged, end, len(body))
			} else {
				content, _, broken = chunk.OpenFrame(own, e.Offset, e.Codec, body[e.Offset:end], nil)
			}
		}
		err := broken
		if err == nil {
			_, err = e.Piece(s.seal, content)
		}
		found(e, err)
		return true
	})
}

// checkKnown reads the pieces that an index says lie in a pack whose own directory is damaged.
func (s *Store) checkKnown(ctx context.Context, f *findings, id chunk.PackID, size int64) error {
	s.mu.RLock()
	n, ok := s.numbers[id]
	s.mu.RUnlock()
	if !ok {
		return nil
	}
	var inside []slot
	s.table.each(func(v *slot, _ bool) bool {
		if v.pack == n {
			inside = append(inside, *v)
		}
		return true
	})
	stored := s.asItLies()
	for _, v := range inside {
		_, err := stored.at(ctx, place{v, id, false})
		if errors.Is(err, medium.ErrNotFound) {
			return err
		}
		if err != nil && !errors.Is(err, chunk.ErrDamaged) {
			return err
		}
		f.mu.Lock()
		f.report.Blocks++
		if err != nil {
			f.bad[v.name], f.why[v.name] = packName(id), err
		}
		f.mu.Unlock()
	}
	return nil
}

// checkImages walks every image, and tells what damage hits.
func (s *Store) checkImages(ctx context.Context, f *findings) error {
	// A piece is lost only if no copy of it is good.
	stored := s.asItLies()
	for name := range f.bad {
		for _, c := range s.copies(name) {
			if packName(c.id) == f.bad[name] {
				continue
			}
			if _, err := stored.at(ctx, c); err == nil {
				delete(f.bad, name)
				break
			}
		}
	}
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		m, err := s.ReadImage(ctx, id)
		if errors.Is(err, medium.ErrNotFound) {
			continue // dropped meanwhile
		}
		if errors.Is(err, chunk.ErrDamaged) {
			f.images[id] = err
			f.report.Add(store.Problem{Object: imageName(id), Image: id, What: err.Error()})
			continue
		}
		if err != nil {
			return err
		}
		f.report.Images++
		trees, err := m.Trees()
		if err != nil {
			return err
		}
		for _, tree := range trees {
			w := walker{s: s, stored: stored, f: f, image: m.ID, tree: tree}
			if _, err := w.walk(ctx, node{tree.Root, tree.Height}, 0, tree.Span()); err != nil {
				return err
			}
		}
	}
	return nil
}

// walker follows one disk's map, or a rope.
type walker struct {
	s      *Store
	stored reader
	f      *findings
	image  string
	tree   image.Tree
}

// walk reports whether all is well with a piece or a map block, and what hangs on it. It is what length bytes of the disk, or of the stream, from at on
// need, which may lie over its end.
func (w walker) walk(ctx context.Context, n node, at, length int64) (clean bool, err error) {
	if n.name.IsZero() || w.f.clean[n] {
		return true, nil
	}
	hit := func(err error) {
		w.f.lost[n.name] = true
		w.f.report.Add(store.Problem{Object: w.f.bad[n.name], Image: w.image, Disk: w.tree.What, Offset: at, Length: min(length, w.tree.Size-at), What: err.Error()})
	}
	if why, ok := w.f.why[n.name]; ok && w.f.bad[n.name] != "" {
		hit(why)
		return false, nil
	}
	p, ok := w.s.find(n.name)
	if !ok {
		hit(fmt.Errorf("piece %s is missing: no pack holds it", n.name))
		return false, nil
	}
	size, there := w.f.sizes[p.id]
	there = there && int64(p.offset)+int64(p.stored()) <= size // otherwise it may have been moved since the packs were listed
	if n.height == 0 && there {
		return true, nil
	}
	body, err := w.stored.GetMap(ctx, n.name)
	if errors.Is(err, chunk.ErrDamaged) {
		hit(err)
		return false, nil
	}
	if err != nil || n.height == 0 {
		return err == nil, err
	}
	clean = true
	err = image.Children(body, n.height, at, func(v image.Visit) error {
		ok, err := w.walk(ctx, node{v.Name, v.Height}, v.Offset, v.Length)
		clean = clean && ok
		return err
	})
	if errors.Is(err, chunk.ErrDamaged) {
		hit(err)
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if clean {
		w.f.clean[n] = true
	}
	return clean, ctx.Err()
}
