// Package capture makes an image of a machine: it checks the machine, finds the image on which the new one can build, takes the moment,
// reads the disks and stores them, and ends the capture before the image exists. When it runs, and for which machines, is not in here.
package capture

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/hooks"
	"keenlodge/internal/inventory"
	"keenlodge/internal/meeting"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
	"keenlodge/internal/watchdog"
)

// Captures makes images of machines.
type Captures struct {
	rec       *records.Records
	log       *slog.Logger
	inventory *inventory.Inventory
	stores    *stores.Stores
	hooks     *hooks.Hooks
	throttle  *throttle.Throttle
	// program is the name under which images are made; executable is the path of the program, which a freeze's watchdog runs.
	program, executable string
	digests             digests
}

// New makes a Captures. folder is one of this host, for the digests of disks.
func New(rec *records.Records, log *slog.Logger, inv *inventory.Inventory, ss *stores.Stores, hk *hooks.Hooks, th *throttle.Throttle, program, executable, folder string) *Captures {
	return &Captures{rec, log, inv, ss, hk, th, program, executable, digests{folder}}
}

// Order asks for an image of a machine, as a policy says.
type Order struct {
	Site   site.Site
	Policy site.Policy
	Run    *runs.Run
	// Capture is what the run's schedule asks for, "" for what the cycle says; Disks are its targets in place of the policy's.
	Capture image.Capture
	Disks   []string
	// Meetings are those in which its machines wait for each other while they are frozen.
	Meetings []*meeting.Meeting
}

// disks are the targets that the order covers, nil for all.
func (o Order) disks() []string {
	disks := o.Policy.Disks
	if len(o.Disks) > 0 {
		disks = o.Disks
	}
	if slices.Contains(disks, "*") {
		return nil
	}
	return disks
}

func (o Order) scope() image.Scope {
	if scope := o.Policy.Covers(); scope.OfFiles() {
		return scope
	}
	if len(o.disks()) > 0 {
		return image.SomeDisks
	}
	return image.WholeMachine
}

// incrementalKind is what an image of this order is that is not full.
func (o Order) incrementalKind() image.Capture {
	if o.Capture == image.Incremental || o.Capture == image.Differential {
		return o.Capture
	}
	return o.Policy.Between()
}

// connect connects to a source of the site that captures machines. Close it.
func (c *Captures) connect(ctx context.Context, s site.Site, name string) (source.Source, source.Capturer, error) {
	h, err := c.inventory.Connect(ctx, s, name)
	if err != nil {
		return nil, nil, err
	}
	return asCapturer(h)
}

// asCapturer asks of a source that was dialled that it captures machines, and closes it if it can't.
func asCapturer(h source.Source) (source.Source, source.Capturer, error) {
	capturer, err := source.As[source.Capturer](h, "capture machines")
	if err != nil {
		h.Close()
	}
	return h, capturer, err
}

// setOf lists the images of a set, newest first, those too that are gone.
func (c *Captures) setOf(ctx context.Context, m records.Image) ([]records.Image, error) {
	images, err := c.rec.Images(ctx, records.ImageFilter{MachineID: m.MachineID, Policy: m.Policy, Store: m.Store, Gone: true})
	return slices.DeleteFunc(images, func(o records.Image) bool {
		return o.SeparateSet != m.SeparateSet || o.Scope != m.Scope || o.ID == m.ID
	}), err
}

// Capture makes one image: capture, read, store, end the capture, and only then let the image exist.
func (c *Captures) Capture(ctx context.Context, o Order, st store.Store, t *runs.Task) error {
	h, capturer, err := c.connect(ctx, o.Site, t.Hypervisor)
	if err != nil {
		return err
	}
	defer h.Close()
	if err := c.preflight(ctx, h, o.Policy, t); err != nil {
		return err
	}
	k := &making{c: c, o: o, st: st, t: t, system: systemOf(ctx, h, t.Guest)}
	defer k.reserve().End()
	if err := k.begin(ctx); err != nil {
		return err
	}
	err = k.carryOut(ctx, capturer)
	if err != nil && k.base != nil && o.files() != nil && unfitBase(err) && ctx.Err() == nil {
		t.Log(ctx, "image %s can't be built upon, so all files are read: %v", k.base.ID, err)
		k.base, k.why, k.rec.Capture = nil, "the image on which it would build can't be used: "+err.Error(), image.Full
		err = k.carryOut(ctx, capturer)
	}
	if err != nil && k.finished {
		return err // the image exists: whoever clears up after this run records it
	} else if err != nil {
		return errors.Join(err, k.forget(context.WithoutCancel(ctx)))
	}
	return nil
}

// systemTime is how long a machine may take to say what system it runs.
const systemTime = 3 * time.Second

// systemOf is what system a machine runs, "" where nobody is in it who could tell: what does not matter to the image is no reason to make none.
func systemOf(ctx context.Context, h source.Source, machine string) string {
	teller, ok := h.(source.SystemTeller)
	if !ok {
		return ""
	}
	ctx, end := context.WithTimeout(ctx, systemTime)
	defer end()
	system, err := teller.System(ctx, machine)
	if err != nil {
		return ""
	}
	return system
}

// making is an image that is being made.
type making struct {
	c  *Captures
	o  Order
	st store.Store
	t  *runs.Task

	rec      records.Image
	set      []records.Image // the others of its set, newest first
	base     *image.Manifest // since which it is taken, or nil
	why      string          // it is full
	system   string          // that the machine runs, where that is known
	rested   []image.Rested  // applications
	told     int             // how many of the capture's warnings the task has
	pace     throttle.Wait   // of reading its disks
	finished bool            // its manifest is in the store, or may be
	reserved *stores.Reservation
}

func (k *making) reserve() *stores.Reservation {
	k.reserved = k.c.stores.Reserve(k.o.Policy.Store)
	return k.reserved
}

// begin chooses the base and records an image that is being written.
func (k *making) begin(ctx context.Context) (err error) {
	o, r := k.o, k.o.Run
	k.rec = records.Image{ID: image.NewID(), Machine: k.t.Guest, MachineID: k.t.MachineID, Policy: r.Policy, Store: o.Policy.Store, Run: r.ID, Taken: time.Now(), Scope: o.scope(),
		Capture: image.Full, Note: r.Note, SeparateSet: r.Cause == run.Hand && o.Policy.ByHand == "apart"}
	if k.set, err = k.c.setOf(ctx, k.rec); err != nil {
		return err
	}
	if k.why = wholeOnly(o, k.st); k.why != "" {
		return k.c.rec.AddImage(ctx, k.rec)
	}
	if k.base, k.why, err = chooseBase(ctx, o.Policy, o.Capture, k.st, k.set, k.rec.Taken.In(o.Site.Location())); err != nil {
		return err
	}
	if k.base != nil {
		k.rec.Capture = o.incrementalKind()
		if k.st.Header().Layout == site.Open {
			k.rec.Base = k.base.ID // from here on rotation holds it
		}
	}
	return k.c.rec.AddImage(ctx, k.rec)
}

// forget removes the record of an image that did not come to be.
func (k *making) forget(ctx context.Context) error {
	if !k.t.NeedsCleanup {
		k.t.Image = "" // otherwise the name is needed to clear what it left
	}
	return k.c.rec.ForgetImage(ctx, k.rec.ID)
}

// carryOut takes the moment and makes the image of it.
func (k *making) carryOut(ctx context.Context, h source.Capturer) (err error) {
	c, o, t := k.c, k.o, k.t
	if err := k.hasFiles(h); err != nil {
		return err
	}
	if err := k.reserved.Check(ctx, o.Site, k.st, k.rec, 0); err != nil {
		return err
	}
	t.Image, t.NeedsCleanup = k.rec.ID, true
	if err := t.Save(ctx); err != nil { // whoever clears up after us must know
		return err
	}
	if k.base != nil {
		t.Log(ctx, "the image will be %s: what changed since image %s", k.rec.Capture, k.base.ID)
	} else {
		t.Log(ctx, "the image will be full: %s", k.why)
	}
	gentle := k.feel(ctx, h)
	defer gentle.end(context.WithoutCancel(ctx))
	if err := t.Begin(ctx, "capturing"); err != nil {
		return err
	}
	asked, err := c.request(ctx, o, t, k.rec.ID)
	if err != nil {
		return err
	}
	asked.Secrets = k.st.Header().Sealed
	asked.Rest = k.rest(h)
	if k.base != nil {
		asked.Since = k.base.ID
	}
	capture, err := h.Capture(ctx, asked)
	if err != nil {
		return err
	}
	kept := false
	defer func() {
		// This one is for what fails below, and for what the first one could not end.
		closed := capture.Close(ctx, kept, nil)
		if kept && err != nil && !k.finished && asked.Checkpoint { // nothing will build on an image that did not come to be
			removed, dropped := h.DropCheckpoints(context.WithoutCancel(ctx), t.Guest, []string{k.rec.ID})
			if closed = errors.Join(closed, dropped); closed == nil && len(removed) == 0 {
				return // whoever clears up after this task removes it
			}
		}
		if closed == nil {
			t.NeedsCleanup = false
		} else if err != nil {
			err = errors.Join(err, closed)
		} // otherwise the image is whole, what stays behind was told, and is cleared later
	}()
	k.rec.Taken = time.Now()
	m := k.manifest(capture)
	for _, f := range m.Firmware {
		if f.Left != "" {
			t.Log(ctx, "%s left out: %s", f.Kind, f.Left)
		}
	}
	k.told = len(capture.Warnings())
	t.Warnings, t.Frozen = append(t.Warnings, capture.Warnings()...), m.Frozen.Nanoseconds()
	k.pace = throttle.Both(c.yield(ctx, t, o.Policy.Store), gentle.both(c.readPace(o.Site, t.Hypervisor, o.Policy.Store, k.st)))
	archive, err := k.planFiles(ctx, capture)
	if err != nil {
		return err
	}
	disks, err := c.planDisks(ctx, k.st, capture, k.base, t, k.pace, k.rec.ID)
	defer closePlans(disks)
	if err != nil {
		return err
	}
	if archive != nil {
		t.Total = archive.bytes
	} else if err := measure(ctx, disks, t); err != nil {
		return err
	}
	if err := k.reserved.Check(ctx, o.Site, k.st, k.rec, t.Total); err != nil {
		return err
	}
	return k.store(ctx, m, capture, disks, archive, func() error {
		obsolete, err := c.obsoleteCheckpoints(records.Within(ctx, 0), o.Site, k.rec.MachineID, capture.Checkpoints())
		if err != nil && !records.Away(err) { // otherwise they go another time
			return err
		}
		kept = true
		if err := capture.Close(ctx, kept, obsolete); err != nil {
			t.Warn("%v", err) // what stays behind is recorded by NeedsCleanup and cleared later; the image is whole
		}
		return nil
	})
}

// manifest begins the image's manifest.
func (k *making) manifest(capture source.Capture) *image.Manifest {
	m := &image.Manifest{Format: image.Format, ID: k.rec.ID, Machine: k.rec.Machine, Identity: k.rec.MachineID, Policy: k.rec.Policy, Taken: k.rec.Taken.UTC(), Scope: k.rec.Scope, Capture: image.Full,
		Hypervisor: k.t.Hypervisor, Definition: capture.Definition(), Program: k.c.program, Why: k.why, Note: k.rec.Note, SeparateSet: k.rec.SeparateSet, Firmware: capture.Firmware()}
	m.Consistency, m.Frozen = capture.Consistency()
	m.Rested, m.System = k.rested, k.system
	return m
}

// store reads the disks, or files, into the store, has endCapture end the capture, and lets the image exist.
func (k *making) store(ctx context.Context, m *image.Manifest, capture source.Capture, disks []diskPlan, archive *filesPlan, endCapture func() error) (err error) {
	spec := k.o.Site.Stores[k.o.Policy.Store]
	w, err := k.st.Begin(ctx, m, store.WriteOptions{Program: k.c.program, Compress: spec.Compress, Compression: spec.Compression})
	if err != nil {
		return err
	}
	defer func() {
		if ended := w.End(context.WithoutCancel(ctx), err); ended != nil && medium.IsFull(err) {
			err = errors.Join(err, ended)
		} else if ended != nil {
			k.c.log.Warn("the end of an image's writing", "image", k.rec.ID, "error", ended)
		}
	}()
	if k.base != nil {
		// Only what exists after the writing began is safe from sweeps (docs/store-format.md, "To write").
		if _, err := k.st.ReadImage(ctx, k.base.ID); err != nil {
			return fmt.Errorf("image %s, on which this one builds, went just now; run it again: %w", k.base.ID, err)
		}
	}
	count := &store.Progress{}
	if archive != nil {
		err = k.readFiles(ctx, archive, w, m, count)
	} else {
		err = readDisks(ctx, disks, w, m, k.t, count)
	}
	if err != nil {
		return err
	}
	if settler, ok := capture.(source.Settler); ok {
		if err := k.settle(ctx, settler, disks, w, m, count); err != nil {
			return err
		}
		k.t.Warnings = append(k.t.Warnings, capture.Warnings()[k.told:]...)
		m.Consistency, m.Frozen = capture.Consistency()
		if r, ok := capture.(source.Rester); ok {
			m.Rested = r.Rested()
		}
		k.t.Frozen = m.Frozen.Nanoseconds()
	}
	if err := k.tellHoles(capture, m); err != nil {
		return err
	}
	if err := sumUp(ctx, w, m, k.t, count); err != nil {
		return err
	}
	if err := k.tellUnread(ctx, m); err != nil {
		return err
	}
	if archive == nil {
		describe(m, k.rec.Capture, k.st, k.base, disks)
	}
	if err := k.t.Begin(ctx, "ending the capture"); err != nil {
		return err
	}
	if err := endCapture(); err != nil {
		return err
	}
	m.Took = time.Since(*k.t.Started)
	m.Lock(k.o.Site.LockOf(k.o.Run.Policy), time.Now())
	k.finished = true
	if err := w.Finish(ctx, m); err != nil {
		return k.unfinished(context.WithoutCancel(ctx), err)
	}
	k.rec = stores.Finished(k.rec, m)
	k.keepDigests(disks)
	signs := compare(k.rec, k.set)
	for _, s := range signs {
		k.t.Warn("%s", s.Text)
	}
	// From here on the run may be cancelled, or the service be stopped: the image is there.
	recording, end := context.WithTimeout(context.WithoutCancel(ctx), recordTime)
	defer end()
	if err := records.Surely(recording, func(ctx context.Context) error { return k.c.rec.FinishImage(ctx, k.rec) }); err != nil {
		return err
	}
	return records.Surely(recording, func(ctx context.Context) error { return k.c.rec.AddUnusual(ctx, k.rec.ID, unusual.Grave(signs)) })
}

// recordTime is how long a finished image waits for a database that does not answer; after that a later look at the store records it.
const recordTime = time.Hour

// unfinished looks what became of an image whose manifest could not be written for sure: the medium may have taken it before it failed.
func (k *making) unfinished(ctx context.Context, err error) error {
	_, read := k.st.ReadImage(ctx, k.rec.ID)
	if errors.Is(read, medium.ErrNotFound) {
		k.finished = false
	}
	return err
}

// request asks for a capture as a policy says.
func (c *Captures) request(ctx context.Context, o Order, t *runs.Task, id string) (source.Request, error) {
	m, err := c.rec.Machine(ctx, t.MachineID)
	return source.Request{
		Machine: t.Guest, UUID: m.UUID, ID: id, Policy: o.Run.Policy, Run: o.Run.ID, ByHand: o.Run.Cause == run.Hand, Quiesce: cmp.Or(o.Policy.Quiesce, machine.Preferred), Checkpoint: o.Policy.Builds(), Disks: o.disks(), Files: o.files(), Applications: o.Policy.Applications, Holes: o.Policy.Unread == site.UnreadWarns, LongestFreeze: o.Policy.FreezeLimit(),
		Moment: func(ctx context.Context, m site.Moment) error {
			warnings, err := c.hooks.Call(ctx, o.Site, hooks.Event{Moment: m, Policy: o.Run.Policy, Run: o.Run.ID, Cause: o.Run.Cause, Machine: t.Machine, Image: t.Image})
			t.Warnings = append(t.Warnings, warnings...)
			if err == nil && m == site.Frozen {
				for _, meeting := range o.Meetings {
					meeting.Arrive(ctx, t.MachineID)
				}
			}
			return err
		},
		Starting: func() error {
			if err := c.mayWake(ctx, o.Site, m); err != nil {
				return err
			}
			t.StartedPaused = true
			return t.Save(ctx)
		},
		Alive: c.rec.CaptureAlive,
		Tell:  func(format string, args ...any) { t.Log(ctx, format, args...) },
		Watch: func() (source.Watchdog, error) {
			return watchdog.Start(c.executable, o.Site.Hypervisors[t.Hypervisor], t.Guest)
		},
	}, err
}

// mayWake makes sure that a machine which is off, and which another source has, too, does not run there: starting it here, paused though it be,
// while it runs elsewhere on the same disks would ruin them.
func (c *Captures) mayWake(ctx context.Context, s site.Site, m records.Machine) error {
	if _, known := s.Hypervisors[m.AlsoOn]; !known {
		return nil
	}
	h, err := c.inventory.Connect(ctx, s, m.AlsoOn)
	var there []source.Machine
	if err == nil {
		there, err = h.Machines(ctx)
		h.Close()
	}
	if err != nil {
		return fmt.Errorf("guest %s is off, and hypervisor %s has it, too; whether it runs there can't be told, so it is not started here for a backup: %w", m.Name, m.AlsoOn, err)
	}
	for _, o := range there {
		if o.UUID == m.UUID && o.State != machine.Off {
			return fmt.Errorf("guest %s: %w on %s, it is off there and runs on %s", m.Name, source.ErrNoMachine, m.Hypervisor, m.AlsoOn)
		}
	}
	return nil
}

// diskPlan is how a disk of a capture is read.
type diskPlan struct {
	target, format string
	disk.Disk
	whole disk.Disk        // nil where Disk is
	older *store.OlderDisk // the older image's, where only what changed since is read
	why   string           // it is read whole
	noted *digesting       // its digests, where its source keeps no list of changes
}

// planDisks decides for every disk of a capture how it is read. A disk whose source forgets what changes is compared with its digests, where
// there are any, and new ones are written for the image of an ID, "" for none. The caller closes the plans, on an error, too.
func (c *Captures) planDisks(ctx context.Context, st store.Store, capture source.Capture, base *image.Manifest, t *runs.Task, pace throttle.Wait, id string) (out []diskPlan, err error) {
	for _, d := range capture.Disks() {
		d.Disk, d.Whole = throttle.Disk(ctx, d.Disk, pace), throttle.Disk(ctx, d.Whole, pace)
		var noted *digesting
		if d.Forgets && id != "" {
			if d, noted, err = c.recall(ctx, d, base, t, id); noted != nil {
				out = append(out, diskPlan{noted: noted}) // closed whatever comes
			}
			if err != nil {
				return out, fmt.Errorf("disk %s: %w", d.Target, err)
			}
		}
		read, older, why, err := planDisk(ctx, st, d, base)
		if errors.Is(err, errChanged) {
			t.Warn("disk %s was read whole: %v", d.Target, err)
		} else if err != nil {
			return out, fmt.Errorf("disk %s: %w", d.Target, err)
		} else if why != "" {
			t.Log(ctx, "disk %s is read whole: %s", d.Target, why)
		}
		p := diskPlan{d.Target, d.Format, read, d.Whole, older, why, noted}
		if noted != nil {
			out[len(out)-1] = p
		} else {
			out = append(out, p)
		}
	}
	return out, nil
}

// recall finds what changed of a disk by its digests, and has new ones written down: as it compares, or else as the disk is read.
func (c *Captures) recall(ctx context.Context, d source.CapturedDisk, base *image.Manifest, t *runs.Task, id string) (source.CapturedDisk, *digesting, error) {
	g, err := c.digests.begin(id, d.Target, d.Size())
	if err != nil { // they spare the next image something, and this one must not fail for want of them
		t.Warn("the digests of disk %s can't be written down in %s, so its next image will be full: %v; make room there, or mend its rights", d.Target, c.digests.folder, err)
		return d, nil, nil
	}
	if base != nil {
		if err := t.Begin(ctx, "comparing "+d.Target); err != nil {
			return d, g, err
		}
		changed, why, err := c.digests.compare(ctx, d.Disk, base.ID, d.Target, g)
		if err != nil {
			return d, g, err
		}
		if changed != nil {
			d.Disk, d.Whole, d.Why = changed, d.Disk, ""
			return d, g, nil
		}
		d.Why += ", and " + why
	}
	d.Disk = g.watch(d.Disk)
	return d, g, nil
}

// closePlans closes what plans hold open. Digests that were not kept go.
func closePlans(disks []diskPlan) {
	for _, d := range disks {
		if d.older != nil {
			d.older.Close()
		}
		if d.noted != nil {
			d.noted.drop()
		}
	}
}

// keepDigests keeps those of an image that exists. Without them the next one is full, so what goes wrong is told and no more.
func (k *making) keepDigests(disks []diskPlan) {
	kept := false
	for _, d := range disks {
		if d.noted == nil {
			continue
		}
		kept = true
		if err := d.noted.keep(); err != nil {
			k.t.Warn("the digests of disk %s could not be kept, so its next image will be full: %v", d.target, err)
		}
	}
	if kept {
		if err := k.c.digests.tidy(k.rec.Capture, k.set); err != nil {
			k.c.log.Warn("digests of older images could not be removed", "machine", k.t.Machine, "error", err)
		}
	}
}

// describe says in the manifest what kind of capture it became.
func describe(m *image.Manifest, wanted image.Capture, st store.Store, base *image.Manifest, disks []diskPlan) {
	m.Capture = image.Full
	for _, d := range disks {
		if d.older != nil {
			m.Capture, m.Since = wanted, base.ID
			if st.Header().Layout == site.Open {
				m.Base = base.ID
			}
		} else if d.why != "" {
			m.Why = fmt.Sprintf("disk %s: %s", d.target, d.why)
		}
	}
}

// compare says what is out of the ordinary in an image. set are the others of its set, newest first.
func compare(m records.Image, set []records.Image) []unusual.Sign {
	figures := func(m records.Image) unusual.Figures {
		return unusual.Figures{Read: m.Read, Fresh: m.NewBytes, Stored: m.Stored, Took: time.Duration(m.Took)}
	}
	var before []unusual.Figures
	for _, o := range set {
		if o.Capture == m.Capture && o.State == image.Usable && o.Took > 0 {
			before = append(before, figures(o))
		}
	}
	return unusual.Compare(figures(m), before)
}

// measure sums up what is to be read of the disks.
func measure(ctx context.Context, disks []diskPlan, t *runs.Task) error {
	for _, d := range disks {
		n, err := disk.Allocated(ctx, d)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.target, err)
		}
		t.Total += n
	}
	return nil
}

// Settle decides what became of a task whose process died: its image is usable if its manifest had come to be, else nothing.
func (c *Captures) Settle(ctx context.Context, r *runs.Run, t *records.Task) error {
	if t.Image == "" {
		return nil
	}
	whole, err := c.stores.Settle(ctx, t.Image)
	if err == nil && whole {
		t.State, t.Error = run.Done, ""
		r.Log(ctx, t.Machine, "image %s was complete when the service ended", t.Image)
	}
	return err
}

// SettleLeft decides what became of images whose end could not be recorded: their store did not answer, or the database.
func (c *Captures) SettleLeft(ctx context.Context) error {
	ids, err := c.rec.Unsettled(ctx)
	errs := []error{err}
	for _, id := range ids {
		whole, err := c.stores.Settle(ctx, id)
		if err == nil && whole {
			c.log.Info("an image was complete whose end could not be recorded; now it is", "image", id)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Clear removes what a task's capture left on its source and returns what it found. A source that is no part of the site any more is
// left alone.
func (c *Captures) Clear(ctx context.Context, t records.Task) (found []string, err error) {
	s, err := c.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	if _, ok := s.Hypervisors[t.Hypervisor]; !ok {
		return nil, nil
	}
	h, capturer, err := c.connect(ctx, s, t.Hypervisor)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	if t.NeedsCleanup { // otherwise its checkpoint belongs to a good image
		if found, err = capturer.Clear(ctx, t.Guest, t.Image, t.StartedPaused); err != nil {
			return found, err
		}
	}
	went, err := goOn(ctx, h, t)
	return append(found, went...), err
}

// Undo clears what a failed try left on the source, so that another can begin.
func (c *Captures) Undo(ctx context.Context, t *runs.Task) error {
	if !t.NeedsCleanup && len(t.Owed) == 0 {
		return nil
	}
	found, err := c.Clear(ctx, t.Task)
	for _, f := range found {
		t.Log(ctx, "cleared: %s", f)
	}
	if err != nil {
		return fmt.Errorf("what it left on the hypervisor could not be cleared: %w", err)
	}
	t.NeedsCleanup, t.Owed = false, nil
	return t.Save(ctx)
}
