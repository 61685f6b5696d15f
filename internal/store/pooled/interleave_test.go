package pooled

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"testing/cryptotest"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

var errKilled = errors.New("the process was killed")

// stage lets one call to the medium happen at a time, drawn by a seeded generator among all that wait: so every interleaving
// can come, and the same seed gives the same one. Between calls it lets time pass, up to long silences, and kills processes.
type stage struct {
	t       *testing.T
	rng     *rand.Rand
	shelf   *mediumtest.Shelf
	mu      sync.Mutex
	waiting []*call
	working int // actors that are not done
	kills   int
	quiet   bool // at the end nobody is killed any more

	// The oracle: images that were finished and not dropped, with what they hold.
	images map[string]disk.Memory
}

type call struct {
	of  *process
	key string // orders calls that wait together, whatever goroutine came first
	go_ chan string
}

// process is one life of a lodge's process: when it is killed, none of its calls has an effect any more.
type process struct {
	stage  *stage
	name   string
	killed bool
	store  *Store
	lives  int
}

func (p *process) medium() medium.Medium {
	return &mediumtest.Memory{Shelf: p.stage.shelf, Around: p.around}
}

func (p *process) around(what, name string, act func() error) error {
	st := p.stage
	st.mu.Lock()
	if p.killed {
		st.mu.Unlock()
		return errKilled
	}
	c := &call{p, fmt.Sprintf("%s.%d %s %s", p.name, p.lives, what, name), make(chan string)}
	st.waiting = append(st.waiting, c)
	st.mu.Unlock()
	switch <-c.go_ {
	case "kill before":
		return errKilled
	case "kill after":
		act()
		return errKilled
	}
	return act()
}

// direct draws calls until all actors are done.
func (st *stage) direct() {
	for {
		synctest.Wait()
		st.mu.Lock()
		if len(st.waiting) == 0 {
			if st.working == 0 {
				st.mu.Unlock()
				return
			}
			st.mu.Unlock()
			time.Sleep(time.Duration(1+st.rng.IntN(100)) * time.Second)
			continue
		}
		if st.rng.IntN(150) == 0 { // everybody stands still: a slow line, or a suspended host
			st.mu.Unlock()
			time.Sleep(time.Duration(st.rng.IntN(40)) * time.Minute)
			continue
		}
		slices.SortStableFunc(st.waiting, func(a, b *call) int {
			if a.key < b.key {
				return -1
			} else if a.key > b.key {
				return 1
			}
			return 0
		})
		i := st.rng.IntN(len(st.waiting))
		c := st.waiting[i]
		st.waiting = slices.Delete(st.waiting, i, i+1)
		how := "go"
		if !st.quiet && st.rng.IntN(400) == 0 {
			how = []string{"kill before", "kill after"}[st.rng.IntN(2)]
			c.of.killed = true
			st.kills++
			for _, w := range st.waiting {
				if w.of == c.of {
					w.go_ <- "kill before"
				}
			}
			st.waiting = slices.DeleteFunc(st.waiting, func(w *call) bool { return w.of == c.of })
		}
		st.mu.Unlock()
		c.go_ <- how
	}
}

// lodge is one lodge: processes that work on the store, one after the other, and what its records say.
type lodge struct {
	st      *stage
	name    string
	rng     *rand.Rand
	writing map[string]disk.Memory // images that were begun and not ended
}

// content is a piece out of few, so that disks share much.
func content(n int) []byte {
	b := make([]byte, small)
	r := rand.New(rand.NewPCG(uint64(n), 77))
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func (l *lodge) draw() disk.Memory {
	d := make(disk.Memory, 0, 30*small)
	start := l.rng.IntN(60)
	for i := range 10 + l.rng.IntN(20) {
		if l.rng.IntN(8) == 0 {
			d = append(d, make([]byte, small)...)
			continue
		}
		d = append(d, content(start+i)...)
	}
	return d
}

// work does a number of jobs, beginning a new process whenever one was killed.
func (l *lodge) work(ctx context.Context, jobs int) error {
	lives := 0
	p := &process{stage: l.st, name: l.name}
	for jobs > 0 {
		if p.store == nil || p.killed {
			lives++
			p = &process{stage: l.st, name: l.name, lives: lives}
			s, err := Open(ctx, p.medium(), nil)
			if err == nil {
				s.packTarget = shortPack
				p.store = s
				err = l.settle(ctx, s)
			}
			if errors.Is(err, errKilled) {
				p.killed = true
				continue
			}
			if err != nil {
				return err
			}
		}
		jobs--
		err := l.job(ctx, p)
		if err != nil && !errors.Is(err, errKilled) && !errors.Is(err, ErrTakenForDead) {
			return fmt.Errorf("lodge %s: %w", l.name, err)
		}
	}
	return l.settleAll(ctx, p)
}

func (l *lodge) settleAll(ctx context.Context, p *process) error {
	if p.killed {
		s, err := Open(ctx, &mediumtest.Memory{Shelf: l.st.shelf}, nil)
		if err != nil {
			return err
		}
		return l.settle(ctx, s)
	}
	return nil
}

// settle decides what a dead process's images are, as the service does at its start.
func (l *lodge) settle(ctx context.Context, s *Store) error {
	for _, id := range slices.Sorted(maps.Keys(l.writing)) {
		m, err := s.Settle(ctx, id)
		if err != nil {
			return err
		}
		if m != nil {
			l.finished(id, l.writing[id])
		}
		l.ended(id)
	}
	return nil
}

func (l *lodge) finished(id string, d disk.Memory) {
	l.st.mu.Lock()
	defer l.st.mu.Unlock()
	l.st.images[id] = d
}

func (l *lodge) pick() (string, disk.Memory) {
	l.st.mu.Lock()
	defer l.st.mu.Unlock()
	ids := slices.Sorted(maps.Keys(l.st.images))
	if len(ids) == 0 {
		return "", nil
	}
	// Names are random and so is their order; by content the choice follows the seed.
	slices.SortFunc(ids, func(a, b string) int { return slices.Compare(l.st.images[a], l.st.images[b]) })
	id := ids[l.rng.IntN(len(ids))]
	return id, l.st.images[id]
}

func (l *lodge) job(ctx context.Context, p *process) error {
	s := p.store
	switch n := l.rng.IntN(10); {
	case n < 2:
		return l.backup(ctx, s, l.draw(), "")
	case n < 3:
		return l.backupTwo(ctx, s, l.draw(), l.draw())
	case n < 5:
		id, d := l.pick()
		if id == "" {
			return nil
		}
		return l.backup(ctx, s, append(disk.Memory{}, d...), id)
	case n < 7:
		id, _ := l.pick()
		if id == "" {
			return nil
		}
		l.st.mu.Lock()
		delete(l.st.images, id) // from here on nobody may count on it
		l.st.mu.Unlock()
		return s.DropImage(ctx, id)
	case n == 7:
		return l.read(ctx, s)
	}
	_, err := s.Sweep(ctx, store.SweepRequest{})
	return err
}

// backupTwo stores two disks at once, as a run does: they may share looks at the store.
func (l *lodge) backupTwo(ctx context.Context, s *Store, a, b disk.Memory) error {
	other := make(chan error)
	go func() { other <- l.backup(ctx, s, a, "") }()
	err := l.backup(ctx, s, b, "")
	if e := <-other; err == nil || errors.Is(err, errKilled) || errors.Is(err, ErrTakenForDead) {
		return e // both were killed, or this one says more
	}
	return err
}

func (l *lodge) began(id string, d disk.Memory) {
	l.st.mu.Lock()
	defer l.st.mu.Unlock()
	l.writing[id] = d
}

func (l *lodge) ended(id string) {
	l.st.mu.Lock()
	defer l.st.mu.Unlock()
	delete(l.writing, id)
}

// backup stores a disk whole, or what changed since an image.
func (l *lodge) backup(ctx context.Context, s *Store, d disk.Memory, base string) error {
	id := image.NewID()
	l.began(id, d)
	v, err := s.VisitToWrite(ctx, id, "test")
	if err != nil {
		return err
	}
	defer v.End(ctx)
	m := &image.Manifest{Format: image.Format, ID: id, Machine: "timetable", Taken: moment}
	var older *image.Reader
	changed := map[int]bool{}
	if base != "" {
		old, err := s.ReadImage(ctx, base) // after the visit began
		if errors.Is(err, medium.ErrNotFound) {
			l.ended(id)
			return nil // dropped meanwhile; a full one comes another time
		}
		if err != nil {
			return err
		}
		if older, err = image.NewReader(s, old.Disks[0]); err != nil {
			return err
		}
		for range l.rng.IntN(5) {
			i := l.rng.IntN(len(d) / small)
			changed[i] = true
			copy(d[i*small:], content(l.rng.IntN(90)))
		}
	}
	if err := fillImage(ctx, s, v, m, d, older, func(i int) bool { return changed[i] }); err != nil {
		if errors.Is(err, ErrTakenForDead) {
			l.ended(id)
		}
		if _, gone := s.ReadImage(ctx, base); base != "" && errors.Is(err, chunk.ErrDamaged) && errors.Is(gone, medium.ErrNotFound) {
			l.ended(id)
			return nil // the base was dropped while it was being read
		}
		return err
	}
	l.finished(id, d)
	l.ended(id)
	return nil
}

// read reads an image while it is protected by a visit, which must succeed unless it was dropped before the visit began.
func (l *lodge) read(ctx context.Context, s *Store) error {
	id, want := l.pick()
	if id == "" {
		return nil
	}
	v, err := s.VisitToRead(ctx, "test")
	if err != nil {
		return err
	}
	defer v.End(ctx)
	begun := time.Now()
	at, err := firstDifference(s, id, want)
	if errors.Is(err, medium.ErrNotFound) || time.Since(begun) > deadAfter {
		return nil
	}
	if err == nil && at != -1 {
		err = fmt.Errorf("image %s differs at byte %d", id, at)
	}
	return err
}

// Writers, incremental writers, readers, drops, sweeps, kills and silences of two lodges on one store, in interleavings drawn
// by chance, some of which write two images at once: no finished image ever loses a byte. KEENLODGE_SEEDS=N tries N of them, from
// KEENLODGE_SEED on.
func TestAnyInterleaving(t *testing.T) {
	most := 40
	if testing.Short() {
		most = 6
	}
	seeds, from := mediumtest.Campaign("KEENLODGE_SEEDS", most)
	kills, finished, freed := 0, 0, 0
	for n := range seeds {
		seed := from + uint64(n)
		cryptotest.SetGlobalRandom(t, seed) // names follow the seed, too
		synctest.Test(t, func(t *testing.T) {
			st := &stage{t: t, rng: rand.New(rand.NewPCG(seed, 1)), shelf: mediumtest.NewShelf(), images: map[string]disk.Memory{}}
			s, err := Make(t.Context(), &mediumtest.Memory{Shelf: st.shelf}, moment, tiny, nil)
			require.NoError(t, err)
			const actors = 3
			st.working = actors
			errs := make([]error, actors)
			for i := range actors {
				l := &lodge{st: st, name: string(rune('a' + i)), rng: rand.New(rand.NewPCG(uint64(seed), uint64(i+2))), writing: map[string]disk.Memory{}}
				go func() {
					errs[i] = l.work(context.WithoutCancel(t.Context()), 25)
					st.mu.Lock()
					st.working--
					st.mu.Unlock()
				}()
			}
			st.direct()
			require.NoError(t, errors.Join(errs...), "seed %d", seed)
			kills += st.kills
			verify := func() {
				again, err := Open(t.Context(), s.Medium(), nil)
				require.NoError(t, err)
				for id, d := range st.images {
					at, err := firstDifference(again, id, d)
					require.NoError(t, err, "seed %d", seed)
					require.EqualValues(t, -1, at, "seed %d, image %s", seed, id)
					finished++
				}
			}
			verify()
			// Long after everybody went, a sweep leaves nothing behind, and nothing that is needed goes.
			packs := len(st.shelf.Names("pack/"))
			last := reopen(t, s.Medium(), nil)
			for range 4 {
				_, err = last.Sweep(t.Context(), store.SweepRequest{})
				require.NoError(t, err, "seed %d", seed)
				time.Sleep(deadAfter + time.Minute)
			}
			freed += packs - len(st.shelf.Names("pack/"))
			verify()
			require.Empty(t, st.shelf.Names("condemned/"), "seed %d", seed)
			require.Empty(t, st.shelf.Names("visit/"), "seed %d", seed)
			report, err := last.Check(t.Context(), true, nil)
			require.NoError(t, err)
			require.Empty(t, report.Problems, "seed %d", seed)
		})
	}
	t.Logf("%d kills, %d images read back, %d packs freed at the end", kills, finished, freed)
	require.Greater(t, kills, seeds/2)
	require.Greater(t, finished, 3*seeds)
}
