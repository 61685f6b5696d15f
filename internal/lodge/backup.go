package lodge

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/core/run"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// RunPolicy queues a run of a policy by hand, for who. note, which may be empty, says what it is for; its images bear it. While one is
// going, or the policy is paused, it is [ErrConflict]. Windows do not hold it.
func (l *Lodge) RunPolicy(ctx context.Context, policy, who, note string) (records.Run, error) {
	s, _, err := l.policy(ctx, policy)
	if err != nil {
		return records.Run{}, err
	}
	pauses, err := l.pauses(ctx)
	if err != nil {
		return records.Run{}, err
	}
	if p := pauses[policy]; p.Holds(time.Now()) {
		return records.Run{}, fmt.Errorf("%w: policy %s is paused%s; resume it first: keenlodge policy resume %[2]s", ErrConflict, policy, pauseWords(p, s.Location()))
	}
	run := records.Run{ID: newRunID(), Kind: "backup", Policy: policy, Cause: "hand", Who: who, Note: note}
	err = l.rec.QueueRun(ctx, run)
	if errors.Is(err, records.ErrRunning) {
		return records.Run{}, fmt.Errorf("%w: a run of policy %s is going already; wait for its end: keenlodge run watch", ErrConflict, policy)
	}
	if err != nil {
		return records.Run{}, err
	}
	return l.rec.Run(ctx, run.ID)
}

// backup carries a run of a policy out, with its hooks around it.
func (l *Lodge) backup(ctx context.Context, run records.Run) (state run.State, err error) {
	s, policy, err := l.policy(ctx, run.Policy)
	if err != nil {
		return "failed", err
	}
	about := happening{Moment: "begun", Policy: run.Policy, Run: run.ID, Cause: run.Cause}
	warnings, err := l.hook(ctx, s, about)
	state = "failed"
	if err == nil {
		state, err = l.backupMachines(ctx, s, run, policy)
	}
	about.Moment, about.State = "done", state
	if cause := context.Cause(ctx); cause != nil && err != nil {
		err = cause
	}
	if err != nil || state == "failed" {
		about.Moment = "failed"
	}
	if err != nil {
		about.Error = err.Error()
	}
	last := context.WithoutCancel(ctx)
	more, failed := l.hook(last, s, about)
	for _, w := range append(warnings, more...) {
		l.say(last, run.ID, "", "warning: "+w)
		if state == "done" {
			state = "warned"
		}
	}
	if failed != nil {
		return "failed", errors.Join(err, failed)
	}
	return state, err
}

func (l *Lodge) backupMachines(ctx context.Context, s site.Site, run records.Run, policy site.Policy) (state run.State, err error) {
	st, silent, err := l.reach(ctx, s, run, policy)
	if err != nil {
		return "failed", err
	}
	tasks, missing, err := l.selectMachines(ctx, run, policy, silent)
	if err != nil {
		return "failed", err
	}
	done := l.backupAll(ctx, s, run, policy, st, tasks)
	// A task that failed for want of room has given back what it stored; now that none is at work it can go.
	if err := l.collect(context.WithoutCancel(ctx), s, policy.Store); err != nil {
		l.say(ctx, run.ID, "", "warning: what is not needed in store "+policy.Store+" could not be deleted yet: "+err.Error())
	}
	state = worst(done)
	if len(missing) > 0 {
		state, err = "failed", errors.Join(missing...)
	} else if len(done) == 0 {
		return "failed", fmt.Errorf("policy %s selects no machine that exists; look at: keenlodge machine list", run.Policy)
	}
	if ctx.Err() != nil {
		return "failed", context.Cause(ctx)
	}
	kept, rotated := l.afterBackup(ctx, s, run, policy, st, done)
	if rotated != nil {
		return "failed", errors.Join(err, rotated)
	}
	if kept != "done" && state == "done" {
		state = kept
	}
	return state, err
}

// reach opens the store and asks the hypervisors for their guests, again where that may help. silent tells which did not answer.
func (l *Lodge) reach(ctx context.Context, s site.Site, run records.Run, policy site.Policy) (st store.Store, silent map[string]string, err error) {
	nothing := func() error { return nil }
	err = l.retried(ctx, policy, run.ID, "", nothing, func(int) (err error) {
		st, err = l.store(ctx, s, policy.Store)
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	err = l.retried(ctx, policy, run.ID, "", nothing, func(try int) (err error) {
		var answers []answer
		if answers, silent, err = l.ask(ctx, s); err != nil || try > policy.Retries {
			return err
		}
		for _, a := range answers {
			// What will not pass keeps only its own machines from being captured.
			if a.err != nil && passing(a.err) && l.needs(ctx, policy, a.hypervisor) {
				return a.err
			}
		}
		return nil
	})
	for _, why := range silent {
		l.say(ctx, run.ID, "", "warning: "+why)
	}
	return st, silent, err
}

// ask asks the hypervisors for their guests and records them. silent tells why those did not answer that did not.
func (l *Lodge) ask(ctx context.Context, s site.Site) (answers []answer, silent map[string]string, err error) {
	answers, silent = l.askAll(ctx, s), map[string]string{}
	for _, a := range answers {
		if a.err != nil {
			silent[a.hypervisor] = a.err.Error()
		}
	}
	_, err = l.recordAnswers(ctx, answers)
	return answers, silent, err
}

// needs reports whether a policy covers a machine of a hypervisor.
func (l *Lodge) needs(ctx context.Context, policy site.Policy, hypervisor string) bool {
	machines, err := l.rec.Machines(ctx)
	return err == nil && slices.ContainsFunc(machines, func(m records.Machine) bool {
		return m.Hypervisor == hypervisor && m.State != "gone" && policy.Selects(m.Name, m.Tags)
	})
}

// afterBackup proves the new images where the policy says so, and rotates the sets that gained one.
func (l *Lodge) afterBackup(ctx context.Context, s site.Site, run records.Run, policy site.Policy, st store.Store, done []records.Task) (state run.State, err error) {
	state = "done"
	var ready []string // machines whose sets are rotated: only after a new image is complete
	for _, t := range done {
		if t.State == "failed" || t.State == "skipped" {
			continue
		}
		if policy.Prove != "" {
			proof, err := l.proveImage(ctx, st, run.ID, t.Image, policy.Prove, nil)
			if err != nil {
				return "failed", fmt.Errorf("prove image %s of %s: %w", t.Image, t.Machine, err)
			}
			if !proof.Passed {
				state = "warned"
				l.say(ctx, run.ID, t.Machine, fmt.Sprintf("warning: image %s did not pass its proof, so nothing is rotated: %s", t.Image, proof.Error))
				continue
			}
		}
		ready = append(ready, t.Machine)
	}
	rotated, err := l.rotate(ctx, s, run, policy, st, ready)
	if err != nil {
		return "failed", fmt.Errorf("rotate: %w", err)
	}
	if rotated != "done" {
		state = rotated
	}
	l.tidyAfter(ctx, s, done)
	return state, nil
}

// tidyAfter removes the checkpoints that the new images make superfluous. One that stays now goes at the next capture.
func (l *Lodge) tidyAfter(ctx context.Context, s site.Site, done []records.Task) {
	for _, t := range done {
		if t.State == "skipped" {
			continue
		}
		h, err := l.hypervisor(ctx, s, t.Hypervisor)
		if err == nil {
			err = l.tidyMarks(ctx, s, h, t.Machine)
			h.Close()
		}
		if err != nil && ctx.Err() == nil {
			l.log.Warn("checkpoints could not be tidied up; the next capture tries again", "machine", t.Machine, "error", err)
		}
	}
}

// selectMachines records a task for every machine that the policy covers. Machines that it names and nobody has, or whose
// hypervisor does not answer, are the errors in missing: the others are backed up all the same.
func (l *Lodge) selectMachines(ctx context.Context, run records.Run, policy site.Policy, silent map[string]string) (tasks []records.Task, missing []error, err error) {
	machines, err := l.rec.Machines(ctx)
	if err != nil {
		return nil, nil, err
	}
	var known []string
	have := map[string]bool{}
	for _, m := range machines {
		if m.State == "gone" {
			continue
		}
		known = append(known, m.Name)
		have[m.Name] = true
		if !policy.Selects(m.Name, m.Tags) {
			continue
		}
		if why, ok := silent[m.Hypervisor]; ok {
			missing = append(missing, fmt.Errorf("machine %s can't be backed up: %s", m.Name, why))
			continue
		}
		t, err := l.rec.AddTask(ctx, records.Task{Run: run.ID, Machine: m.Name, Hypervisor: m.Hypervisor, Store: policy.Store})
		if err != nil {
			return nil, nil, err
		}
		tasks = append(tasks, t)
	}
	for _, name := range policy.Exact() {
		if !have[name] {
			missing = append(missing, fmt.Errorf("policy %s names machine %q, which no hypervisor has%s", run.Policy, name, suggest.Hint(name, known)))
		}
	}
	return tasks, missing, nil
}

// worst is a run's state from its tasks'. Skipped ones do not count, but where there are no others.
func worst(tasks []records.Task) run.State {
	state := run.Skipped
	if len(tasks) == 0 {
		state = run.Done
	}
	for _, t := range tasks {
		switch t.State {
		case "failed":
			return "failed"
		case "warned":
			state = "warned"
		case "done":
			if state != "warned" {
				state = "done"
			}
		}
	}
	return state
}

// backupAll backs machines up, each when it is its turn.
func (l *Lodge) backupAll(ctx context.Context, s site.Site, run records.Run, policy site.Policy, st store.Store, tasks []records.Task) []records.Task {
	done := make([]records.Task, len(tasks))
	over := policy.SpreadOver()
	if run.Cause == "hand" {
		over = 0
	}
	starts := spread(tasks, time.Now(), over)
	var all sync.WaitGroup
	for i, rec := range tasks {
		all.Go(func() {
			late := l.turn(ctx, s, &rec, starts[i])
			done[i] = l.perform(ctx, rec, func(ctx context.Context, t *task) error {
				if late != nil {
					return late
				}
				return l.backupWithHooks(ctx, s, run, policy, st, t)
			})
		})
	}
	all.Wait()
	return done
}

// backupWithHooks backs one machine up, with its hooks around it, and again after what may pass by itself.
func (l *Lodge) backupWithHooks(ctx context.Context, s site.Site, run records.Run, policy site.Policy, st store.Store, t *task) error {
	about := happening{Moment: "machine-begun", Policy: run.Policy, Run: run.ID, Cause: run.Cause, Machine: t.rec.Machine}
	warnings, err := l.hook(ctx, s, about)
	if err == nil {
		err = l.retried(ctx, policy, run.ID, t.rec.Machine, func() error { return l.undo(ctx, t) }, func(try int) error {
			t.rec.Tries, t.rec.Warnings, t.rec.Image = try, nil, ""
			t.rec.Done, t.rec.Total, t.rec.Fresh, t.rec.Stored, t.rec.Frozen = 0, 0, 0, 0, 0
			return l.backupMachine(ctx, s, run, policy, st, t)
		})
	}
	about.Moment, about.Image, about.State = "machine-done", t.rec.Image, "done"
	if err != nil {
		about.State, about.Error = "failed", err.Error()
	}
	if errors.As(err, new(skipped)) {
		about.State = "skipped"
	}
	more, failed := l.hook(context.WithoutCancel(ctx), s, about)
	t.rec.Warnings = append(append(t.rec.Warnings, warnings...), more...)
	if failed != nil {
		// The image exists and stays; what the hook was to see to did not happen.
		return errors.Join(err, failed)
	}
	return err
}

// undo clears what a failed try left on the hypervisor, so that another can begin.
func (l *Lodge) undo(ctx context.Context, t *task) error {
	if !t.rec.Touched {
		return nil
	}
	if err := l.clear(ctx, t.rec); err != nil {
		return fmt.Errorf("what it left on the hypervisor could not be cleared: %w", err)
	}
	t.rec.Touched = false
	return nil
}

// backupMachine makes one image: capture, read, store, end the capture, and only then let the image exist.
func (l *Lodge) backupMachine(ctx context.Context, s site.Site, run records.Run, policy site.Policy, st store.Store, t *task) (err error) {
	request, err := request[BackupRequest](run)
	if err != nil {
		return err
	}
	h, err := l.hypervisor(ctx, s, t.rec.Hypervisor)
	if err != nil {
		return err
	}
	defer h.Close()
	if err := l.fit(ctx, h, policy, t); err != nil {
		return err
	}
	rec := records.Image{ID: image.NewID(), Machine: t.rec.Machine, Policy: run.Policy, Store: policy.Store, Run: run.ID,
		Taken: time.Now(), Scope: scopeOf(policy, request), Capture: "full", Note: run.Note, Apart: run.Cause == "hand" && policy.ByHand == "apart"}
	set, err := l.setOf(ctx, rec)
	if err != nil {
		return err
	}
	kind := between(policy, request)
	base, why, err := chooseBase(ctx, policy, request.Capture, st, set, rec.Taken.In(s.Location()))
	if err != nil {
		return err
	}
	if base != nil {
		rec.Capture = kind
		if st.Header().Layout == "open" {
			rec.Base = base.ID // from here on rotation holds it
		}
	}
	if err := l.rec.AddImage(ctx, rec); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, l.rec.ForgetImage(context.WithoutCancel(ctx), rec.ID))
			if !t.rec.Touched {
				t.rec.Image = "" // otherwise the name is needed to clear what it left
			}
		}
	}()
	promise := l.promise(policy.Store)
	defer promise.end()
	if err := promise.check(ctx, s, st, rec, 0); err != nil {
		return err
	}
	t.rec.Image, t.rec.Touched = rec.ID, true
	if base != nil {
		l.say(ctx, run.ID, rec.Machine, fmt.Sprintf("the image will be %s: what changed since image %s", rec.Capture, base.ID))
	} else {
		l.say(ctx, run.ID, rec.Machine, "the image will be full: "+why)
	}
	if err := t.step(ctx, "capturing"); err != nil {
		return err
	}
	asked := l.captureRequest(ctx, s, run, policy, t)
	asked.Disks = disksOf(policy, request)
	if base != nil {
		asked.Since = base.ID
	}
	capture, err := h.Capture(ctx, asked)
	if err != nil {
		return err
	}
	kept := false
	defer func() {
		// A second Close does nothing; this one is for what fails below.
		if closed := capture.Close(ctx, kept, nil); closed != nil {
			err = errors.Join(err, closed)
		} else {
			t.rec.Touched = false
		}
	}()
	rec.Taken = time.Now()
	m := &image.Manifest{Format: image.Format, ID: rec.ID, Machine: rec.Machine, Policy: rec.Policy, Taken: rec.Taken.UTC(), Scope: rec.Scope,
		Hypervisor: t.rec.Hypervisor, Definition: capture.Definition(), Program: Version, Why: why, Note: rec.Note, Apart: rec.Apart}
	m.Consistency, m.Frozen = capture.Consistency()
	t.rec.Warnings, t.rec.Frozen = append(t.rec.Warnings, capture.Warnings()...), m.Frozen.Nanoseconds()
	disks, err := l.leanDisks(ctx, st, capture, base, t, l.readPace(s, t.rec.Hypervisor, policy.Store, st))
	defer closeOlder(disks)
	if err != nil {
		return err
	}
	if err := measure(ctx, disks, t); err != nil {
		return err
	}
	if err := promise.check(ctx, s, st, rec, t.rec.Total); err != nil {
		return err
	}
	w, err := st.Begin(ctx, m, store.WriteOptions{Program: Version, Compress: s.Stores[policy.Store].Compress})
	if err != nil {
		return err
	}
	defer func() {
		if ended := w.End(context.WithoutCancel(ctx), err); ended != nil && medium.IsFull(err) {
			err = errors.Join(err, ended)
		} else if ended != nil {
			l.log.Warn("the end of an image's writing", "image", rec.ID, "error", ended)
		}
	}()
	if base != nil {
		// Only what exists after the visit began is safe from sweeps (docs/store-format.md, "To write").
		if _, err := st.ReadImage(ctx, base.ID); err != nil {
			return fmt.Errorf("image %s, on which this one builds, went just now; run it again: %w", base.ID, err)
		}
	}
	if err := l.readDisks(ctx, disks, w, m, t); err != nil {
		return err
	}
	describe(m, rec.Capture, st, base, disks)
	if err := t.step(ctx, "ending the capture"); err != nil {
		return err
	}
	spare, err := l.spareMarks(ctx, s, rec.Machine, capture.Marks())
	if err != nil {
		return err
	}
	kept = true
	if err := capture.Close(ctx, kept, spare); err != nil {
		// What stays behind is recorded by Touched and cleared later; the image is whole.
		t.rec.Warnings = append(t.rec.Warnings, err.Error())
	}
	m.Took = time.Since(*t.rec.Started)
	if err := w.Finish(ctx, m); err != nil {
		return err
	}
	rec = finished(rec, m)
	t.rec.Warnings = append(t.rec.Warnings, compare(rec, set)...)
	return l.rec.FinishImage(ctx, rec)
}

// leaning is a disk of a capture, and the older image's that it is taken since, if it is.
type leaning struct {
	target, format string
	disk.Disk
	whole disk.Disk // nil where Disk is
	older *store.OlderDisk
	why   string
}

// leanDisks decides for every disk of a capture how it is read. The caller closes the older ones, on an error, too.
func (l *Lodge) leanDisks(ctx context.Context, st store.Store, capture source.Capture, base *image.Manifest, t *task, pace func(context.Context, int) error) ([]leaning, error) {
	var out []leaning
	for _, c := range capture.Disks() {
		d, older, why, err := lean(ctx, st, c, base)
		if errors.Is(err, errChanged) {
			t.rec.Warnings = append(t.rec.Warnings, fmt.Sprintf("disk %s was read whole: %v", c.Target, err))
		} else if err != nil {
			return out, fmt.Errorf("disk %s: %w", c.Target, err)
		} else if why != "" {
			l.say(ctx, t.rec.Run, t.rec.Machine, fmt.Sprintf("disk %s is read whole: %s", c.Target, why))
		}
		whole := c.Whole
		if pace != nil {
			d = pacedDisk{d, ctx, pace}
			if whole != nil {
				whole = pacedDisk{whole, ctx, pace}
			}
		}
		out = append(out, leaning{c.Target, c.Format, d, whole, older, why})
	}
	return out, nil
}

func closeOlder(disks []leaning) {
	for _, d := range disks {
		if d.older != nil {
			d.older.Close()
		}
	}
}

// describe says in the manifest what kind of capture it became.
func describe(m *image.Manifest, wanted image.Capture, st store.Store, base *image.Manifest, disks []leaning) {
	m.Capture = "full"
	for _, d := range disks {
		if d.older != nil {
			m.Capture, m.Since = wanted, base.ID
			if st.Header().Layout == "open" {
				m.Base = base.ID
			}
		} else if d.why != "" {
			m.Why = fmt.Sprintf("disk %s: %s", d.target, d.why)
		}
	}
}

// compare says what is out of the ordinary in an image. set are the others of its set, newest first.
func compare(m records.Image, set []records.Image) []string {
	figures := func(m records.Image) unusual.Figures {
		return unusual.Figures{Read: m.Read, Stored: m.Stored, Took: time.Duration(m.Took)}
	}
	var before []unusual.Figures
	for _, o := range set {
		if o.Capture == m.Capture && o.State == "usable" && o.Took > 0 {
			before = append(before, figures(o))
		}
	}
	return unusual.Compare(figures(m), before)
}

// finished is an image's record, completed from its manifest.
func finished(rec records.Image, m *image.Manifest) records.Image {
	rec.Taken, rec.Consistency, rec.Frozen = m.Taken, m.Consistency, m.Frozen.Nanoseconds()
	rec.Capture, rec.Since, rec.Base, rec.CaptureWhy, rec.Took = m.Capture, m.Since, m.Base, m.Why, m.Took.Nanoseconds()
	rec.Note, rec.Apart = m.Note, m.Apart
	rec.Size, rec.Read, rec.Fresh, rec.Stored = m.Sizes.Disks, m.Sizes.Read, m.Sizes.New, m.Sizes.Stored
	rec.Disks = []records.ImageDisk{}
	for _, d := range m.Disks {
		rec.Disks = append(rec.Disks, records.ImageDisk{Target: d.Target, Size: d.Size})
	}
	return rec
}

// fit makes sure that a machine is to be captured: it is the active member of its pair, and in health.
func (l *Lodge) fit(ctx context.Context, h source.Hypervisor, policy site.Policy, t *task) error {
	if policy.Active == nil && len(policy.Checks) == 0 {
		return nil
	}
	m, err := l.rec.Machine(ctx, t.rec.Machine)
	if err != nil {
		return err
	}
	if err := t.step(ctx, "checking the guest"); err != nil {
		return err
	}
	say := func(text string) { l.say(ctx, t.rec.Run, t.rec.Machine, text) }
	if why := l.standby(ctx, h, policy, m, say); why != "" {
		return skipped{why}
	}
	warnings, err := l.healthy(ctx, h, policy, m.Name, m.State, say)
	t.rec.Warnings = append(t.rec.Warnings, warnings...)
	return err
}

// disksOf are the targets that a run covers, nil for all.
func disksOf(policy site.Policy, r BackupRequest) []string {
	disks := policy.Disks
	if len(r.Disks) > 0 {
		disks = r.Disks
	}
	if slices.Contains(disks, "*") {
		return nil
	}
	return disks
}

func scopeOf(policy site.Policy, r BackupRequest) image.Scope {
	if len(disksOf(policy, r)) > 0 {
		return "disks"
	}
	return "machine"
}

// between is the kind of an image of this run that is not full.
func between(policy site.Policy, r BackupRequest) image.Capture {
	if r.Capture == "incremental" || r.Capture == "differential" {
		return r.Capture
	}
	return policy.Between()
}

// readPace is how fast disks of a hypervisor may be read: as it allows, and as an open store does, which is written as it is read.
// nil is no limit.
func (l *Lodge) readPace(s site.Site, hypervisor, name string, st store.Store) func(context.Context, int) error {
	host, into := site.PaceOf(s.Hypervisors[hypervisor].Bandwidth), site.PaceOf(s.Stores[name].Bandwidth)
	open := st.Header().Layout == "open"
	if !host.Limits() && !(open && into.Limits()) {
		return nil
	}
	return func(ctx context.Context, n int) error {
		if err := l.paces.wait(ctx, "hypervisor "+hypervisor, host, s.Location(), n); err != nil || !open {
			return err
		}
		return l.paces.wait(ctx, "store "+name, into, s.Location(), n)
	}
}

func (l *Lodge) captureRequest(ctx context.Context, s site.Site, run records.Run, policy site.Policy, t *task) source.Request {
	quiesce := machine.Quiesce(policy.Quiesce)
	if quiesce == "" {
		quiesce = machine.Preferred
	}
	return source.Request{
		Machine: t.rec.Machine, Mark: t.rec.Image, Quiesce: quiesce, Checkpoint: policy.Builds(),
		Moment: func(ctx context.Context, name string) error {
			warnings, err := l.hook(ctx, s, happening{Moment: name, Policy: run.Policy, Run: run.ID, Cause: run.Cause, Machine: t.rec.Machine, Image: t.rec.Image})
			t.rec.Warnings = append(t.rec.Warnings, warnings...)
			return err
		},
		Waking: func() error { t.rec.Woken = true; return t.save(ctx) },
		Watch: func() (source.Watchdog, error) {
			return l.watch(s.Hypervisors[t.rec.Hypervisor].URI, t.rec.Machine)
		},
	}
}

// measure sums up what is to be read of the disks.
func measure(ctx context.Context, disks []leaning, t *task) error {
	for _, d := range disks {
		n, err := disk.Allocated(ctx, d)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.target, err)
		}
		t.rec.Total += n
	}
	return nil
}

// readDisks reads all disks into the store and names them in the manifest. Where the older image turns out to be damaged, the disk is
// read whole after all.
func (l *Lodge) readDisks(ctx context.Context, disks []leaning, w store.Writing, m *image.Manifest, t *task) error {
	count := &store.Progress{}
	figures := func(rec *records.Task) {
		rec.Done = count.Read.Load()
		rec.Fresh, rec.Stored = w.Written()
	}
	for i := range disks {
		d := &disks[i]
		if err := t.step(ctx, "reading "+d.target); err != nil {
			return err
		}
		var out image.Disk
		read := func() (err error) {
			out, err = w.Disk(ctx, d.target, d.format, d.Disk, d.older, count)
			return err
		}
		held := count.Data.Load()
		err := t.moving(ctx, figures, read)
		if d.older != nil && (errors.Is(err, chunk.ErrDamaged) || errors.Is(err, medium.ErrNotFound)) {
			d.why = "the image on which it would build is damaged: " + err.Error()
			l.say(ctx, t.rec.Run, t.rec.Machine, fmt.Sprintf("disk %s is read whole: %s", d.target, d.why))
			d.older.Close()
			d.Disk, d.older = d.whole, nil
			count.Data.Store(held)
			err = t.moving(ctx, figures, read)
		}
		m.Disks = append(m.Disks, out)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.target, err)
		}
		m.Sizes.Disks += d.Size()
	}
	if err := t.step(ctx, "storing"); err != nil {
		return err
	}
	if err := t.moving(ctx, figures, func() error { return w.Flush(ctx) }); err != nil {
		return err
	}
	m.Sizes.Read, m.Sizes.Data = t.rec.Done, min(count.Data.Load(), m.Sizes.Disks)
	m.Sizes.New, m.Sizes.Stored = w.Written()
	return nil
}
