package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/run"
	"keenlodge/internal/lending"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
)

// A guest that is restored at once runs on files that lie over its disks in the store, which are lent to it (package lending). Whoever made it may die:
// [Restores.ServeLoans] looks after every loan of this host, has the guest go on where it was stopped for want of a disk, pulls what is missing, and
// ends the loan when nothing is.

// tendEvery is how often loans are looked after, tendOff those of guests that are off.
const tendEvery, tendOff = time.Second, 20 * time.Second

// folder is where the files lie that lie over lent disks; far says that this is another host.
func (on restoring) folder(ctx context.Context, q Request) (folder string, far bool, err error) {
	p, err := source.As[source.Puller](on.h, "run a guest on disks that are lent to it")
	if err != nil {
		return "", false, err
	}
	return p.PoolFolder(ctx, q.Pool)
}

// settled reports whether a disk of a guest needs nothing of the store any more.
func settled(ctx context.Context, p source.Puller, loan lending.Loan, d lending.Disk) bool {
	if loan.Far {
		return lending.Settled(p.Below(ctx, d.Overlay))
	}
	return lending.Settled(lending.Below(d.Overlay))
}

// overLent is a file that lies over a lent disk.
func overLent(ctx context.Context, folder string, d image.Disk, q Request, run string) (*qcow2.File, error) {
	address, err := lending.Address(d.Target, filepath.Join(folder, volume(q, d.Target, run)))
	if err != nil {
		return nil, err
	}
	return qcow2.Over(ctx, d.Size, address, "raw")
}

// lend lends the disks that lie below files at places.
func (rs *Restores) lend(ctx context.Context, on restoring, q Request, t *runs.Task, places map[string]string, far bool) error {
	if err := t.Begin(ctx, "lending the disks"); err != nil {
		return err
	}
	key, err := rs.stores.Key(ctx, on.store)
	if err != nil {
		return err
	}
	loan := lending.Loan{Run: t.Run, Image: on.manifest.ID, Store: on.store, Guest: q.As, Hypervisor: q.Hypervisor, Pool: q.Pool, Pull: q.AtOnce, Far: far}
	for _, d := range on.manifest.Disks {
		loan.Disks = append(loan.Disks, lending.Disk{Target: d.Target, Overlay: places[d.Target]})
	}
	if err := rs.lender.Keep(loan); err != nil {
		return err
	}
	return rs.lender.Lend(ctx, loan, key, on.spec)
}

// endLoan ends the loan of a run, if there is one.
func (rs *Restores) endLoan(run string) error {
	loan, err := rs.lender.Loan(run)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return rs.lender.End(loan)
}

// lentToRunning reports whether disks are lent for a run to a guest that was powered on.
func (rs *Restores) lentToRunning(run string) (bool, error) {
	loan, err := rs.lender.Loan(run)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return loan.Started, err
}

// wakeLent powers a guest on that runs on lent disks, waits for its agent, and follows how the rest comes over. end is called when it is up.
func (rs *Restores) wakeLent(ctx context.Context, on restoring, q Request, r *runs.Run, t *runs.Task, end func()) error {
	loan, err := rs.lender.Loan(t.Run)
	if err != nil {
		return err
	}
	loan.Started = true // from now on the guest is not ours to take away
	if err := rs.lender.Keep(loan); err != nil {
		return err
	}
	if err := t.Begin(ctx, "starting guest "+q.As); err != nil {
		return err
	}
	begun := time.Now()
	err = on.makes.Start(ctx, q.As)
	if errors.Is(err, source.ErrUnreachable) && ctx.Err() == nil { // it may have been started, or may be yet
		t.Warn("whether it was started is not known, and is found out: %v", err)
	} else if err != nil {
		loan.Started = false
		return errors.Join(err, rs.lender.Keep(loan), rs.removeLent(context.WithoutCancel(ctx), on.h, q, loan))
	}
	total := int64(0)
	for _, d := range on.manifest.Disks {
		total += d.Size
	}
	awake := rs.awaitAgent(ctx, on, q.As, begun, r, t)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	read := rs.lender.Read(t.Run)
	loan.Up = true
	if err := rs.lender.Keep(loan); err != nil {
		return err
	}
	r.Evidence(ctx, q.As, "it runs on disks that are still in store %s, of which %s were read so far (%.1f %% of %s)", loan.Store, humanize.IBytes(uint64(read)), 100*float64(read)/float64(max(1, total)), humanize.IBytes(uint64(total)))
	if awake != nil {
		t.Warn("%v", awake) // it may run all the same
	}
	if q.Boot {
		r.Evidence(ctx, q.As, "nothing of it stays: when it is shut down, it goes with all that it wrote")
		return nil
	}
	if err := t.Begin(ctx, "pulling the rest behind it"); err != nil {
		return err
	}
	end() // what is pulled can wait for others, and takes long
	return rs.followPull(ctx, on, loan, t)
}

// followPull waits until the guest needs nothing of the store any more.
func (rs *Restores) followPull(ctx context.Context, on restoring, loan lending.Loan, t *runs.Task) error {
	p, err := source.As[source.Puller](on.h, "pull")
	if err != nil {
		return err
	}
	var targets []string
	for _, d := range loan.Disks {
		targets = append(targets, d.Target)
	}
	t.Total = 0
	for _, d := range on.manifest.Disks {
		t.Total += d.Size
	}
	done := int64(0)
	return t.Moving(ctx, nil, func() error {
		for {
			if _, err := rs.lender.Loan(loan.Run); errors.Is(err, fs.ErrNotExist) {
				if _, err := p.Pulled(ctx, loan.Guest, nil); errors.Is(err, source.ErrNoMachine) {
					return fmt.Errorf("guest %s was removed before all of its disks had come over", loan.Guest)
				}
				t.Add(t.Total - done)
				return nil
			}
			if states, err := p.Pulled(ctx, loan.Guest, targets); err == nil {
				now := int64(0)
				for i, s := range states {
					if s.Going {
						now += s.Done
					} else if settled(ctx, p, loan, loan.Disks[i]) {
						now += on.manifest.Disks[i].Size
					}
				}
				if now > done {
					t.Add(now - done)
					done = now
				}
			}
			select {
			case <-time.After(tendEvery / 2):
			case <-ctx.Done():
				t.Log(context.WithoutCancel(ctx), "guest %s runs on, and the rest of its disks is pulled behind it", loan.Guest)
				return context.Cause(ctx)
			}
		}
	})
}

// Plain implements [runs.Plain].
func (handler) Plain() {}

// Settle implements [runs.Handler]: a guest that runs was restored, whoever goes on with its disks.
func (h handler) Settle(ctx context.Context, r *runs.Run, t *records.Task) error {
	lent, err := h.rs.lentToRunning(t.Run)
	if err == nil && lent {
		t.State, t.Error, t.NeedsCleanup = run.Done, "", false
		r.Log(ctx, t.Machine, "the service ended meanwhile; the guest runs on, and its disks are looked after")
	}
	return err
}

// ServeLoans looks after the loans of this host until ctx ends.
func (rs *Restores) ServeLoans(ctx context.Context) error {
	tick := time.NewTicker(tendEvery)
	defer tick.Stop()
	said := map[string]string{} // the last trouble with each, which is told once
	next := map[string]time.Time{}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		loans, err := rs.lender.Loans()
		if err != nil {
			rs.log.Warn("loans could not be read", "error", err)
		}
		for _, loan := range loans {
			if time.Now().Before(next[loan.Run]) {
				continue
			}
			err := rs.tend(ctx, loan)
			if delete(next, loan.Run); errors.Is(err, source.ErrNotRunning) {
				next[loan.Run] = time.Now().Add(tendOff)
			}
			if ctx.Err() != nil {
				return nil
			}
			if err == nil {
				delete(said, loan.Run)
				continue
			}
			if text := err.Error(); text != said[loan.Run] {
				rs.runs.Log(ctx, loan.Run, loan.Guest, run.Warning, text)
				rs.log.Warn("a guest that runs on lent disks", "guest", loan.Guest, "error", err)
				said[loan.Run] = text
			}
		}
	}
}

// tend looks after a loan.
func (rs *Restores) tend(ctx context.Context, loan lending.Loan) error {
	if !loan.Started {
		r, err := rs.rec.Run(ctx, loan.Run)
		if err != nil || !r.State.Over() {
			return err
		}
		return rs.lender.End(loan) // it came to nothing, and the run has cleared the rest
	}
	if loan.Settled() {
		return rs.endSettled(ctx, loan)
	}
	s, err := rs.rec.Site(ctx)
	if err != nil {
		return err
	}
	h, err := rs.inventory.Connect(ctx, s, loan.Hypervisor)
	if err != nil {
		return err
	}
	defer h.Close()
	p, err := source.As[source.Puller](h, "pull")
	if err != nil {
		return err
	}
	if !rs.lender.Alive(loan.Run) {
		key, err := rs.stores.Key(ctx, loan.Store)
		if err != nil {
			return err
		}
		if err := rs.lender.Lend(ctx, loan, key, s.Hypervisors[loan.Hypervisor]); err != nil {
			return err
		}
		rs.runs.Log(ctx, loan.Run, loan.Guest, run.Warning, "what lent the disks had ended; they are lent again")
	}
	if !loan.Pull {
		return rs.tendBooted(ctx, p, h, loan)
	}
	var targets []string
	for _, d := range loan.Disks {
		targets = append(targets, d.Target)
	}
	err = rs.goOn(ctx, p, loan)
	if errors.Is(err, source.ErrNoMachine) {
		return rs.lender.End(loan) // somebody removed it
	}
	if err != nil {
		return err
	}
	if !loan.Up { // while it comes up all that is read is for that, unless nobody waits for it any more
		if r, err := rs.rec.Run(ctx, loan.Run); err != nil || !r.State.Over() {
			return err
		}
	}
	states, err := p.Pulled(ctx, loan.Guest, targets)
	if errors.Is(err, source.ErrNotRunning) {
		if !slices.ContainsFunc(loan.Disks, func(d lending.Disk) bool { return !settled(ctx, p, loan, d) }) {
			return rs.endSettled(ctx, loan)
		}
		return fmt.Errorf("guest %s is off, and the rest of its disks is pulled when it runs: it needs store %s until then: %w", loan.Guest, loan.Store, source.ErrNotRunning)
	}
	if err != nil {
		return err
	}
	left := false
	for i, state := range states {
		if state.Going {
			left = true
		} else if !settled(ctx, p, loan, loan.Disks[i]) {
			left = true
			if err := p.Pull(ctx, loan.Guest, state.Target); err != nil {
				return fmt.Errorf("pull the rest of disk %s behind guest %s: %w", state.Target, loan.Guest, err)
			}
		}
	}
	if left {
		return nil
	}
	return rs.endSettled(ctx, loan)
}

// endSettled ends the loan of a guest that needs nothing of the store any more.
func (rs *Restores) endSettled(ctx context.Context, loan lending.Loan) error {
	if err := rs.lender.End(loan); err != nil {
		return err
	}
	if loan.Pull {
		rs.runs.Log(ctx, loan.Run, loan.Guest, run.Evidence, "nothing of it depends on the store any more")
	}
	return nil
}

// goOn has a guest go on that was stopped because the store could not be read.
func (rs *Restores) goOn(ctx context.Context, p source.Puller, loan lending.Loan) error {
	stopped, err := p.GoOn(ctx, loan.Guest)
	if stopped && err == nil {
		return fmt.Errorf("guest %s was stopped, for its disks could not be read, and is told to go on until they can", loan.Guest)
	}
	return err
}

// tendBooted removes a guest that ran for a while only, once it is off.
func (rs *Restores) tendBooted(ctx context.Context, p source.Puller, h source.Source, loan lending.Loan) error {
	if err := rs.goOn(ctx, p, loan); err != nil && !errors.Is(err, source.ErrNoMachine) {
		return err
	}
	r, err := rs.rec.Run(ctx, loan.Run)
	if err != nil {
		return err
	}
	if !r.State.Over() {
		return nil // it is being powered on
	}
	q, err := runs.Request[Request](r)
	if err != nil {
		return err
	}
	q.Pool = loan.Pool
	err = rs.removeLent(ctx, h, q, loan)
	if errors.Is(err, source.ErrBusy) {
		return nil // it runs
	}
	if err == nil {
		rs.runs.Log(ctx, loan.Run, loan.Guest, run.Note, "it was shut down, and is gone with all that it wrote")
	}
	return err
}

// removeLent removes what lies over lent disks of a guest that is off, the guest, and the loan.
func (rs *Restores) removeLent(ctx context.Context, h source.Source, q Request, loan lending.Loan) error {
	p, err := source.As[source.Puller](h, "pull")
	if err != nil {
		return err
	}
	makes, err := source.As[source.Restorer](h, "make machines")
	if err != nil {
		return err
	}
	var places []string
	targets := []string{variablesTarget}
	for _, d := range loan.Disks {
		places, targets = append(places, d.Overlay), append(targets, d.Target)
	}
	if err := p.Discard(ctx, loan.Guest, places); err != nil {
		return err
	}
	_, err = removeDisks(ctx, makes, q, loan.Run, targets)
	return errors.Join(err, rs.lender.End(loan))
}
