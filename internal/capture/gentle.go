package capture

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"keenlodge/internal/source"
	"keenlodge/internal/throttle"
)

// gentle is how a guest is read that shall not feel it; nil where it is read as fast as it goes.
type gentle struct {
	k    *making
	pace *throttle.Gentle
	stop context.CancelFunc
	done sync.WaitGroup
}

// feel watches how long the guest's own writes take, before it is captured, where its policy asks to be gentle. A guest that does not run
// feels nothing.
func (k *making) feel(ctx context.Context, h source.Capturer) *gentle {
	if !k.o.Policy.Gentle {
		return nil
	}
	timer, ok := h.(source.WriteTimer)
	if !ok {
		k.t.Warn("its policy asks to read it gently, but a source of this kind can't tell how long its writes take: it was read as fast as it went")
		return nil
	}
	feel := func(ctx context.Context) (int64, time.Duration, error) { return timer.WriteTimes(ctx, k.t.Guest) }
	if _, _, err := feel(ctx); errors.Is(err, source.ErrNotRunning) {
		return nil
	}
	if err := k.t.Begin(ctx, "watching its writes"); err != nil {
		return nil // ctx has ended, or the records are gone: the next step finds out
	}
	pace, err := throttle.NewGentle(ctx, feel)
	if err != nil {
		k.t.Warn("its policy asks to read it gently, but it is not known how long its writes take: it was read as fast as it went: %v", err)
		return nil
	}
	ctx, stop := context.WithCancel(ctx)
	g := &gentle{k: k, pace: pace, stop: stop}
	g.done.Go(func() {
		pace.Follow(ctx, func(err error) {
			k.t.Caution(ctx, "it is not known any more how long its writes take; it is read as fast as it was just before: %v", err)
		})
	})
	return g
}

// both is a pace that is gentle, too.
func (g *gentle) both(pace throttle.Wait) throttle.Wait {
	if g == nil {
		return pace
	}
	return throttle.Both(pace, g.pace.Wait)
}

// end tells what the guest felt.
func (g *gentle) end(ctx context.Context) {
	if g == nil {
		return
	}
	g.stop()
	g.done.Wait()
	usual, worst, held := g.pace.Felt()
	show := func(d time.Duration) time.Duration { return d.Round(10 * time.Microsecond) }
	meanwhile := fmt.Sprintf("%s in the worst half second meanwhile", show(worst))
	if worst == 0 {
		meanwhile = "none was seen meanwhile"
	}
	g.k.t.Log(ctx, "read gently: a write of the guest's took %s before, %s; readers waited %s for it, all together", show(usual), meanwhile, held.Round(100*time.Millisecond))
}
