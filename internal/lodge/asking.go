package lodge

import (
	"context"
	"errors"
	"slices"
	"time"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/inventory"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
)

// soon is how long a run waits for all its sources before it begins with those that have answered.
const soon = time.Second

// captureAll asks the sources for their machines and captures those that the policy covers. Machines of a source that has answered wait for no
// source that is silent, but for those that are off: such a one may run elsewhere by now. Machines that the policy names and nobody has, or
// whose source does not answer, are the errors in missing: the others are captured all the same.
func (k *backup) captureAll(ctx context.Context) (done []records.Task, missing []error, err error) {
	missing, err = k.captureWaves(ctx)
	k.going.Wait()
	return k.done, missing, err
}

func (k *backup) captureWaves(ctx context.Context) (missing []error, err error) {
	names, err := k.l.Inventory.SourcesOf(ctx, k.site, k.policy)
	if err != nil {
		return nil, err
	}
	told := make(chan inventory.Answer, len(names))
	go k.l.Inventory.AskEach(ctx, k.site, k.Cause == run.Hand, names, func(_ int, a inventory.Answer) { told <- a })
	answers := map[string]inventory.Answer{}
	take := func(a []inventory.Answer) error {
		for _, a := range a {
			answers[a.Source] = a
		}
		_, err := k.l.Inventory.Record(ctx, a)
		return err
	}
	answered := func(m records.Machine) bool {
		a, asked := answers[m.Hypervisor]
		return asked && a.Err == nil
	}
	first := gather(told, len(names), soon)
	if err := take(first); err != nil {
		return nil, err
	}
	if len(first) < len(names) {
		if err := k.begin(ctx, func(m records.Machine) bool { return answered(m) && m.State != machine.Off }); err != nil {
			return nil, err
		}
		if err := take(gather(told, len(names)-len(first), 0)); err != nil {
			return nil, err
		}
	}
	more, err := k.l.Inventory.AskMore(ctx, k.site, k.policy, k.Cause == run.Hand, names)
	for _, a := range more {
		answers[a.Source] = a
	}
	if err == nil {
		err = k.begin(ctx, answered)
	}
	if err != nil {
		return nil, err
	}
	if err := k.askAgain(ctx, answers, take); err != nil {
		return nil, err
	}
	if err := k.begin(ctx, answered); err != nil {
		return nil, err
	}
	all := make([]inventory.Answer, 0, len(answers))
	for _, a := range answers {
		all = append(all, a)
	}
	silent := inventory.Silent(all)
	for _, why := range silent {
		k.Caution(ctx, "", "%s", why)
	}
	return k.l.Inventory.Missing(ctx, k.Policy, k.policy, silent)
}

// gather takes answers, so many at most, until a time is up; no time is for ever: each is asked within a limit.
func gather(told <-chan inventory.Answer, n int, within time.Duration) (out []inventory.Answer) {
	var late <-chan time.Time
	if within > 0 {
		late = time.After(within)
	}
	for len(out) < n {
		select {
		case a := <-told:
			out = append(out, a)
		case <-late:
			return out
		}
	}
	return out
}

// begin makes tasks of the machines that the policy covers, are ready and have none yet, and begins to capture them.
func (k *backup) begin(ctx context.Context, ready func(records.Machine) bool) error {
	covered, err := k.l.Inventory.Covered(ctx, k.policy)
	if err != nil {
		return err
	}
	covered = slices.DeleteFunc(covered, func(m records.Machine) bool { return k.begun[m.ID] || !ready(m) })
	if len(covered) == 0 {
		return nil
	}
	for _, m := range covered {
		k.begun[m.ID] = true
	}
	tasks, err := k.AddTasks(ctx, inventory.Tasks(covered, k.policy))
	if err != nil {
		return err
	}
	over := k.policy.SpreadOver()
	if k.Cause == run.Hand {
		over = 0
	}
	k.going.Go(func() {
		done := k.l.Runs.PerformAll(ctx, k.Run, k.site, tasks, over, k.captureOne)
		k.mu.Lock()
		defer k.mu.Unlock()
		k.done = append(k.done, done...)
	})
	return nil
}

// askAgain asks the sources again that did not answer, where that may pass by itself and a machine waits for it.
func (k *backup) askAgain(ctx context.Context, answers map[string]inventory.Answer, take func([]inventory.Answer) error) error {
	retries := runs.Retries{Again: k.policy.Retries, Wait: k.policy.Wait}
	return k.Retry(ctx, retries, "", func() error { return nil }, func(try int) error {
		covered, err := k.l.Inventory.Covered(ctx, k.policy)
		if err != nil {
			return err
		}
		var silent []string
		for name, a := range answers {
			// What will not pass keeps only its own machines from being captured.
			if a.Err != nil && runs.IsTransient(a.Err) && slices.ContainsFunc(covered, func(m records.Machine) bool { return m.Hypervisor == name }) {
				silent = append(silent, name)
			}
		}
		slices.Sort(silent)
		if try > 1 && len(silent) > 0 {
			if err := take(k.l.Inventory.Ask(ctx, k.site, true, silent...)); err != nil {
				return err
			}
			silent = slices.DeleteFunc(silent, func(name string) bool { return answers[name].Err == nil })
		}
		if len(silent) == 0 || try > k.policy.Retries {
			return nil
		}
		return answers[silent[0]].Err
	})
}

// follow looks for a machine that was not where it was said to be: it may have moved, or been renamed, since. The task goes where it is.
func (k *backup) follow(ctx context.Context, t *runs.Task, why error) (moved bool, err error) {
	if !errors.Is(why, source.ErrNoMachine) {
		return false, nil
	}
	if _, err := k.l.Inventory.Record(ctx, k.l.Inventory.Ask(ctx, k.site, true)); err != nil {
		return false, err
	}
	m, err := k.l.rec.Machine(ctx, t.MachineID)
	if err != nil || !m.Live() || m.Hypervisor == t.Hypervisor && m.Name == t.Guest {
		return false, nil // it is gone, which is what the capture says
	}
	t.Log(ctx, "it was on %s as %s when it was listed, and is on %s as %s now", t.Hypervisor, t.Guest, m.Hypervisor, m.Name)
	t.Hypervisor, t.Guest = m.Hypervisor, m.Name
	return true, t.Save(ctx)
}
