package pooled

import (
	"encoding/binary"
	"math/bits"
	"sync"
	"sync/atomic"
	"syscall"

	"keenlodge/internal/core/chunk"
)

// table finds pieces by their names: open addressing in shards, each of which grows by a quarter when it is nine tenths full.
// A slot has 48 bytes and no pointer, and a byte for how often images refer to it, so that a piece takes 54 to 68 bytes however many there
// are, and the garbage collector has nothing to look at. Names are digests: their own bytes spread them evenly.
type table struct {
	shards [shards]shard
	local  *local // where shards lie that are not in memory, or nil
	// lost says that a piece went to which images referred: what is counted since [table.clear] is not to be believed.
	lost atomic.Bool
}

const (
	shards   = 256
	maxLoad  = 0.9
	growth   = 1.25
	minSlots = 8
)

type shard struct {
	mu     sync.RWMutex
	slots  []slot
	refs   []uint8 // of each slot: references from map blocks, up to mostRefs
	used   int
	mapped bool // slots and refs lie in a file
}

// mostRefs stands for any number of references from there on, and is never lowered.
const mostRefs = 255

// slot is a piece's place: pack is a number in the store's list of packs, offset where the frame begins in it; bits holds where the piece
// begins in the frame's content (20 bits), its length less one (20), the frame's stored length (21), its codec (2), and whether a sweep
// found the piece in use.
type slot struct {
	name         chunk.Name
	pack, offset uint32
	bits         uint64
}

const (
	sizeShift   = 20
	storedShift = 40
	codecShift  = 61
	mask20      = 1<<20 - 1
	mask21      = 1<<21 - 1
)

func slotOf(pack uint32, e chunk.Entry) slot {
	return slot{e.Name, pack, e.Offset, uint64(e.Within)&mask20 | uint64(e.Size-1)&mask20<<sizeShift | uint64(e.Stored)&mask21<<storedShift | uint64(e.Codec)&3<<codecShift}
}

// entry is the piece's entry in its pack's directory, but for its place in its frame's row.
func (s slot) entry() chunk.Entry {
	return chunk.Entry{Name: s.name, Offset: s.offset, Stored: s.stored(), Codec: chunk.Codec(s.bits >> codecShift & 3), Within: uint32(s.bits & mask20), Size: s.size()}
}

// size is the piece's length, stored that of its frame as it lies, in bytes.
func (s slot) size() uint32 { return uint32(s.bits>>sizeShift&mask20) + 1 }

func (s slot) stored() uint32 { return uint32(s.bits >> storedShift & mask21) }

func (t *table) shard(n chunk.Name) *shard { return &t.shards[n[0]] }

// home is the slot at which the search for a name begins.
func (s *shard) home(n chunk.Name) int {
	hi, _ := bits.Mul64(binary.BigEndian.Uint64(n[1:]), uint64(len(s.slots)))
	return int(hi)
}

// at finds a name's slot, or the empty one where it would go. The caller holds mu; there is always an empty slot.
func (s *shard) at(n chunk.Name) (i int, found bool) {
	word := binary.LittleEndian.Uint64(n[8:])
	for i = s.home(n); ; i++ {
		if i == len(s.slots) {
			i = 0
		}
		// A word decides nearly always, and costs less than comparing the whole.
		at := &s.slots[i]
		switch binary.LittleEndian.Uint64(at.name[8:]) {
		case word:
			if at.name == n {
				return i, true
			}
			if word == 0 && at.name.IsZero() {
				return i, false
			}
		case 0:
			if at.name.IsZero() {
				return i, false
			}
		}
	}
}

// find is at, for a shard that may have no slots. The caller holds mu.
func (s *shard) find(n chunk.Name) (i int, found bool) {
	if s.used == 0 {
		return 0, false
	}
	return s.at(n)
}

// find looks a piece up.
func (t *table) find(n chunk.Name) (slot, bool) {
	s := t.shard(n)
	s.mu.RLock()
	defer s.mu.RUnlock()
	i, ok := s.find(n)
	if !ok {
		return slot{}, false
	}
	return s.slots[i], true
}

// add puts a piece in unless its name is there already; then it returns what is there. The caller holds mu.
func (t *table) add(v slot) (was slot, added bool) {
	s := t.shard(v.name)
	if float64(s.used+1) > maxLoad*float64(len(s.slots)) {
		t.resize(int(v.name[0]), max(minSlots, int(growth*float64(len(s.slots)))))
	}
	i, ok := s.at(v.name)
	if ok {
		return s.slots[i], false
	}
	s.slots[i] = v
	s.used++
	return v, true
}

// batch gathers pieces by shard: a shard fits into the processor's cache, all of a large table does not.
type batch struct {
	slots [shards][]slot
	n     int
}

// batchMost is how many pieces a batch should gather before it is added.
const batchMost = 1 << 19

func (b *batch) gather(v slot) {
	b.slots[v.name[0]] = append(b.slots[v.name[0]], v)
	b.n++
}

// addAll adds a batch, empties it, and returns the pieces that were there already, in other packs.
func (t *table) addAll(b *batch) (known []slot) {
	for i := range b.slots {
		if len(b.slots[i]) == 0 {
			continue
		}
		s := &t.shards[i]
		s.mu.Lock()
		for _, v := range b.slots[i] {
			if was, added := t.add(v); !added && was.pack != v.pack {
				known = append(known, v)
			}
		}
		s.mu.Unlock()
		b.slots[i] = b.slots[i][:0]
	}
	b.n = 0
	return known
}

// refer counts a reference to each of the pieces, which are of one shard, and reports whether all are there.
func (t *table) refer(shard int, names []chunk.Name) (all bool) {
	s := &t.shards[shard]
	s.mu.Lock()
	defer s.mu.Unlock()
	all = true
	for _, n := range names {
		if i, ok := s.find(n); !ok {
			all = false
		} else if s.refs[i] < mostRefs {
			s.refs[i]++
		}
	}
	return all
}

// release takes a reference to each of the pieces back.
func (t *table) release(names []chunk.Name) {
	for _, n := range names {
		s := t.shard(n)
		s.mu.Lock()
		if i, ok := s.find(n); !ok || s.refs[i] == 0 {
			t.lost.Store(true)
		} else if s.refs[i] < mostRefs {
			s.refs[i]--
		}
		s.mu.Unlock()
	}
}

// live reports whether images refer to a piece.
func (t *table) live(n chunk.Name) bool {
	s := t.shard(n)
	s.mu.RLock()
	defer s.mu.RUnlock()
	i, ok := s.find(n)
	return ok && s.refs[i] > 0
}

// clear forgets what refers to pieces.
func (t *table) clear() {
	for i := range t.shards {
		s := &t.shards[i]
		s.mu.Lock()
		clear(s.refs)
		s.mu.Unlock()
	}
	t.lost.Store(false)
}

// resize gives a shard so many slots. The caller holds its mu. Where no file can be had for them, they lie in memory, and the index on this
// host is not kept.
func (t *table) resize(i, n int) {
	s := &t.shards[i]
	old, refs, was := s.slots, s.refs, s.mapped
	commit := func() error { return nil }
	s.mapped = false
	if t.local != nil && !t.local.broken.Load() {
		if slots, counts, done, err := t.local.room(i, n); err == nil {
			s.slots, s.refs, s.mapped, commit = slots, counts, true, done
		} else {
			t.local.broken.Store(true)
		}
	}
	if !s.mapped {
		s.slots, s.refs = make([]slot, n), make([]uint8, n)
	}
	for j, v := range old {
		if !v.name.IsZero() {
			i, _ := s.at(v.name)
			s.slots[i], s.refs[i] = v, refs[j]
		}
	}
	if was {
		syscall.Munmap(bytesOf(old))
	}
	if commit() != nil {
		t.local.broken.Store(true)
	}
}

// forget empties the table.
func (t *table) forget() {
	for i := range t.shards {
		s := &t.shards[i]
		s.mu.Lock()
		if s.mapped {
			syscall.Munmap(bytesOf(s.slots))
		}
		s.slots, s.refs, s.used, s.mapped = nil, nil, 0, false
		s.mu.Unlock()
	}
}

// relax has the kernel count what lies in files as no longer in use, after all of it was looked at: it reads back what is wanted.
func (t *table) relax() {
	for i := range t.shards {
		s := &t.shards[i]
		s.mu.RLock()
		if s.mapped && len(s.slots) > 0 {
			syscall.Madvise(bytesOf(s.slots), syscall.MADV_DONTNEED)
		}
		s.mu.RUnlock()
	}
}

// reserve makes room for n more pieces.
func (t *table) reserve(n int) {
	for i := range t.shards {
		s := &t.shards[i]
		s.mu.Lock()
		// A little more than the even share, for digests spread by chance.
		if want := int(float64(s.used+n/shards)*1.02/maxLoad) + minSlots; want > len(s.slots) {
			t.resize(i, want)
		}
		s.mu.Unlock()
	}
}

// each calls visit for every piece and says whether images refer to it; keep false takes it out. visit may change the slot, but not its name.
func (t *table) each(visit func(v *slot, live bool) (keep bool)) {
	for i := range t.shards {
		s := &t.shards[i]
		s.mu.Lock()
		gone := 0
		for j := range s.slots {
			if s.slots[j].name.IsZero() {
				continue
			}
			if !visit(&s.slots[j], s.refs[j] > 0) {
				if s.refs[j] > 0 {
					t.lost.Store(true)
				}
				s.slots[j], s.refs[j] = slot{}, 0
				gone++
			}
		}
		s.used -= gone
		if gone > 0 { // what follows an emptied slot may have to move up to be found
			t.resize(i, max(minSlots, int(float64(s.used)/maxLoad)+1+len(s.slots)/16))
		}
		s.mu.Unlock()
	}
	t.relax()
}

// len is the number of pieces.
func (t *table) len() int {
	n := 0
	for i := range t.shards {
		s := &t.shards[i]
		s.mu.RLock()
		n += s.used
		s.mu.RUnlock()
	}
	return n
}
