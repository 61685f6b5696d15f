package capture

import (
	"context"
	"errors"
	"slices"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
)

// Tried is what a capture was like that was tried for a rehearsal.
type Tried struct {
	// Image is what a run would make of it, Set the others of its set, newest first.
	Image records.Image
	Set   []records.Image
	// Reads is how many bytes a run would read.
	Reads int64
	// Unfit says why a run would not capture the machine as it is; CheckWarnings are what only warns.
	Unfit         error
	CheckWarnings []string
	// Pinged reports that the guest's agent was asked for a sign of life in place of a freeze, Agent what became of that.
	Pinged bool
	Agent  error
	// Refused says why the capture could not be begun.
	Refused     error
	Consistency image.Consistency
	Frozen      time.Duration
	Warnings    []string
}

// Try captures a machine as a run would, reads nothing, and ends the capture. Without freeze it does not freeze the machine, and asks
// its agent for a sign of life instead. What would go wrong in a run is in the answer; the error is for what can't be found out, or a
// [run.Skip] where a run would skip the machine.
func (c *Captures) Try(ctx context.Context, o Order, st store.Store, t *runs.Task, freeze bool) (tried Tried, err error) {
	h, capturer, err := c.connect(ctx, o.Site, t.Hypervisor)
	if err != nil {
		return tried, err
	}
	defer h.Close()
	if err := c.preflight(ctx, h, o.Policy, t); errors.As(err, new(run.Skip)) {
		return tried, err
	} else if err != nil {
		tried.Unfit = err
		return tried, nil
	}
	tried.CheckWarnings = slices.Clone(t.Warnings)
	tried.Image = records.Image{ID: image.NewID(), Machine: t.Machine, MachineID: t.MachineID, Policy: o.Run.Policy, Store: o.Policy.Store, Run: o.Run.ID, Taken: time.Now(), Scope: o.scope(), Capture: image.Full}
	if tried.Set, err = c.setOf(ctx, tried.Image); err != nil {
		return tried, err
	}
	var base *image.Manifest
	if wholeOnly(o, st) == "" {
		if base, _, err = chooseBase(ctx, o.Policy, "", st, tried.Set, tried.Image.Taken.In(o.Site.Location())); err != nil {
			return tried, err
		}
	}
	asked, err := c.request(ctx, o, t, tried.Image.ID)
	if err != nil {
		return tried, err
	}
	asked.Checkpoint, asked.Moment = false, nil
	if base != nil {
		asked.Since, tried.Image.Capture = base.ID, o.Policy.Between()
	}
	if !freeze {
		asked.Quiesce = machine.NoFreeze
		if o.Policy.Quiesce != machine.NoFreeze {
			c.ping(ctx, h, t, &tried)
		}
	}
	t.Image, t.NeedsCleanup = tried.Image.ID, true // so that it is cleared if this process dies
	if err := t.Save(ctx); err != nil {
		return tried, err
	}
	if err := t.Begin(ctx, "capturing"); err != nil {
		return tried, err
	}
	capture, err := capturer.Capture(ctx, asked)
	if err != nil {
		tried.Refused = err
		return tried, c.Undo(ctx, t)
	}
	defer func() {
		if closed := capture.Close(ctx, false, nil); closed != nil {
			err = errors.Join(err, closed)
			return
		}
		t.NeedsCleanup = false
	}()
	if settler, ok := capture.(source.Settler); ok && freeze {
		for done := false; !done; {
			if _, done, err = settler.Settle(ctx); err != nil {
				tried.Refused = err
				return tried, nil
			}
		}
	}
	tried.Consistency, tried.Frozen = capture.Consistency()
	tried.Warnings = capture.Warnings()
	if a, ok := capture.(source.Archiver); ok {
		_, since, _, bytes := a.Archive()
		if tried.Reads = bytes; !since {
			tried.Image.Capture = image.Full
		}
		return tried, nil
	}
	disks, err := c.planDisks(ctx, st, capture, base, t, nil, "")
	defer closePlans(disks)
	if err != nil {
		return tried, err
	}
	if !slices.ContainsFunc(disks, func(d diskPlan) bool { return d.older != nil }) {
		tried.Image.Capture = image.Full // whatever was asked for
	}
	err = measure(ctx, disks, t)
	tried.Reads = t.Total
	return tried, err
}

// ping asks a running machine's agent for a sign of life.
func (c *Captures) ping(ctx context.Context, h source.Source, t *runs.Task, tried *Tried) {
	inside, err := source.As[source.Insider](h, "ask a machine from inside")
	if err != nil {
		return
	}
	if m, err := c.rec.Machine(ctx, t.MachineID); err == nil && m.State == machine.Running {
		tried.Pinged, tried.Agent = true, inside.Ping(ctx, t.Guest)
	}
}
