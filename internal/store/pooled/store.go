package pooled

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// packTarget is the usual length of a pack, in bytes.
const packTarget = 24 << 20

// readsAtOnce is how many objects are fetched side by side: on a far medium, waiting is most of the time.
const readsAtOnce = 8

// Store is an open store. Its methods may be called by several goroutines at once.
type Store struct {
	medium medium.Medium
	header store.Header
	seal   *chunk.Seal
	cuts   cut.Cuts
	frames frameCache
	ahead  ahead
	// packTarget is the length at which a pack is closed, in bytes.
	packTarget int

	refreshing, condemning shared
	sweeping               lock
	tally                  *tally // what images refer to, or nil; guarded by sweeping

	table table
	// here says what may be kept on this host; local is that the index is, localErr why it is not.
	here Here
	// locked is for how long the place is to lock what images need, in nanoseconds, 0 for not at all.
	locked   atomic.Int64
	local    *local
	localErr error
	nearby   *nearby

	mu    sync.RWMutex // guards what follows; never held while the medium works
	packs []pack
	// numbers finds a pack's place in packs.
	numbers map[chunk.PackID]uint32
	// others are further copies of pieces that lie in several packs.
	others    map[chunk.Name][]slot
	indexes   map[string]*indexFile
	condemned map[string][]chunk.PackID  // condemnations that were read, by their objects' names
	bad       map[chunk.Name]bool        // pieces that a check found damaged: new images must not lean on them
	damaged   map[string]error           // objects that could not be read, by name
	useless   map[chunk.PackID]time.Time // packs that their place has locked though no image needs them, with when to try again to delete them
	sightings map[string]sighting
}

// pack is what is known of a pack. Lengths are in bytes.
type pack struct {
	id        chunk.PackID
	length    int64 // of the object
	pieces    int
	raw       int64 // its pieces before compression
	stored    int64 // its frames as stored
	indexed   bool
	condemned bool
	gone      bool
}

// share is how much of the pack's frames so many bytes of its pieces take, about.
func (p pack) share(raw int64) int64 {
	if p.raw == 0 {
		return 0
	}
	return int64(float64(p.stored) * float64(raw) / float64(p.raw))
}

// indexFile is an index object that was read: the packs that it names.
type indexFile struct {
	packs []chunk.PackID
	bytes int // of their directories
}

// lock is a mutex that a context can end the wait for.
type lock chan struct{}

func (l lock) acquire(ctx context.Context) error {
	select {
	case l <- struct{}{}:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func (l lock) release() { <-l }

// shared is a look at something that changes, one at a time. Who asks needs one that begins after he asked, and does not mind whose it
// is: of many who ask at once, two looks serve all.
type shared struct {
	lock
	begun atomic.Int64 // looks that began
	good  int64        // the number of the last one that succeeded
}

func newShared() shared { return shared{lock: make(lock, 1)} }

func (s *shared) look(ctx context.Context, look func(context.Context) error) error {
	before := s.begun.Load()
	if err := s.acquire(ctx); err != nil {
		return err
	}
	defer s.release()
	if s.good > before {
		return nil
	}
	n := s.begun.Add(1)
	if err := look(ctx); err != nil {
		return err
	}
	s.good = n
	return nil
}

// Make writes the header of a new store and opens it. The place must be empty; the caller looks. A nil secret makes a store
// that is not sealed; otherwise keys are its first ones. Pieces are cut by cuts.
func Make(ctx context.Context, m medium.Medium, now time.Time, cuts cut.Cuts, secret *chunk.Secret, keys ...store.NewKey) (*Store, error) {
	if err := cuts.Check(); err != nil {
		return nil, err
	}
	h := store.Header{Format: store.PooledFormat, Layout: site.Pooled, ID: uuid.NewString(), Made: now.UTC().Truncate(time.Second)}
	var seal *chunk.Seal
	if secret != nil {
		if len(keys) == 0 {
			return nil, errors.New("a sealed store needs a key from the beginning: a passphrase or a recipient")
		}
		seal = chunk.NewSeal(*secret)
		h.Sealed, h.Check = true, seal.Check()
		for _, k := range keys {
			if _, err := putKey(ctx, m, seal, *secret, k, now); err != nil {
				return nil, err
			}
		}
	}
	if err := h.SetCuts(seal, cuts); err != nil {
		return nil, err
	}
	if err := putReserve(ctx, m); err != nil {
		return nil, err
	}
	if err := store.PutHeader(ctx, m, h); err != nil {
		return nil, err
	}
	return Open(ctx, m, secret)
}

// NewCuts draws the cuts of a new store.
func NewCuts() cut.Cuts {
	var seed [8]byte
	rand.Read(seed[:])
	return cut.Default(binary.BigEndian.Uint64(seed[:]))
}

// Open reads a store's header and index. secret is that of a sealed store, nil for one that is not. A place without a store
// is [ErrNoStore]; a sealed store opened without its secret is [ErrSealed].
func Open(ctx context.Context, m medium.Medium, secret *chunk.Secret) (*Store, error) {
	return OpenKeeping(ctx, m, secret, Here{})
}

// OpenKeeping is Open for a store of which some is kept on this host: the index of a very large one, which is then opened at once and need
// not be in memory, and the maps of one that is far away. [Store.IndexTrouble] tells why the index could not be kept. Close the store, or the
// next time its index is made anew.
func OpenKeeping(ctx context.Context, m medium.Medium, secret *chunk.Secret, here Here) (*Store, error) {
	h, err := store.ReadHeader(ctx, m)
	if err != nil {
		return nil, err
	}
	if h.Layout != site.Pooled {
		return nil, fmt.Errorf("%s holds a store of the %s layout, not a pooled one; say so in its entry", m, h.Layout)
	}
	s := &Store{medium: m, header: h, packTarget: packTarget, refreshing: newShared(), condemning: newShared(), sweeping: make(lock, 1), numbers: map[chunk.PackID]uint32{},
		others: map[chunk.Name][]slot{}, indexes: map[string]*indexFile{}, condemned: map[string][]chunk.PackID{},
		bad: map[chunk.Name]bool{}, damaged: map[string]error{}, useless: map[chunk.PackID]time.Time{}, sightings: map[string]sighting{}}
	switch {
	case h.Sealed && secret == nil:
		return nil, fmt.Errorf("%s: %w; give this lodge one of its keys", m, store.ErrSealed)
	case !h.Sealed && secret != nil:
		return nil, fmt.Errorf("%s: the store is not sealed, but it was before: somebody may have put another in its place; look at it before anything is written", m)
	case h.Sealed:
		s.seal = chunk.NewSeal(*secret)
		if s.seal.Check() != h.Check {
			return nil, fmt.Errorf("%s: %w: the secret belongs to another store", m, chunk.ErrWrongKey)
		}
	}
	if s.cuts, err = h.Cuts(s.seal); err != nil {
		return nil, fmt.Errorf("%s: %w", m, err)
	}
	s.here, s.nearby = here, here.nearby()
	s.openLocal()
	if err := s.Refresh(ctx); err != nil {
		return nil, errors.Join(err, s.closeLocal())
	}
	s.table.relax()
	return s, nil
}

// Cuts are those by which the store's pieces are cut.
func (s *Store) Cuts() cut.Cuts { return s.cuts }

// Present reports whether the place still holds this store: a disk may have been unmounted since it was opened.
func (s *Store) Present(ctx context.Context) (bool, error) {
	h, err := store.ReadHeader(ctx, s.medium)
	if errors.Is(err, store.ErrNoStore) {
		return false, nil
	}
	return err == nil && h.ID == s.header.ID && h.Sealed == s.header.Sealed, err
}

// Header describes the store.
func (s *Store) Header() store.Header { return s.header }

// Medium is where the store lies.
func (s *Store) Medium() medium.Medium { return s.medium }

// Close keeps the index for the next time, and lets the medium's connections go.
func (s *Store) Close() error { return errors.Join(s.closeLocal(), s.medium.Close()) }

func (s *Store) list(ctx context.Context, prefix string) ([]medium.Object, error) {
	var out []medium.Object
	err := s.medium.List(ctx, prefix, func(o medium.Object) error { out = append(out, o); return nil })
	return out, err
}

// readObject reads and opens an object.
func (s *Store) readObject(ctx context.Context, kind chunk.ObjectKind, name string) ([]byte, error) {
	object, err := s.medium.Get(ctx, name, 0, -1)
	if errors.Is(err, medium.ErrTooLarge) {
		err = fmt.Errorf("%w: %w", chunk.ErrDamaged, err)
	}
	if err != nil {
		return nil, err
	}
	return chunk.DecodeObject(s.seal, kind, name, object)
}

func (s *Store) putObject(ctx context.Context, kind chunk.ObjectKind, name string, payload []byte) error {
	return s.medium.Put(ctx, name, chunk.EncodeObject(s.seal, kind, name, payload))
}

// Refresh reads what came since the store was opened, and forgets what went: other processes use it too.
func (s *Store) Refresh(ctx context.Context) error { return s.refreshing.look(ctx, s.refresh) }

func (s *Store) refresh(ctx context.Context) error {
	// Condemnations are listed before packs: a condemnation goes after its packs went, so that a pack which is listed and was
	// not seen condemned is not being deleted under a condemnation that is gone already.
	if err := s.condemning.look(ctx, s.readCondemned); err != nil {
		return err
	}
	// Who begins an image meanwhile reads them, too, and may find one gone whose packs are in the list that follows.
	s.mu.RLock()
	condemned := maps.Clone(s.condemned)
	s.mu.RUnlock()
	// Packs are listed first: one that an index names afterwards is then never taken for lost.
	packs, err := s.list(ctx, "pack/")
	if err != nil {
		return err
	}
	indexes, err := s.list(ctx, "index/")
	if err != nil {
		return err
	}
	there := make(map[chunk.PackID]int64, len(packs))
	for _, o := range packs {
		if id, err := packOf(o.Name); err == nil { // a stranger's file is none of our business
			there[id] = o.Size
		}
	}
	if err := s.readIndexes(ctx, indexes, there); err != nil {
		return err
	}
	if err := s.readUnindexed(ctx, there); err != nil {
		return err
	}
	// What came is learned before what went is forgotten, so that a piece which moved is never without a place.
	s.forgetMissing(there)
	s.mu.Lock()
	defer s.mu.Unlock()
	maps.Copy(condemned, s.condemned)
	for _, packs := range condemned {
		s.markCondemned(packs)
	}
	return nil
}

func (s *Store) readIndexes(ctx context.Context, listed []medium.Object, there map[chunk.PackID]int64) error {
	s.mu.Lock()
	known := map[string]bool{}
	var fresh []medium.Object
	var size int64
	for _, o := range listed {
		known[o.Name] = true
		if s.indexes[o.Name] == nil {
			fresh = append(fresh, o)
			size += o.Size
		}
	}
	for name := range s.indexes {
		if !known[name] {
			delete(s.indexes, name)
			delete(s.damaged, name)
		}
	}
	s.mu.Unlock()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readsAtOnce)
	if size > s.here.indexFrom() && s.here.Folder != "" && s.local == nil && s.table.len() == 0 {
		s.takeLocal((*local).clear)
	}
	if size > 64<<20 { // then there is more than enough to do for the processors, and memory is what counts
		group.SetLimit(runtime.GOMAXPROCS(0))
		if err := s.reserve(ctx, fresh); err != nil {
			return err
		}
	}
	for _, o := range fresh {
		group.Go(func() error { return s.readIndex(ctx, o.Name, there) })
	}
	return group.Wait()
}

// entryBytes is about what a piece takes in an index.
const entryBytes = 40

// reserve makes room for what indexes name: their heads tell how much that is.
func (s *Store) reserve(ctx context.Context, indexes []medium.Object) error {
	n := 0
	for _, o := range indexes {
		head, err := s.medium.Get(ctx, o.Name, 0, min(o.Size, chunk.ObjectHead))
		if err != nil && !errors.Is(err, medium.ErrNotFound) {
			return err
		}
		// A damaged head may claim anything; compression never makes more than double of it.
		n += int(min(chunk.PayloadLength(head), 2*o.Size, chunk.MaxObject) / entryBytes)
	}
	s.table.reserve(n)
	return nil
}

func (s *Store) readIndex(ctx context.Context, name string, there map[chunk.PackID]int64) error {
	file := &indexFile{}
	payload, err := s.readObject(ctx, chunk.IndexObject, name)
	if err == nil {
		var b batch
		err = chunk.WalkIndex(payload, func(d chunk.Directory, length int64) error {
			file.packs, file.bytes = append(file.packs, d.Pack), file.bytes+d.Len()
			if _, ok := there[d.Pack]; ok {
				s.learn(d, length, true, &b)
			}
			return nil
		})
		s.settleBatch(&b)
	}
	if errors.Is(err, medium.ErrNotFound) {
		return nil // a sweep has put it together with others
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if errors.Is(err, chunk.ErrDamaged) {
		s.damaged[name] = err // its packs are found by their own directories
	} else if err != nil {
		return err
	}
	s.indexes[name] = file
	return nil
}

// forgetMissing takes packs that are not there any more out of the index.
func (s *Store) forgetMissing(there map[chunk.PackID]int64) {
	s.mu.Lock()
	gone := map[uint32]bool{}
	for i := range s.packs {
		p := &s.packs[i]
		if _, ok := there[p.id]; !ok && !p.gone {
			p.gone = true
			gone[uint32(i)] = true
			delete(s.numbers, p.id)
			delete(s.useless, p.id)
			delete(s.damaged, packName(p.id))
		}
	}
	if len(gone) == 0 {
		s.mu.Unlock()
		return
	}
	instead := map[chunk.Name]slot{}
	for name, copies := range s.others {
		copies = slices.DeleteFunc(copies, func(c slot) bool { return gone[c.pack] })
		if len(copies) == 0 {
			delete(s.others, name)
			continue
		}
		s.others[name] = copies
		instead[name] = copies[0]
	}
	s.mu.Unlock()
	s.table.each(func(v *slot, _ bool) bool {
		if !gone[v.pack] {
			return true
		}
		c, ok := instead[v.name]
		if ok {
			*v = c
		}
		return ok
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, c := range instead {
		if v, ok := s.table.find(name); ok && v.pack == c.pack { // that copy is now the first
			s.others[name] = slices.DeleteFunc(s.others[name], func(o slot) bool { return o.pack == c.pack })
			if len(s.others[name]) == 0 {
				delete(s.others, name)
			}
		}
	}
}

// readUnindexed finds packs by their own directories: a killed writer's, one's that is still at work, or those of an index
// that was lost.
func (s *Store) readUnindexed(ctx context.Context, there map[chunk.PackID]int64) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readsAtOnce)
	s.mu.RLock()
	var unknown []chunk.PackID
	for id := range there {
		if _, ok := s.numbers[id]; !ok {
			unknown = append(unknown, id)
		}
	}
	s.mu.RUnlock()
	slices.SortFunc(unknown, func(a, b chunk.PackID) int { return slices.Compare(a[:], b[:]) })
	for _, id := range unknown {
		group.Go(func() error {
			d, err := s.readDirectory(ctx, id, there[id])
			if errors.Is(err, medium.ErrNotFound) {
				return nil // swept meanwhile
			}
			if errors.Is(err, chunk.ErrDamaged) {
				s.mu.Lock()
				defer s.mu.Unlock()
				s.damaged[packName(id)] = err
				return nil
			}
			if err == nil {
				var b batch
				s.learn(d, there[id], false, &b)
				s.settleBatch(&b)
			}
			return err
		})
	}
	return group.Wait()
}

// readDirectory reads a pack's own directory.
func (s *Store) readDirectory(ctx context.Context, id chunk.PackID, size int64) (chunk.Directory, error) {
	none := chunk.Directory{}
	if size < chunk.TailSize {
		return none, fmt.Errorf("pack %s: %w: it has %d bytes", id, chunk.ErrDamaged, size)
	}
	tail, err := s.medium.Get(ctx, packName(id), size-chunk.TailSize, chunk.TailSize)
	if err != nil {
		return none, err
	}
	offset, length, err := chunk.DirectoryRange(tail, size)
	if err != nil {
		return none, fmt.Errorf("pack %s: %w", id, err)
	}
	body, err := s.medium.Get(ctx, packName(id), offset, length)
	if err != nil {
		return none, err
	}
	return chunk.ReadDirectory(s.seal, id, offset, body, tail)
}

// learn adds a pack that is safely on the medium. Its pieces may stay in the batch, for settleBatch to add.
func (s *Store) learn(d chunk.Directory, length int64, indexed bool, b *batch) {
	s.mu.Lock()
	n, ok := s.numbers[d.Pack]
	if ok {
		s.packs[n].indexed = s.packs[n].indexed || indexed
		s.mu.Unlock()
		return
	}
	n = uint32(len(s.packs))
	p := pack{id: d.Pack, length: length, indexed: indexed}
	d.Each(func(e chunk.Entry) bool {
		p.pieces, p.raw = p.pieces+1, p.raw+int64(e.Size)
		if e.Last {
			p.stored += int64(e.Stored)
		}
		return true
	})
	s.packs = append(s.packs, p)
	s.numbers[d.Pack] = n
	delete(s.damaged, packName(d.Pack))
	s.mu.Unlock()
	d.Each(func(e chunk.Entry) bool { b.gather(slotOf(n, e)); return true })
	if b.n >= batchMost {
		s.settleBatch(b)
	}
}

// settleBatch adds a batch to the table, and notes further copies of what was there.
func (s *Store) settleBatch(b *batch) {
	known := s.table.addAll(b)
	if len(known) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, v := range known {
		s.others[v.name] = append(s.others[v.name], v)
	}
}

func packName(id chunk.PackID) string { return "pack/" + id.String()[:2] + "/" + id.String() }

// packOf tells which pack an object is.
func packOf(name string) (chunk.PackID, error) {
	return chunk.ParsePackID(name[strings.LastIndexByte(name, '/')+1:])
}

// place is where a piece lies.
type place struct {
	slot
	id chunk.PackID
	// condemned packs will go, so a new image must not lean on them.
	condemned bool
}

// find tells where a piece lies: in a pack that stays, if there is such a copy.
func (s *Store) find(name chunk.Name) (place, bool) {
	v, ok := s.table.find(name)
	if !ok {
		return place{}, false
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.packs[v.pack].condemned {
		for _, c := range s.others[name] {
			if !s.packs[c.pack].condemned {
				v = c
				break
			}
		}
	}
	p := s.packs[v.pack]
	return place{v, p.id, p.condemned}, true
}

// firm reports whether a new image may lean on the stored copy of a piece.
func (s *Store) firm(name chunk.Name) bool {
	p, ok := s.find(name)
	if !ok || p.condemned {
		return false
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	return !s.bad[name]
}

// copies lists all places of a piece.
func (s *Store) copies(name chunk.Name) []place {
	v, ok := s.table.find(name)
	if !ok {
		return nil
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	var out []place
	for _, c := range append([]slot{v}, s.others[name]...) {
		out = append(out, place{c, s.packs[c.pack].id, s.packs[c.pack].condemned})
	}
	return out
}

func imageName(id string) string { return "image/" + id }

// ReadImage reads an image's manifest.
func (s *Store) ReadImage(ctx context.Context, id string) (*image.Manifest, error) {
	body, err := s.readObject(ctx, chunk.ImageObject, imageName(id))
	if err != nil {
		return nil, fmt.Errorf("image %s: %w", id, err)
	}
	m, err := image.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("image %s: %w", id, err)
	}
	if m.ID != id {
		return nil, fmt.Errorf("image %s: %w: its manifest is of image %s", id, chunk.ErrDamaged, m.ID)
	}
	return m, nil
}

// DropImage makes an image exist no more. A sweep gives the space of its pieces back.
func (s *Store) DropImage(ctx context.Context, id string) error {
	if m, err := s.ReadImage(ctx, id); err == nil { // what can't be read says nothing, and is gone already or damaged
		if err := m.Deletable(time.Now()); err != nil {
			return err
		}
	}
	if err := s.medium.Delete(ctx, imageName(id)); err != nil {
		return err
	}
	return s.dropNotes(ctx, id)
}

// ImageIDs lists the images that exist, in order of their names.
func (s *Store) ImageIDs(ctx context.Context) ([]string, error) {
	objects, err := s.list(ctx, "image/")
	var ids []string
	for _, o := range objects {
		if id := strings.TrimPrefix(o.Name, "image/"); image.IsID(id) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids, err
}
