package pooled

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// wholeEvery is how long a tally is carried on before all is counted anew: counts that grew too large to be told are never lowered.
const wholeEvery = 30 * 24 * time.Hour

// tally counts how often what lies in the store is referred to by the images that exist: map blocks here, pieces in the table. It is carried on
// from one sweep to the next, so that only what hangs on images that came or went is walked: what images share is counted once, by the map
// blocks that name it. A tally that went wrong anywhere is thrown away, and all is counted anew.
type tally struct {
	s     *Store
	since time.Time
	// images are the roots of those that were counted.
	images map[string][]node
	nodes  [64]blockCounts
	// unsure says that something was met that could not be counted, such as a piece that is missing: what is counted holds for the images that
	// exist now, but is not carried on.
	unsure bool
	mu     sync.Mutex // guards images and unsure while images are counted side by side
}

type blockCounts struct {
	mu     sync.Mutex
	counts map[node]uint32
}

// node is a map block at a height. One name may occur at several heights, and as data too: somebody who writes a map block's
// content into a file on his disk must not make a sweep believe that it has walked it.
type node struct {
	name   chunk.Name
	height int
}

// count brings what is known of who refers to what up to date with the images that exist, but for those that are to be thought away, and
// returns how many they are. expected lists those that must be there, or is nil. If one is not, or can't be read, what it needs is not known,
// and the error says which. The caller holds sweeping.
func (s *Store) count(ctx context.Context, expected func(context.Context) ([]string, error), without ...string) (images int, err error) {
	t := s.takeTally()
	for range countAgain {
		if t == nil || s.table.lost.Load() || time.Since(t.since) > wholeEvery {
			t = s.newTally()
		}
		err := t.follow(ctx, expected, without)
		if errors.Is(err, errAstray) {
			t = nil
			continue
		}
		if err != nil {
			return 0, err
		}
		if !s.table.lost.Load() {
			return len(t.images), s.keepTally(t)
		}
	}
	return 0, errors.New("packs that images need went while the images were counted, again and again: if another lodge sweeps this store, try again later; otherwise check the store")
}

// countAgain is how often all is counted anew because packs went meanwhile.
const countAgain = 4

// errAstray says that a tally can't follow what happened: somebody else has swept what it has just learned is gone.
var errAstray = errors.New("it can't be told what an image referred to that is gone")

func (s *Store) newTally() *tally {
	s.table.clear()
	t := &tally{s: s, since: time.Now(), images: map[string][]node{}}
	for i := range t.nodes {
		t.nodes[i].counts = map[node]uint32{}
	}
	return t
}

// follow counts images that came, and then what those referred to that went.
func (t *tally) follow(ctx context.Context, expected func(context.Context) ([]string, error), without []string) error {
	ids, err := t.s.listed(ctx, expected)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	var fresh []string
	for _, id := range ids {
		if slices.Contains(without, id) {
			continue
		}
		there[id] = true
		if _, ok := t.images[id]; !ok {
			fresh = append(fresh, id)
		}
	}
	if err := t.add(ctx, fresh); err != nil {
		return err
	}
	maps := reader{s: t.s, ahead: &ahead{}, nearby: t.s.nearby}
	for _, id := range sorted(t.images) {
		if there[id] {
			continue
		}
		for _, root := range t.images[id] {
			if err := t.release(ctx, maps, root); errors.Is(err, chunk.ErrDamaged) {
				return errAstray
			} else if err != nil {
				return err
			}
		}
		delete(t.images, id)
	}
	return nil
}

// mostMissing bounds the images that an error names.
const mostMissing = 5

// listed are the images that exist. It is an error if one is not among them that must be.
func (s *Store) listed(ctx context.Context, expected func(context.Context) ([]string, error)) ([]string, error) {
	if expected == nil {
		return s.ImageIDs(ctx)
	}
	must, err := expected(ctx)
	if err != nil {
		return nil, err
	}
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return nil, err
	}
	there := map[string]bool{}
	for _, id := range ids {
		there[id] = true
	}
	missing := slices.DeleteFunc(must, func(id string) bool { return there[id] })
	if len(missing) == 0 {
		return ids, nil
	}
	still, err := expected(ctx) // some may have been dropped just now
	if err != nil {
		return nil, err
	}
	missing = slices.DeleteFunc(missing, func(id string) bool { return !slices.Contains(still, id) })
	if len(missing) == 0 {
		return ids, nil
	}
	named := strings.Join(missing[:min(len(missing), mostMissing)], ", ")
	if more := len(missing) - mostMissing; more > 0 {
		named += fmt.Sprintf(" and %d more", more)
	}
	return nil, fmt.Errorf("%w: %d images that are recorded have no manifest in %s: %s; their pieces would look as if nobody needed them, so nothing is swept; check the store, and bring the manifests back (store check --repair --from another store) or drop these images",
		store.ErrImagesMissing, len(missing), s.medium, named)
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// add counts images that were not counted yet.
func (t *tally) add(ctx context.Context, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	// An image's packs come before it does: after this look all are known.
	if err := t.s.Refresh(ctx); err != nil {
		return err
	}
	// Images of one machine follow each other, for they share most map blocks.
	machines := map[string][]*image.Manifest{}
	for _, id := range ids {
		manifest, err := t.s.ReadImage(ctx, id)
		if errors.Is(err, medium.ErrNotFound) {
			continue // dropped meanwhile
		}
		if err != nil {
			return unreadable(id, err)
		}
		machines[manifest.Machine] = append(machines[manifest.Machine], manifest)
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readsAtOnce)
	for _, machine := range sorted(machines) {
		group.Go(func() error {
			a := adding{reader: reader{s: t.s, ahead: &ahead{}, nearby: t.s.nearby}}
			for _, manifest := range machines[machine] {
				if err := t.addImage(ctx, &a, manifest); err != nil {
					return unreadable(manifest.ID, err)
				}
			}
			t.flush(&a)
			return nil
		})
	}
	return group.Wait()
}

// adding is what counts images: it gathers the pieces that they refer to by shard of the table, for a shard fits into the processor's cache
// and all of a large table does not.
type adding struct {
	reader
	pieces [shards][]chunk.Name
	n      int
}

// addingMost is how many references are gathered before they are counted: 4 MiB of names.
const addingMost = 1 << 17

func (t *tally) gather(a *adding, names []chunk.Name) {
	for _, n := range names {
		a.pieces[n[0]] = append(a.pieces[n[0]], n)
	}
	if a.n += len(names); a.n >= addingMost {
		t.flush(a)
	}
}

// flush counts what is gathered.
func (t *tally) flush(a *adding) {
	for i, names := range a.pieces {
		if len(names) > 0 && !t.s.table.refer(i, names) {
			t.doubt() // one is missing, which is for a check to find
		}
		a.pieces[i] = names[:0]
	}
	a.n = 0
}

func (t *tally) addImage(ctx context.Context, a *adding, manifest *image.Manifest) error {
	trees, err := manifest.Trees()
	if err != nil {
		return err
	}
	var roots []node
	for _, tree := range trees {
		if n := (node{tree.Root, tree.Height}); !n.name.IsZero() {
			roots = append(roots, n)
			err = t.refer(ctx, a, n)
		}
		if errors.Is(err, chunk.ErrDamaged) {
			// Dropped and swept while it was walked? What it shared with images that exist was not missing, so all
			// that lies on the way to what was is needed by none of them.
			if _, gone := t.s.medium.Stat(ctx, imageName(manifest.ID)); errors.Is(gone, medium.ErrNotFound) {
				t.doubt()
				return nil
			}
		}
		if err != nil {
			return err
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.images[manifest.ID] = roots
	return nil
}

func (t *tally) doubt() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.unsure = true
}

// unreadable words why a sweep can't go on.
func unreadable(id string, err error) error {
	if !errors.Is(err, chunk.ErrDamaged) {
		return err
	}
	return fmt.Errorf("image %s can't be read, so what it needs is not known and nothing is swept; repair the store (store check --repair) or drop the image: %w", id, err)
}

// refer counts a reference to a map block; with the first one, all that it names is referred to.
func (t *tally) refer(ctx context.Context, a *adding, n node) error {
	c := &t.nodes[n.name[31]&63]
	c.mu.Lock()
	c.counts[n]++
	first := c.counts[n] == 1
	c.mu.Unlock()
	if !first {
		return nil
	}
	pieces, blocks, err := children(ctx, a.reader, n)
	if err != nil {
		return err
	}
	t.gather(a, append(pieces, n.name))
	for _, b := range blocks {
		if err := t.refer(ctx, a, b); err != nil {
			return err
		}
	}
	return nil
}

// release takes a reference back; with the last one, those to all that it names.
func (t *tally) release(ctx context.Context, maps reader, n node) error {
	c := &t.nodes[n.name[31]&63]
	c.mu.Lock()
	c.counts[n]--
	last := c.counts[n] == 0
	if last {
		delete(c.counts, n)
	}
	c.mu.Unlock()
	if !last {
		return nil
	}
	pieces, blocks, err := children(ctx, maps, n)
	if err != nil {
		return err
	}
	t.s.table.release(append(pieces, n.name))
	for _, b := range blocks {
		if err := t.release(ctx, maps, b); err != nil {
			return err
		}
	}
	return nil
}

// children lists what a map block names: pieces where it is a leaf, otherwise map blocks.
func children(ctx context.Context, maps reader, n node) (pieces []chunk.Name, blocks []node, err error) {
	if err := ctx.Err(); err != nil {
		return nil, nil, context.Cause(ctx)
	}
	body, err := maps.GetMap(ctx, n.name)
	if err != nil {
		return nil, nil, err
	}
	err = image.Children(body, n.height, 0, func(v image.Visit) error {
		if v.Height == 0 {
			pieces = append(pieces, v.Name)
		} else {
			blocks = append(blocks, node{v.Name, v.Height})
		}
		return nil
	})
	if err != nil {
		return nil, nil, fmt.Errorf("map block %s: %w", n.name, err)
	}
	return pieces, blocks, nil
}

// takeTally gives what was counted the last time, or nil. It is put back by keepTally only when it is right.
func (s *Store) takeTally() *tally {
	t := s.tally
	s.tally = nil
	if t == nil && s.local != nil {
		t = s.local.loadTally(s)
	}
	return t
}

// keepTally keeps what was counted for the next time: beside the index, where that lies in files.
func (s *Store) keepTally(t *tally) error {
	switch {
	case t.unsure:
	case s.local != nil:
		return s.local.saveTally(t)
	default:
		s.tally = t
	}
	return nil
}
