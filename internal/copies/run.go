package copies

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
)

// handler carries runs of copy rules out.
type handler struct{ c *Copies }

// Wait implements [runs.Waiter].
func (h handler) Wait(ctx context.Context, r records.Run) (runs.Wait, error) {
	if r.Policy == "" {
		return runs.Wait{}, nil // of no rule
	}
	return h.c.planning.WaitForWindow(ctx, r)
}

// Longest implements [runs.Bounded].
func (h handler) Longest(ctx context.Context, r records.Run) (time.Duration, error) {
	s, err := h.c.rec.Site(ctx)
	return s.Copies[r.Policy].AsPolicy().LongestRun(), err
}

// Next implements [runs.Chained]: what comes after it, and a run of its own where an image was complete while it ended.
func (h handler) Next(ctx context.Context, r records.Run, ended run.State) ([]records.Run, error) {
	if r.Policy == "" {
		return nil, nil
	}
	next, err := h.c.planning.Followers(ctx, r, ended)
	if err != nil || ended != run.Done {
		return next, err
	}
	s, err := h.c.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	rule, ok := s.Copies[r.Policy]
	if !ok || !rule.Soon {
		return next, nil
	}
	found, err := h.c.choose(ctx, s, r.Policy, rule, time.Now(), false)
	if err == nil && len(found.due) > 0 {
		next = append(next, records.Run{ID: runs.NewID(), Kind: run.Copy, Policy: r.Policy, Cause: run.Chain, State: run.Queued})
	}
	return next, err
}

// Settle implements [runs.Handler]: an image whose writer died exists, or it does not.
func (h handler) Settle(ctx context.Context, r *runs.Run, t *records.Task) error {
	if t.Image == "" {
		return nil
	}
	whole, err := h.c.stores.Settle(ctx, t.Image)
	if err == nil && whole {
		t.State, t.Error = run.Done, ""
		r.Log(ctx, t.Machine, "image %s was complete when the service ended", t.Image)
	}
	return err
}

// Cleanup implements [runs.Handler]: a copy leaves nothing outside of the lodge's stores.
func (handler) Cleanup(context.Context, records.Task) error { return nil }

// errClosed is why a run stops whose window has closed.
var errClosed = errors.New("the window closed; what has arrived is not sent again, and the next run goes on")

// round is a run of a rule under way.
type round struct {
	*runs.Run
	c    *Copies
	site site.Site
	rule site.Copy
	name string
	// policy is the one whose images are taken along, "" where a rule is carried out.
	policy string

	from, to store.Store
	result   wire.CopyResult
	mu       sync.Mutex // guards what follows, and from and to
	fresh    map[string]bool
	// bandwidth, in zone, is what the rule may send, as it was when it was asked for.
	bandwidth []string
	zone      *time.Location
	asked     time.Time
}

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, begun *runs.Run) error {
	c := h.c
	s, err := c.rec.Site(ctx)
	if err != nil {
		return err
	}
	asked, err := runs.Request[Request](begun.Run)
	if err != nil {
		return err
	}
	if asked.Gather != "" {
		return h.gather(ctx, begun, s, asked.Gather)
	}
	rule, err := s.Copy(begun.Policy)
	if err != nil {
		return err
	}
	k := &round{Run: begun, c: c, site: s, rule: rule, name: begun.Policy, fresh: map[string]bool{}}
	if asked.Rehearse {
		return k.rehearse(ctx, asked.Force)
	}
	if away, err := c.away(ctx, s, rule); err != nil {
		return err
	} else if away != "" {
		return run.Skip{Why: fmt.Sprintf("the disk of store %s is away; what is due goes when it is plugged in", away)}
	}
	inWindow, end := k.window(ctx)
	defer end()
	return k.all(ctx, inWindow, asked.Force)
}

// window ends when the rule's hours end; a run by hand is not held by them.
func (k *round) window(ctx context.Context) (context.Context, context.CancelFunc) {
	if k.Cause == run.Hand {
		return context.WithCancel(ctx)
	}
	now := time.Now().In(k.site.Location())
	closes, ok := field.WindowsOf(k.rule.Windows).Closes(now)
	if !ok {
		return context.WithCancel(ctx)
	}
	return context.WithDeadlineCause(ctx, closes, errClosed)
}

// all copies what is due, and what becomes due meanwhile; then the sets that gained a copy rotate.
func (k *round) all(ctx, inWindow context.Context, force bool) error {
	if err := k.settle(ctx); err != nil {
		return err
	}
	tried := map[string]bool{}
	for first := true; ; first = false {
		found, err := k.c.choose(ctx, k.site, k.name, k.rule, time.Now(), force)
		if err != nil {
			return err
		}
		due := slices.DeleteFunc(found.due, func(m records.Lying) bool { return tried[m.Origin] })
		if len(due) == 0 {
			if first {
				k.Log(ctx, "", "nothing to copy: %s", found.nothing(k.rule))
				return nil
			}
			break
		}
		if first {
			if err := k.reach(ctx); err != nil {
				return err
			}
		}
		for _, m := range due {
			tried[m.Origin] = true
		}
		if first {
			var told string
			if due, told, err = k.leaveStrangers(ctx, found); err != nil {
				return err
			}
			if told != "" {
				k.Warn(ctx, "", "%s", told)
			}
		}
		if err := k.carryAll(ctx, inWindow, due); err != nil {
			return err
		}
		if inWindow.Err() != nil {
			break
		}
	}
	if err := k.SetResult(ctx, k.result); err != nil {
		return err
	}
	if k.result.Images > 0 {
		k.Log(ctx, "", "%s", k.result.Says())
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err := k.rotate(ctx); err != nil {
		return fmt.Errorf("rotate: %w", err)
	}
	if errors.Is(context.Cause(inWindow), errClosed) {
		k.Warn(ctx, "", "%v", errClosed)
	}
	return nil
}

// leaveStrangers splits what is due into what goes, and what lies in the other store already although the records don't know it, which is told.
func (k *round) leaveStrangers(ctx context.Context, found choice) (left []records.Lying, told string, err error) {
	there, err := k.c.strangers.in(ctx, k.to, found.over)
	if err != nil {
		return nil, "", fmt.Errorf("look for what lies in store %s already: %w", k.rule.To, err)
	}
	left = slices.DeleteFunc(slices.Clone(found.due), func(m records.Lying) bool { return there[m.Origin] })
	switch n := len(found.due) - len(left); n {
	case 0:
	case 1:
		told = fmt.Sprintf("1 of the images that are due lies in store %[1]s already, and this lodge does not know it; have it recorded: keenlodge store adopt %[1]s", k.rule.To)
	default:
		told = fmt.Sprintf("%d of the images that are due lie in store %[2]s already, and this lodge does not know them; have them recorded: keenlodge store adopt %[2]s", n, k.rule.To)
	}
	return left, told, nil
}

// settle finds out what became of copies whose process died, before any is made again.
func (k *round) settle(ctx context.Context) error {
	there, err := k.c.rec.LyingIn(ctx, k.rule.To, nil)
	for _, m := range there {
		if err == nil && m.CopiedBy == k.name && m.State == image.Writing {
			_, err = k.c.stores.Settle(ctx, m.ID)
		}
	}
	return err
}

// attempts is how often in a row a copy is tried again that was cut and did not get on.
const attempts = 12

// FirstWait is how long after a line was cut it is tried again; each time in a row that brought nothing, twice as long. Tests shorten it.
var FirstWait = 5 * time.Second

func wait(try int) time.Duration { return min(FirstWait<<min(try-1, 10), 5*time.Minute) }

// reach opens both stores, again where that may help.
func (k *round) reach(ctx context.Context) error {
	return k.Retry(ctx, runs.Retries{Again: 3, Wait: wait}, "", func() error { return nil }, func(int) (err error) {
		if k.from, err = k.c.stores.Open(ctx, k.site, k.rule.From); err == nil {
			k.to, err = k.c.stores.Open(ctx, k.site, k.rule.To)
		}
		return err
	})
}

// carryAll copies images, so many at once as the rule says, the first first.
func (k *round) carryAll(ctx, inWindow context.Context, due []records.Lying) error {
	tasks := make([]records.Task, len(due))
	for i, m := range due {
		tasks[i] = records.Task{Machine: m.Machine, MachineID: m.MachineID, Guest: m.Machine, Store: k.rule.To}
	}
	tasks, err := k.AddTasks(ctx, tasks)
	if err != nil {
		return err
	}
	next := make(chan int)
	var all sync.WaitGroup
	for range min(k.rule.Tasks(), len(tasks)) {
		all.Go(func() {
			for i := range next {
				k.Perform(ctx, tasks[i], func(_ context.Context, t *runs.Task) error {
					if inWindow.Err() != nil {
						return k.stopped(inWindow, nil)
					}
					return k.stopped(inWindow, k.carry(inWindow, t, due[i]))
				})
			}
		})
	}
	for i := range tasks {
		next <- i
	}
	close(next)
	all.Wait()
	return nil
}

// stopped makes of an error that a closed window caused what it is: nothing went wrong.
func (k *round) stopped(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); errors.Is(cause, errClosed) && (err != nil || ctx.Err() != nil) {
		k.mu.Lock()
		k.result.Left++
		k.mu.Unlock()
		return run.Skip{Why: errClosed.Error()}
	}
	if err == nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// rotate has the sets rotate that gained a copy.
func (k *round) rotate(ctx context.Context) error {
	machines := []string{}
	for id := range k.fresh {
		machines = append(machines, id)
	}
	if len(machines) == 0 {
		return nil
	}
	slices.Sort(machines)
	return k.c.retention.Rotate(ctx, k.site, k.Run, k.rule.AsPolicy(), k.to, machines)
}

// rehearse tells what a run would do, without writing anything: what goes, whether there is room, and what rotation would let go.
func (k *round) rehearse(ctx context.Context, force bool) error {
	found := wire.Rehearsal{Checks: []wire.RehearsalCheck{}, Drops: []string{}}
	failed := 0
	note := func(what, on string, v wire.Verdict, format string, args ...any) {
		c := wire.RehearsalCheck{What: what, On: on, State: v, Text: fmt.Sprintf(format, args...)}
		found.Checks = append(found.Checks, c)
		k.Log(ctx, "", "%s %s: %s", what, on, c.Text)
		if v == wire.Failed {
			failed++
		} else if v == wire.Warned {
			k.Doubt()
		}
	}
	chosen, err := k.c.choose(ctx, k.site, k.name, k.rule, time.Now(), force)
	if err != nil {
		return err
	}
	for _, name := range []string{k.rule.From, k.rule.To} {
		if _, err := k.c.stores.Open(ctx, k.site, name); err != nil {
			note("store", name, wire.Failed, "%v", err)
		} else {
			note("store", name, wire.OK, "reached, signed in and opened")
		}
	}
	if len(chosen.due) == 0 {
		note("image", "none", wire.OK, "%s", chosen.nothing(k.rule))
	}
	if failed == 0 {
		if err := k.reach(ctx); err != nil {
			return err
		}
		if text := cutsNote(k.from, k.to); text != "" {
			note("cuts", k.rule.To, wire.Warned, "%s", text)
		}
		due, told, err := k.leaveStrangers(ctx, chosen)
		if err != nil {
			return err
		}
		if told != "" {
			note("images", k.rule.To, wire.Warned, "%s", told)
		}
		for _, m := range due {
			manifest, err := k.from.ReadImage(ctx, m.ID)
			if err != nil {
				note("image", m.ID, wire.Failed, "%v", err)
				continue
			}
			need, most, err := k.need(ctx, k.from, k.to, m, manifest)
			if err != nil {
				return err
			}
			found.Reads += need
			about := "about"
			if most {
				about = "at the most"
			}
			note("image", m.ID, wire.OK, "%s, taken %s, would be copied: %s %s are missing there", m.Machine, m.Taken.In(k.site.Location()).Format("2006-01-02 15:04"), about, humanize.IBytes(uint64(max(0, need))))
		}
		found.Adds = found.Reads
		room, err := k.to.Medium().Room(ctx)
		if err == nil {
			err = stores.CheckCapacity(k.rule.To, k.site.Stores[k.rule.To], room, found.Adds, 0, "what is missing there")
		}
		if err != nil {
			note("room", k.rule.To, wire.Failed, "%v", err)
		} else {
			note("room", k.rule.To, wire.OK, "%s at the most would be added; what several images have in common is counted with each", humanize.IBytes(uint64(found.Adds)))
		}
	}
	sets, _, err := k.c.retention.Preview(ctx, k.name, "", "", 0)
	if err != nil {
		return err
	}
	for _, set := range sets {
		for _, m := range set.Images {
			if m.Verdict == rotation.Drop {
				found.Drops = append(found.Drops, m.ID)
			}
		}
	}
	if err := k.SetResult(ctx, found); err != nil {
		return err
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d checks failed; a run would not go well now", failed, len(found.Checks))
	}
	return nil
}

// cutsNote says what two stores miss that cut otherwise, or "".
func cutsNote(from, to store.Store) string {
	a, okA := from.(store.Cutter)
	b, okB := to.(store.Cutter)
	if !okA || !okB || a.Cuts() == b.Cuts() {
		return ""
	}
	return "the two stores cut otherwise, so that of what comes from elsewhere nothing is found again; a store that is made for copies should be made like the other (store add --like)"
}
