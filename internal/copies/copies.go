// Package copies keeps images of one store in others as well: it finds what copy rules want, brings it over, so that only what the other side lacks
// travels, and has the copies rotate by rules of their own.
package copies

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/planning"
	"keenlodge/internal/records"
	"keenlodge/internal/retention"
	"keenlodge/internal/runs"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
	"keenlodge/internal/wire"
)

// Copies carries copy rules out.
type Copies struct {
	rec       *records.Records
	log       *slog.Logger
	stores    *stores.Stores
	retention *retention.Retention
	planning  *planning.Planning
	throttle  *throttle.Throttle
	runs      *runs.Engine
	program   string
	strangers strangers
}

// New makes a Copies and registers runs of copy rules with the engine. program is the name under which copies are made.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores, rt *retention.Retention, pl *planning.Planning, pace *throttle.Throttle, e *runs.Engine, program string) *Copies {
	c := &Copies{rec: rec, log: log, stores: ss, retention: rt, planning: pl, throttle: pace, runs: e, program: program, strangers: strangers{origins: map[string]string{}}}
	e.Register(run.Copy, handler{c: c})
	return c
}

// Request says what is special about a run of a copy rule.
type Request struct {
	planning.Request
	// Force copies the newest image of each machine although it is not due yet.
	Force bool `json:"force,omitempty"`
	// Rehearse does everything but write.
	Rehearse bool `json:"rehearse,omitempty"`
	// Gather names a policy in place of a rule, whose images are taken along into the store that it has now.
	Gather string `json:"gather,omitempty"`
}

// Run queues a run of a rule by hand, for who. While one is going, or the rule is paused, it is [fault.ErrConflict]. Windows do not hold it.
func (c *Copies) Run(ctx context.Context, rule, who string, q Request) (records.Run, error) {
	s, err := c.rec.Site(ctx)
	if err == nil {
		_, err = s.Copy(rule)
	}
	if err != nil {
		return records.Run{}, err
	}
	pauses, err := c.planning.Pauses(ctx)
	if err != nil {
		return records.Run{}, err
	}
	if p := pauses[rule]; p.Holds(time.Now()) && !q.Rehearse {
		return records.Run{}, fmt.Errorf("%w: copy rule %s is paused%s; resume it first: keenlodge copy resume %[2]s", fault.ErrConflict, rule, planning.PauseWords(p, s.Location()))
	}
	r, err := c.runs.Queue(ctx, runs.Order{Kind: run.Copy, Policy: rule, Cause: run.Hand, Who: who, Request: q})
	if errors.Is(err, records.ErrRunning) {
		return records.Run{}, fmt.Errorf("%w: a run of copy rule %s is going already; wait for its end: keenlodge run watch", fault.ErrConflict, rule)
	}
	return r, err
}

// Follow starts the rules that copy an image as soon as it is complete, after one came into a store.
func (c *Copies) Follow(ctx context.Context, store string) error {
	s, err := c.rec.Site(ctx)
	if err != nil {
		return err
	}
	return c.start(ctx, s, run.Chain, func(r site.Copy) bool { return r.Soon && r.From == store })
}

// CatchUp starts the rules that copy into a store whose disk was plugged in, and those that copy from it as soon as images are complete.
func (c *Copies) CatchUp(ctx context.Context, store string) error {
	s, err := c.rec.Site(ctx)
	if err != nil {
		return err
	}
	return c.start(ctx, s, run.Upkeep, func(r site.Copy) bool { return r.To == store || r.From == store && r.Soon })
}

// start queues runs of the rules that are wanted, unless they are paused or one of their stores is away.
func (c *Copies) start(ctx context.Context, s site.Site, cause run.Cause, wanted func(site.Copy) bool) error {
	pauses, err := c.planning.Pauses(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(s.Copies)) {
		r := s.Copies[name]
		if !wanted(r) || pauses[name].Holds(time.Now()) {
			continue
		}
		if away, err := c.away(ctx, s, r); err != nil || away != "" {
			errs = append(errs, err)
			continue // it catches up when the disk is plugged in
		}
		// One that is going looks again before it ends.
		if _, err := c.runs.Queue(ctx, runs.Order{Kind: run.Copy, Policy: name, Cause: cause}); err != nil && !errors.Is(err, records.ErrRunning) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// away names the store of a rule whose disk is away, or "".
func (c *Copies) away(ctx context.Context, s site.Site, r site.Copy) (string, error) {
	for _, name := range []string{r.From, r.To} {
		if away, err := c.stores.Away(ctx, s, name); err != nil || away {
			return name, err
		}
	}
	return "", nil
}

// Begin starts the rules that copy images as soon as they are complete and have something to do: what was complete when the service ended.
func (c *Copies) Begin(ctx context.Context) error {
	s, err := c.rec.Site(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(s.Copies)) {
		rule := s.Copies[name]
		if !rule.Soon {
			continue
		}
		found, err := c.choose(ctx, s, name, rule, time.Now(), false)
		if err == nil && len(found.due) > 0 {
			err = c.Follow(ctx, rule.From)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Standing is a rule as people see it.
type Standing struct {
	Name string
	site.Copy
	NextDue *time.Time
	Notice  string
	Paused  *records.Pause
	// Says tells each schedule in plain words.
	Says []string
	// Images are how many copies there are, Waiting how many images are to be copied now, the oldest of which was taken at Behind.
	Images, Waiting int
	Behind          *time.Time
}

// List lists the copy rules that see lets through, by name.
func (c *Copies) List(ctx context.Context, see func(name string, rule site.Copy) bool) ([]Standing, error) {
	s, err := c.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	standings, err := c.rec.PolicyStandings(ctx)
	if err != nil {
		return nil, err
	}
	out := []Standing{}
	now := time.Now()
	for _, p := range standings {
		rule, ok := s.Copies[p.Name]
		if !ok || !see(p.Name, rule) {
			continue
		}
		v := Standing{Name: p.Name, Copy: rule, NextDue: p.NextDue, Notice: p.Notice, Says: []string{}}
		if p.Holds(now) {
			v.Paused = &p.Pause
		}
		if rule.Soon {
			v.Says = append(v.Says, "as soon as an image is complete")
		}
		for _, parsed := range rule.AsPolicy().Parsed(s.Location()) {
			v.Says = append(v.Says, parsed.Words())
		}
		found, err := c.choose(ctx, s, p.Name, rule, now, false)
		if err != nil {
			return nil, err
		}
		v.Images, v.Waiting = found.copies, len(found.due)
		for _, m := range found.due {
			if v.Behind == nil || m.Taken.Before(*v.Behind) {
				v.Behind = &m.Taken
			}
		}
		out = append(out, v)
	}
	return out, nil
}

// Choice tells what a rule would do with each image that it selects.
func (c *Copies) Choice(ctx context.Context, name string, force bool) ([]wire.CopyVerdict, error) {
	s, err := c.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	rule, err := s.Copy(name)
	if err != nil {
		return nil, err
	}
	found, err := c.choose(ctx, s, name, rule, time.Now(), force)
	if err != nil {
		return nil, err
	}
	out := []wire.CopyVerdict{}
	for _, v := range found.verdicts {
		out = append(out, wire.CopyVerdict{Image: v.ID, Machine: v.Machine, MachineID: v.MachineID, Policy: v.Policy, Taken: v.Taken, Stored: v.Stored, Copy: v.copy, Why: v.why})
	}
	return out, nil
}

// Elsewhere tells of images in which other places the same ones are.
func (c *Copies) Elsewhere(ctx context.Context, images []wire.Image) ([]wire.Image, error) {
	s, err := c.rec.Site(ctx)
	if err != nil || len(s.Copies) == 0 && !slices.ContainsFunc(images, func(m wire.Image) bool { return m.CopyOf != "" }) {
		return images, err
	}
	ids := make([]string, len(images))
	for i, m := range images {
		ids[i] = m.ID
	}
	twins, err := c.rec.Twins(ctx, ids)
	for i := range images {
		for _, t := range twins[images[i].ID] {
			images[i].Also = append(images[i].Also, wire.Twin{ID: t.ID, Store: t.Store, Place: s.Stores[t.Store].Place, State: t.State, Proven: t.Proven, Failed: t.Failed})
		}
	}
	return images, err
}
