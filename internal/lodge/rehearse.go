package lodge

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/run"

	"keenlodge/internal/store"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/notify"
	"keenlodge/internal/records"
)

// RehearseRequest asks for a run of a policy that does everything but write.
type RehearseRequest struct {
	// Freeze asks for guests to be frozen and thawed, too, as the policy's quiesce says.
	Freeze bool `json:"freeze"`
}

// Rehearsal is what a rehearsal found.
type Rehearsal struct {
	Checks []Check `json:"checks"`
	// Reads and Adds are bytes: what a run would read, and is likely to add to the store.
	Reads int64 `json:"reads"`
	Adds  int64 `json:"adds"`
	// Drops are the images that rotation would drop after it.
	Drops []string `json:"drops"`
}

// Check is one line of a rehearsal.
type Check struct {
	What  string `json:"what" doc:"what was tried, such as store or freeze"`
	On    string `json:"on" doc:"on which machine, store or hypervisor"`
	State string `json:"state" enum:"ok,warned,failed"`
	Text  string `json:"text"`
}

// RehearsePolicy queues a rehearsal for who.
func (l *Lodge) RehearsePolicy(ctx context.Context, policy, who string, r RehearseRequest) (records.Run, error) {
	if _, _, err := l.policy(ctx, policy); err != nil {
		return records.Run{}, err
	}
	body, err := json.Marshal(r)
	if err != nil {
		return records.Run{}, err
	}
	run := records.Run{ID: newRunID(), Kind: "rehearsal", Policy: policy, Cause: "hand", Who: who, Request: body}
	if err := l.rec.QueueRun(ctx, run); err != nil {
		return run, err
	}
	return l.rec.Run(ctx, run.ID)
}

// rehearsal is one under way.
type rehearsal struct {
	l      *Lodge
	s      site.Site
	run    records.Run
	policy site.Policy
	freeze bool

	mu    sync.Mutex
	found Rehearsal
}

func (r *rehearsal) note(ctx context.Context, what, on, state, format string, args ...any) {
	c := Check{what, on, state, fmt.Sprintf(format, args...)}
	r.mu.Lock()
	r.found.Checks = append(r.found.Checks, c)
	r.mu.Unlock()
	sign := map[string]string{"ok": "✓", "warned": "!", "failed": "✗"}[state]
	r.l.say(ctx, r.run.ID, "", fmt.Sprintf("%s %s %s: %s", sign, what, on, c.Text))
}

// noted notes how something went that either works or not.
func (r *rehearsal) noted(ctx context.Context, what, on string, err error, format string, args ...any) bool {
	if err != nil {
		r.note(ctx, what, on, "failed", "%v", err)
		return false
	}
	r.note(ctx, what, on, "ok", format, args...)
	return true
}

// rehearse carries a rehearsal out.
func (l *Lodge) rehearse(ctx context.Context, run records.Run) (state run.State, err error) {
	s, policy, err := l.policy(ctx, run.Policy)
	if err != nil {
		return "failed", err
	}
	asked, err := request[RehearseRequest](run)
	if err != nil {
		return "failed", err
	}
	r := &rehearsal{l: l, s: s, run: run, policy: policy, freeze: asked.Freeze, found: Rehearsal{Checks: []Check{}, Drops: []string{}}}
	r.start(ctx)
	st, err := l.store(ctx, s, policy.Store)
	if r.noted(ctx, "store", policy.Store, err, "reached, signed in and opened") {
		r.room(ctx, st)
	}
	r.scripts(ctx)
	tasks, err := r.choose(ctx)
	if err != nil {
		return "failed", err
	}
	var all sync.WaitGroup
	for _, rec := range tasks {
		all.Go(func() {
			late := l.turn(ctx, s, &rec, time.Now())
			l.perform(ctx, rec, func(ctx context.Context, t *task) error {
				if late != nil || st == nil {
					return late
				}
				return r.machine(ctx, st, t)
			})
		})
	}
	all.Wait()
	if ctx.Err() != nil {
		return "failed", context.Cause(ctx)
	}
	r.order(tasks)
	if err := l.rec.SetResult(ctx, run.ID, r.found); err != nil {
		return "failed", err
	}
	failed, warned := 0, 0
	for _, c := range r.found.Checks {
		switch c.State {
		case "failed":
			failed++
		case "warned":
			warned++
		}
	}
	switch {
	case failed > 0:
		return "failed", fmt.Errorf("%d of %d checks failed; a run would not go well now", failed, len(r.found.Checks))
	case warned > 0:
		return "warned", nil
	}
	return "done", nil
}

// order puts what is about machines behind the rest, machine by machine.
func (r *rehearsal) order(tasks []records.Task) {
	place := map[string]int{}
	for i, t := range tasks {
		place[t.Machine] = i + 1
	}
	slices.SortStableFunc(r.found.Checks, func(a, b Check) int { return place[a.On] - place[b.On] })
}

// start looks at when a run would begin.
func (r *rehearsal) start(ctx context.Context) {
	zone := r.s.Location()
	now := time.Now().In(zone)
	next := r.policy.Next(now, zone)
	if next.IsZero() {
		r.note(ctx, "schedule", r.run.Policy, "ok", "no moment of the clock starts it: it runs by hand, at boot or after another policy")
	} else {
		r.note(ctx, "schedule", r.run.Policy, "ok", "next at %s", next.Format("2006-01-02 15:04 MST"))
	}
	if pauses, err := r.l.pauses(ctx); err == nil && pauses[r.run.Policy].Holds(now) {
		r.note(ctx, "pause", r.run.Policy, "warned", "it is paused%s", pauseWords(pauses[r.run.Policy], zone))
	}
	hosts, err := r.l.hostsOf(ctx, r.s, r.run.Policy)
	if err != nil {
		r.note(ctx, "window", r.run.Policy, "failed", "%v", err)
		return
	}
	if next.IsZero() {
		next = now
	}
	hours := r.s.Hours(r.run.Policy, hosts...)
	opens, ok := hours[0].Opens(next, hours[1:]...)
	switch {
	case !ok:
		r.note(ctx, "window", r.run.Policy, "failed", "the windows of the policy, its store%s are never open at once", andHosts(hosts))
	case opens.After(next):
		r.note(ctx, "window", r.run.Policy, "warned", "closed at that moment: the run would wait until %s", opens.Format("2006-01-02 15:04"))
	default:
		r.note(ctx, "window", r.run.Policy, "ok", "open then")
	}
}

func (r *rehearsal) room(ctx context.Context, st store.Store) {
	room, err := st.Medium().Room(ctx)
	switch {
	case err != nil:
		r.note(ctx, "room", r.policy.Store, "failed", "%v", err)
	case room.FreeBytes < 0:
		r.note(ctx, "room", r.policy.Store, "ok", "the medium does not tell how much is free")
	default:
		err := fits(r.policy.Store, r.s.Stores[r.policy.Store], room, 0, 0, "nothing yet")
		r.noted(ctx, "room", r.policy.Store, err, "%s free of %s, %s must stay free", humanize.IBytes(uint64(room.FreeBytes)), humanize.IBytes(uint64(room.TotalBytes)), orNothing(floorWords(r.s.Stores[r.policy.Store])))
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

// choose asks the hypervisors and makes a task of each machine that a run would cover.
func (r *rehearsal) choose(ctx context.Context) ([]records.Task, error) {
	answers, silent, err := r.l.ask(ctx, r.s)
	if err != nil {
		return nil, err
	}
	for _, a := range answers {
		if a.err == nil || r.l.needs(ctx, r.policy, a.hypervisor) {
			r.noted(ctx, "hypervisor", a.hypervisor, a.err, "reached; guests: %d", len(a.guests))
		}
	}
	tasks, missing, err := r.l.selectMachines(ctx, r.run, r.policy, silent)
	if err != nil {
		return nil, err
	}
	for _, why := range missing {
		r.note(ctx, "selection", r.run.Policy, "failed", "%v", why)
	}
	if len(tasks) == 0 {
		r.note(ctx, "selection", r.run.Policy, "failed", "it selects no machine that can be reached; look at: keenlodge machine list")
		return nil, nil
	}
	var names []string
	for _, t := range tasks {
		names = append(names, t.Machine)
	}
	r.note(ctx, "selection", r.run.Policy, "ok", "%s", strings.Join(names, ", "))
	return tasks, nil
}

// machine captures a machine as a run would, reads nothing, and ends the capture.
func (r *rehearsal) machine(ctx context.Context, st store.Store, t *task) (err error) {
	name := t.rec.Machine
	h, err := r.l.hypervisor(ctx, r.s, t.rec.Hypervisor)
	if err != nil {
		return err
	}
	defer h.Close()
	switch err := r.l.fit(ctx, h, r.policy, t); {
	case errors.As(err, new(skipped)):
		r.note(ctx, "active", name, "ok", "a run would skip it: %v", err)
		return err
	case err != nil:
		r.note(ctx, "checks", name, "failed", "%v", err)
		return nil
	case len(t.rec.Warnings) > 0:
		r.note(ctx, "checks", name, "warned", "%s", strings.Join(t.rec.Warnings, "; "))
	case len(r.policy.Checks) > 0:
		r.note(ctx, "checks", name, "ok", "%d passed", len(r.policy.Checks))
	}
	rec := records.Image{ID: image.NewID(), Machine: name, Policy: r.run.Policy, Store: r.policy.Store, Run: r.run.ID, Taken: time.Now(),
		Scope: scopeOf(r.policy, BackupRequest{}), Capture: "full"}
	set, err := r.l.setOf(ctx, rec)
	if err != nil {
		return err
	}
	base, _, err := chooseBase(ctx, r.policy, "", st, set, rec.Taken.In(r.s.Location()))
	if err != nil {
		return err
	}
	asked := r.l.captureRequest(ctx, r.s, r.run, r.policy, t)
	asked.Mark, asked.Checkpoint, asked.Moment, asked.Disks = rec.ID, false, nil, disksOf(r.policy, BackupRequest{})
	if base != nil {
		asked.Since, rec.Capture = base.ID, r.policy.Between()
	}
	if !r.freeze {
		asked.Quiesce = "off"
		if r.policy.Quiesce != "off" {
			pinged := h.Ping(ctx, name)
			if m, err := r.l.rec.Machine(ctx, name); err == nil && m.State == "running" {
				r.noted(ctx, "agent", name, pinged, "the guest agent answers; the freeze was not tried (--freeze tries it)")
			}
		}
	}
	t.rec.Image, t.rec.Touched = rec.ID, true // so that it is cleared if this process dies
	if err := t.step(ctx, "capturing"); err != nil {
		return err
	}
	capture, err := h.Capture(ctx, asked)
	if err != nil {
		r.note(ctx, "capture", name, "failed", "%v", err)
		return r.l.undo(ctx, t)
	}
	defer func() {
		if closed := capture.Close(ctx, false, nil); closed != nil {
			err = errors.Join(err, closed)
			return
		}
		t.rec.Touched = false
	}()
	kind, frozen := capture.Consistency()
	if r.freeze && frozen > 0 {
		r.note(ctx, "freeze", name, "ok", "frozen for %s and thawed", frozen.Round(time.Millisecond))
	}
	state, told := "ok", "captured ("+string(kind)+")"
	if warnings := capture.Warnings(); len(warnings) > 0 {
		state, told = "warned", told+"; "+strings.Join(warnings, "; ")
	}
	r.note(ctx, "capture", name, state, "%s", told)
	disks, err := r.l.leanDisks(ctx, st, capture, base, t, nil)
	defer closeOlder(disks)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(disks, func(d leaning) bool { return d.older != nil }) {
		rec.Capture = "full" // whatever was asked for
	}
	if err := measure(ctx, disks, t); err != nil {
		return err
	}
	return r.weigh(ctx, st, rec, set, t.rec.Total)
}

// weigh compares what a run would add with the room that is there, and tells what rotation would drop.
func (r *rehearsal) weigh(ctx context.Context, st store.Store, rec records.Image, set []records.Image, reads int64) error {
	need, from, err := r.l.estimate(ctx, rec, reads)
	if err != nil {
		return err
	}
	room, err := st.Medium().Room(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	others := r.found.Adds
	r.found.Reads, r.found.Adds = r.found.Reads+reads, r.found.Adds+need
	r.mu.Unlock()
	err = fits(r.policy.Store, r.s.Stores[r.policy.Store], room, need, others, from)
	r.noted(ctx, "size", rec.Machine, err, "%s image: %s would be read; about %s added (%s)", rec.Capture, humanize.IBytes(uint64(reads)), humanize.IBytes(uint64(need)), from)
	rule, err := rotation.Parse(r.policy.Rotation)
	if err != nil {
		return err
	}
	images := asSet(rec, set).planned()
	images = append(images, rotation.Image{ID: rec.ID, Taken: rec.Taken, Capture: rec.Capture, State: "usable", Bytes: need})
	plan := rotation.Make(rule, time.Now().In(r.s.Location()), images)
	drops := plan.Drops()
	r.mu.Lock()
	r.found.Drops = append(r.found.Drops, drops...)
	r.mu.Unlock()
	switch {
	case plan.Guard != "":
		r.note(ctx, "rotation", rec.Machine, "warned", "the guard would hold it back: %s", plan.Guard)
	case len(drops) == 0:
		r.note(ctx, "rotation", rec.Machine, "ok", "%q would drop nothing of %d images", r.policy.Rotation, len(images)-1)
	default:
		r.note(ctx, "rotation", rec.Machine, "ok", "%q would drop %s", r.policy.Rotation, strings.Join(drops, ", "))
	}
	return nil
}

// asSet is the set to which an image belongs, oldest first, without what is gone. images come newest first.
func asSet(rec records.Image, images []records.Image) set {
	out := set{machine: rec.Machine, store: rec.Store, scope: rec.Scope, apart: rec.Apart}
	for i := len(images) - 1; i >= 0; i-- {
		if images[i].Gone == nil {
			out.images = append(out.images, images[i])
		}
	}
	return out
}
