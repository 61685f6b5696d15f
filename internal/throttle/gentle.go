package throttle

import (
	"context"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

const (
	// feelEvery is how often it is looked how a source's own writes go, usualFor how long before it is read from.
	feelEvery = 500 * time.Millisecond
	usualFor  = 2 * time.Second
	// bearable is how many times as long as usual a write may take. What is longer by no more than unfelt is not felt, however short the
	// usual was.
	bearable = 2
	unfelt   = 250 * time.Microsecond
	// A pace begins with gentleFirst bytes in a second. It never falls below gentleLeast: a capture that lasts is felt, too.
	gentleFirst = 16 << 20
	gentleLeast = 8 << 20
	gentleMost  = 4 << 30
)

// Feel tells how many writes a source has carried out so far, and how long all of them together took.
type Feel func(ctx context.Context) (writes int64, took time.Duration, err error)

// Gentle is a pace that follows how a source feels: while its own writes take longer than bearable it is read from more slowly, and faster
// again while they do not. Its methods may be called by several goroutines at once.
type Gentle struct {
	feel  Feel
	limit *rate.Limiter

	mu     sync.Mutex
	writes int64
	took   time.Duration
	usual  time.Duration // of one write
	worst  time.Duration // of one write, on average between two looks
	held   time.Duration // how long readers waited, all together
	seen   time.Duration // held at the last look
}

// NewGentle watches a source for two seconds, before it is read from.
func NewGentle(ctx context.Context, feel Feel) (*Gentle, error) {
	g := &Gentle{feel: feel, limit: rate.NewLimiter(gentleFirst, 1<<20)}
	if _, _, err := g.look(ctx); err != nil {
		return nil, err
	}
	select {
	case <-time.After(usualFor):
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	usual, _, err := g.look(ctx)
	g.usual = usual
	return g, err
}

// look tells how long a write took since the last look, on average; ok is false where there was none.
func (g *Gentle) look(ctx context.Context) (each time.Duration, ok bool, err error) {
	writes, took, err := g.feel(ctx)
	if err != nil {
		return 0, false, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	n, d := writes-g.writes, took-g.took
	g.writes, g.took = writes, took
	if n <= 0 || d < 0 {
		return 0, false, nil
	}
	return d / time.Duration(n), true, nil
}

// Follow adapts the pace until ctx ends. A look that fails leaves it as it is; the first error is told to failed.
func (g *Gentle) Follow(ctx context.Context, failed func(error)) {
	tick := time.NewTicker(feelEvery)
	defer tick.Stop()
	for told := false; ; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		each, ok, err := g.look(ctx)
		if err != nil {
			if !told && ctx.Err() == nil {
				failed(err)
				told = true
			}
			continue
		}
		g.adapt(each, ok)
	}
}

// adapt sets the pace by how long a write took; a source that did not write feels nothing.
func (g *Gentle) adapt(each time.Duration, wrote bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.worst = max(g.worst, each)
	now := g.limit.Limit()
	switch {
	case wrote && each > max(bearable*g.usual, g.usual+unfelt):
		g.limit.SetLimit(max(gentleLeast, now*6/10))
	case g.held-g.seen > feelEvery/20: // otherwise something else is what limits it
		g.limit.SetLimit(min(gentleMost, now*5/4))
	}
	g.seen = g.held
}

// Wait lets n bytes through. It is a [Wait].
func (g *Gentle) Wait(ctx context.Context, n int) error {
	begun := time.Now()
	err := pass(ctx, g.limit, n)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.held += time.Since(begun)
	return err
}

// Felt tells how long a write took before the source was read from, how long at the worst while it was, and how long readers were held back
// for it, all together.
func (g *Gentle) Felt() (usual, worst, held time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.usual, g.worst, g.held
}

// Both waits for two paces, either of which may be nil.
func Both(a, b Wait) Wait {
	switch {
	case a == nil:
		return b
	case b == nil:
		return a
	}
	return func(ctx context.Context, n int) error {
		if err := a(ctx, n); err != nil {
			return err
		}
		return b(ctx, n)
	}
}
