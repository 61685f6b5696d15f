// Package rehearsal does all of a policy's run but what writes: it connects, selects, freezes where that is asked for, and weighs what would be read,
// stored and dropped.
package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/capture"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/inventory"
	"keenlodge/internal/notify"
	"keenlodge/internal/planning"
	"keenlodge/internal/records"
	"keenlodge/internal/retention"
	"keenlodge/internal/runs"
	"keenlodge/internal/snapshots"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
)

// Rehearsals rehearses.
type Rehearsals struct {
	rec       *records.Records
	stores    *stores.Stores
	inventory *inventory.Inventory
	captures  *capture.Captures
	planning  *planning.Planning
	snapshots *snapshots.Snapshots
	runs      *runs.Engine
	cleanUp   func(ctx context.Context, t records.Task) error
}

// New makes a Rehearsals and registers its runs with the engine. cleanUp removes what a task's capture left on its source.
func New(rec *records.Records, ss *stores.Stores, inv *inventory.Inventory, c *capture.Captures, pl *planning.Planning, sn *snapshots.Snapshots, e *runs.Engine, cleanUp func(ctx context.Context, t records.Task) error) *Rehearsals {
	rs := &Rehearsals{rec, ss, inv, c, pl, sn, e, cleanUp}
	e.Register(run.Rehearsal, handler{rs})
	return rs
}

// Start queues a rehearsal of a policy, for who.
func (rs *Rehearsals) Start(ctx context.Context, policy, who string, q wire.RehearseRequest) (records.Run, error) {
	s, err := rs.rec.Site(ctx)
	if err == nil {
		_, err = s.Policy(policy)
	}
	if err != nil {
		return records.Run{}, err
	}
	return rs.runs.Queue(ctx, runs.Order{Kind: run.Rehearsal, Policy: policy, Cause: run.Hand, Who: who, Request: q})
}

// signs stand before a check's line in the log.
var signs = map[wire.Verdict]string{wire.OK: "✓", wire.Warned: "!", wire.Failed: "✗"}

// handler carries rehearsals out.
type handler struct{ rs *Rehearsals }

// Settle implements [runs.Handler].
func (handler) Settle(context.Context, *runs.Run, *records.Task) error { return nil }

// Cleanup implements [runs.Handler].
func (h handler) Cleanup(ctx context.Context, t records.Task) error { return h.rs.cleanUp(ctx, t) }

// rehearsal is one under way.
type rehearsal struct {
	*runs.Run
	*Rehearsals
	s      site.Site
	policy site.Policy
	order  capture.Order
	freeze bool

	mu    sync.Mutex
	found wire.Rehearsal
}

func (r *rehearsal) note(ctx context.Context, what, on string, v wire.Verdict, format string, args ...any) {
	c := wire.RehearsalCheck{What: what, On: on, State: v, Text: fmt.Sprintf(format, args...)}
	r.mu.Lock()
	r.found.Checks = append(r.found.Checks, c)
	r.mu.Unlock()
	r.Log(ctx, "", "%s %s %s: %s", signs[v], what, on, c.Text)
}

// noted notes how something went that either works or not.
func (r *rehearsal) noted(ctx context.Context, what, on string, err error, format string, args ...any) bool {
	if err != nil {
		r.note(ctx, what, on, wire.Failed, "%v", err)
		return false
	}
	r.note(ctx, what, on, wire.OK, format, args...)
	return true
}

// Run implements [runs.Handler]: all of a run but what writes.
func (h handler) Run(ctx context.Context, begun *runs.Run) error {
	rs := h.rs
	s, err := rs.rec.Site(ctx)
	if err != nil {
		return err
	}
	policy, err := s.Policy(begun.Policy)
	if err != nil {
		return err
	}
	asked, err := runs.Request[wire.RehearseRequest](begun.Run)
	if err != nil {
		return err
	}
	r := &rehearsal{Run: begun, Rehearsals: rs, s: s, policy: policy, freeze: asked.Freeze, found: wire.Rehearsal{Checks: []wire.RehearsalCheck{}, Drops: []string{}}}
	r.order = capture.Order{Site: s, Policy: policy, Run: begun}
	r.start(ctx)
	if policy.Covers() == image.InPlace {
		return r.inPlace(ctx)
	}
	st, err := rs.stores.Open(ctx, s, policy.Store)
	if r.noted(ctx, "store", policy.Store, err, "reached, signed in and opened") {
		r.capacity(ctx, st)
	}
	r.scripts(ctx)
	tasks, err := r.choose(ctx)
	if err != nil {
		return err
	}
	rs.runs.PerformAll(ctx, begun, s, tasks, 0, func(ctx context.Context, t *runs.Task) error {
		if st == nil {
			return nil
		}
		return r.machine(ctx, st, t)
	})
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return r.end(ctx, tasks)
}

// end sums up what was found.
func (r *rehearsal) end(ctx context.Context, tasks []records.Task) error {
	r.byMachine(tasks)
	if err := r.SetResult(ctx, r.found); err != nil {
		return err
	}
	failed := 0
	for _, c := range r.found.Checks {
		switch c.State {
		case wire.Failed:
			failed++
		case wire.Warned:
			r.Doubt()
		}
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d checks failed; a run would not go well now", failed, len(r.found.Checks))
	}
	return nil
}

// byMachine puts what is about machines behind the rest, machine by machine.
func (r *rehearsal) byMachine(tasks []records.Task) {
	place := map[string]int{}
	for i, t := range tasks {
		place[t.Machine] = i + 1
	}
	slices.SortStableFunc(r.found.Checks, func(a, b wire.RehearsalCheck) int { return place[a.On] - place[b.On] })
}

// start looks at when a run would begin.
func (r *rehearsal) start(ctx context.Context) {
	zone := r.s.Location()
	now := time.Now().In(zone)
	next := r.policy.Next(now, zone)
	if next.IsZero() {
		r.note(ctx, "schedule", r.Policy, wire.OK, "no moment of the clock starts it: it runs by hand, at boot or after another policy")
	} else {
		r.note(ctx, "schedule", r.Policy, wire.OK, "next at %s", next.Format("2006-01-02 15:04 MST"))
	}
	if pauses, err := r.planning.Pauses(ctx); err == nil && pauses[r.Policy].Holds(now) {
		r.note(ctx, "pause", r.Policy, wire.Warned, "it is paused%s", planning.PauseWords(pauses[r.Policy], zone))
	}
	hosts, err := r.planning.HostsOf(ctx, r.s, r.Policy)
	if err != nil {
		r.note(ctx, "window", r.Policy, wire.Failed, "%v", err)
		return
	}
	if next.IsZero() {
		next = now
	}
	hours := r.s.Hours(r.Policy, hosts...)
	opens, ok := hours[0].Opens(next, hours[1:]...)
	switch {
	case !ok:
		r.note(ctx, "window", r.Policy, wire.Failed, "the windows of the policy, its store%s are never open at once", planning.AndHosts(hosts))
	case opens.After(next):
		r.note(ctx, "window", r.Policy, wire.Warned, "closed at that moment: the run would wait until %s", opens.Format("2006-01-02 15:04"))
	default:
		r.note(ctx, "window", r.Policy, wire.OK, "open then")
	}
}

func (r *rehearsal) capacity(ctx context.Context, st store.Store) {
	room, err := st.Medium().Room(ctx)
	switch {
	case err != nil:
		r.note(ctx, "room", r.policy.Store, wire.Failed, "%v", err)
	case room.FreeBytes < 0:
		r.note(ctx, "room", r.policy.Store, wire.OK, "the medium does not tell how much is free")
	default:
		err := stores.CheckCapacity(r.policy.Store, r.s.Stores[r.policy.Store], room, 0, 0, "nothing yet")
		r.noted(ctx, "room", r.policy.Store, err, "%s free of %s, %s must stay free", humanize.IBytes(uint64(room.FreeBytes)), humanize.IBytes(uint64(room.TotalBytes)), orNothing(retention.FloorWords(r.s.Stores[r.policy.Store])))
	}
}

func orNothing(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}

// scripts looks whether hooks could be called; they are not.
func (r *rehearsal) scripts(ctx context.Context) {
	for _, h := range r.policy.Hooks {
		if h.Script == "" {
			continue
		}
		r.noted(ctx, "hook", h.Script, notify.CheckScript(h.Script), "there and executable; it was not called")
	}
}

// choose asks the sources and makes a task of each machine that a run would cover.
func (r *rehearsal) choose(ctx context.Context) ([]records.Task, error) {
	answers, err := r.inventory.AskFor(ctx, r.s, r.policy, true)
	if err != nil {
		return nil, err
	}
	covered, err := r.inventory.Covered(ctx, r.policy)
	if err != nil {
		return nil, err
	}
	for _, a := range answers {
		if a.Err == nil || slices.ContainsFunc(covered, func(m records.Machine) bool { return m.Hypervisor == a.Source }) {
			r.noted(ctx, "hypervisor", a.Source, a.Err, "reached; guests: %d", len(a.Machines))
		}
	}
	silent := inventory.Silent(answers)
	missing, err := r.inventory.Missing(ctx, r.Policy, r.policy, silent)
	if err != nil {
		return nil, err
	}
	covered = slices.DeleteFunc(covered, func(m records.Machine) bool { return silent[m.Hypervisor] != "" })
	tasks, err := r.AddTasks(ctx, inventory.Tasks(covered, r.policy))
	if err != nil {
		return nil, err
	}
	for _, why := range missing {
		r.note(ctx, "selection", r.Policy, wire.Failed, "%v", why)
	}
	if len(tasks) == 0 {
		r.note(ctx, "selection", r.Policy, wire.Failed, "it selects no machine that can be reached; look at: keenlodge machine list")
		return nil, nil
	}
	var names []string
	for _, t := range tasks {
		names = append(names, t.Machine)
	}
	r.note(ctx, "selection", r.Policy, wire.OK, "%s", strings.Join(names, ", "))
	return tasks, nil
}

// machine has a machine captured as a run would, with nothing read, and weighs what that would add and drop.
func (r *rehearsal) machine(ctx context.Context, st store.Store, t *runs.Task) error {
	name := t.Machine
	tried, err := r.captures.Try(ctx, r.order, st, t, r.freeze)
	var skip run.Skip
	switch {
	case errors.As(err, &skip):
		r.note(ctx, "active", name, wire.OK, "a run would skip it: %s", skip.Why)
		return nil
	case tried.Unfit != nil:
		r.note(ctx, "checks", name, wire.Failed, "%v", tried.Unfit)
		return err
	case len(tried.CheckWarnings) > 0:
		r.note(ctx, "checks", name, wire.Warned, "%s", strings.Join(tried.CheckWarnings, "; "))
	case len(r.policy.Checks) > 0:
		r.note(ctx, "checks", name, wire.OK, "%d passed", len(r.policy.Checks))
	}
	if tried.Pinged {
		r.noted(ctx, "agent", name, tried.Agent, "the guest agent answers; the freeze was not tried (--freeze tries it)")
	}
	if tried.Refused != nil {
		r.note(ctx, "capture", name, wire.Failed, "%v", tried.Refused)
		return err
	}
	if err != nil {
		return err
	}
	if r.freeze && tried.Frozen > 0 {
		r.note(ctx, "freeze", name, wire.OK, "frozen for %s and thawed", tried.Frozen.Round(time.Millisecond))
	}
	verdict, text := wire.OK, "captured ("+string(tried.Consistency)+")"
	if len(tried.Warnings) > 0 {
		verdict, text = wire.Warned, text+"; "+strings.Join(tried.Warnings, "; ")
	}
	r.note(ctx, "capture", name, verdict, "%s", text)
	return r.weigh(ctx, st, tried)
}

// weigh compares what a run would add with the room that is there, and says what rotation would drop.
func (r *rehearsal) weigh(ctx context.Context, st store.Store, tried capture.Tried) error {
	rec := tried.Image
	need, from, err := r.stores.Estimate(ctx, rec, tried.Reads)
	if err != nil {
		return err
	}
	room, err := st.Medium().Room(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	others := r.found.Adds
	r.found.Reads, r.found.Adds = r.found.Reads+tried.Reads, r.found.Adds+need
	r.mu.Unlock()
	err = stores.CheckCapacity(r.policy.Store, r.s.Stores[r.policy.Store], room, need, others, from)
	r.noted(ctx, "size", rec.Machine, err, "%s image: %s would be read; about %s added (%s)", rec.Capture, humanize.IBytes(uint64(tried.Reads)), humanize.IBytes(uint64(need)), from)
	images := retention.SetOf(rec, tried.Set).Planned()
	images = append(images, rotation.Image{ID: rec.ID, Taken: rec.Taken, Capture: rec.Capture, State: image.Usable, Bytes: need})
	plan := rotation.Make(r.policy.RotationRule(), time.Now().In(r.s.Location()), images)
	drops := plan.Drops()
	r.mu.Lock()
	r.found.Drops = append(r.found.Drops, drops...)
	r.mu.Unlock()
	switch {
	case plan.Guard != "":
		r.note(ctx, "rotation", rec.Machine, wire.Warned, "the guard would hold it back: %s", plan.Guard)
	case len(drops) == 0:
		r.note(ctx, "rotation", rec.Machine, wire.OK, "%q would drop nothing of %d images", r.policy.Rotation, len(images)-1)
	default:
		r.note(ctx, "rotation", rec.Machine, wire.OK, "%q would drop %s", r.policy.Rotation, strings.Join(drops, ", "))
	}
	return nil
}

// inPlace looks whether the machines' sources keep snapshots, and what rotation would drop with one more; none is taken.
func (r *rehearsal) inPlace(ctx context.Context) error {
	r.scripts(ctx)
	tasks, err := r.choose(ctx)
	if err != nil {
		return err
	}
	r.runs.PerformAll(ctx, r.Run, r.s, tasks, 0, func(ctx context.Context, t *runs.Task) error {
		h, err := r.inventory.Connect(ctx, r.s, t.Hypervisor)
		if err == nil {
			_, err = source.As[source.Snapshotter](h, "keep snapshots in place")
			defer h.Close()
		}
		r.noted(ctx, "snapshot", t.Machine, err, "its source keeps snapshots in place; none was taken")
		return nil
	})
	sets, err := r.snapshots.Preview(ctx, r.s, r.Policy, "")
	if err != nil {
		return err
	}
	for _, k := range sets {
		var drops []string
		for _, m := range k.Images {
			if m.Verdict == rotation.Drop {
				drops = append(drops, m.ID)
			}
		}
		r.mu.Lock()
		r.found.Drops = append(r.found.Drops, drops...)
		r.mu.Unlock()
		switch {
		case k.Guard != "":
			r.note(ctx, "rotation", k.Machine, wire.Warned, "the guard would hold it back: %s", k.Guard)
		case len(drops) == 0:
			r.note(ctx, "rotation", k.Machine, wire.OK, "%q drops nothing of the %d snapshots that there are", r.policy.Rotation, len(k.Images))
		default:
			r.note(ctx, "rotation", k.Machine, wire.OK, "%q drops %s", r.policy.Rotation, strings.Join(drops, ", "))
		}
	}
	return r.end(ctx, tasks)
}
