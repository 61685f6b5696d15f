// Package restore makes machines from images.
package restore

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/browse"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/fitting"
	"keenlodge/internal/inventory"
	"keenlodge/internal/lending"
	"keenlodge/internal/reader"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/scratch"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
)

// Request asks for a guest to be made from an image.
type Request struct {
	Image string `json:"image"`
	// As is the new guest's name.
	As string `json:"as" doc:"name of the guest to make"`
	// Hypervisor is where; empty for where the machine lived.
	Hypervisor string `json:"hypervisor,omitempty" doc:"where; by default where the machine lived"`
	Pool       string `json:"pool,omitempty" doc:"storage pool for its disks; by default the hypervisor's"`
	// Take names what of the machine's definition is taken over though it reaches beyond the guest; a run's log names what was left out.
	Take    []string `json:"take,omitempty" doc:"what of the definition is taken over though it reaches beyond the guest, by the names that a restore's log gives to what it left out"`
	Start   bool     `json:"start,omitempty" doc:"power it on, and wait for its guest agent"`
	Replace bool     `json:"replace,omitempty" doc:"allow a guest of that name, which must be off, to be defined anew; its old disks stay"`
	// Clones are the names of further guests that are made of it. Sizes are those of disks that are to have another one than in the image, in bytes, by
	// target. Identity gives each guest a machine ID, SSH host keys and addresses of network cards of its own, and its name as its host name.
	Clones   []string         `json:"clones,omitempty"`
	Sizes    map[string]int64 `json:"sizes,omitempty"`
	Identity bool             `json:"identity,omitempty"`
	// Only narrows it to these disks, by target; empty for all. Into says that they become further disks of the guest of the name As, which is there, and that
	// nothing else of it changes.
	Only []string `json:"only,omitempty"`
	Into bool     `json:"into,omitempty"`
	// AtOnce has the guest start with its disks still in the store, from where the rest is pulled behind it. Boot does so for a while only: nothing is
	// pulled, and all of it goes when the guest is off. Connected gives such a guest its network.
	AtOnce    bool `json:"at_once,omitempty"`
	Boot      bool `json:"boot,omitempty"`
	Connected bool `json:"connected,omitempty"`
}

// lent reports whether the guest starts on disks that are lent to it.
func (q Request) lent() bool { return q.AtOnce || q.Boot }

// names are those of the guests that it makes.
func (q Request) names() []string { return append([]string{q.As}, q.Clones...) }

// mostClones is how many guests one restore makes.
const mostClones = 100

// wakeTime is how long a restored guest may take until its agent answers.
const wakeTime = 5 * time.Minute

// Restores makes machines.
type Restores struct {
	rec       *records.Records
	stores    *stores.Stores
	inventory *inventory.Inventory
	browse    *browse.Browser
	throttle  *throttle.Throttle
	lender    *lending.Lender
	log       *slog.Logger
	runs      *runs.Engine
	program   string
	scratch   scratch.Folder

	// Before takes a snapshot in place of a task's machine before files go back onto it (package snapshots).
	Before func(ctx context.Context, s site.Site, r *runs.Run, t *runs.Task, note string) (id string, err error)
}

// New makes a Restores and registers restores with the engine. program is the name under which stores are read, at where disks are made fit.
func New(rec *records.Records, ss *stores.Stores, inv *inventory.Inventory, b *browse.Browser, th *throttle.Throttle, le *lending.Lender, log *slog.Logger, e *runs.Engine, program string, at scratch.Folder) *Restores {
	rs := &Restores{rec: rec, stores: ss, inventory: inv, browse: b, throttle: th, lender: le, log: log, runs: e, program: program, scratch: at}
	e.Register(run.Restore, handler{rs: rs})
	e.Register(run.Files, filesHandler{rs: rs})
	e.Register(run.Undo, undoHandler{rs: rs})
	return rs
}

// Start queues a restore, for who. What would make it fail is looked at first, so that it fails at once.
func (rs *Restores) Start(ctx context.Context, who string, q Request) (records.Run, error) {
	on, _, err := rs.admit(ctx, &q)
	if err != nil {
		return records.Run{}, err
	}
	defer on.h.Close()
	if _, err := rs.plans(ctx, on, q); err != nil {
		return records.Run{}, err
	}
	if err := reader.Able(); q.wanted("").Changes() && err != nil {
		return records.Run{}, fmt.Errorf("%w: what is to be another than in the image is done in a reader guest: %w", fault.ErrConflict, err)
	}
	return rs.runs.Queue(ctx, runs.Order{Kind: run.Restore, Policy: on.manifest.Policy, Cause: run.Hand, Who: who, Request: q})
}

// admit finds what a restore works on, whose source the caller closes, and what of the definition it leaves out; or why it can't be.
func (rs *Restores) admit(ctx context.Context, q *Request) (on restoring, left []string, err error) {
	if err := q.check(); err != nil {
		return on, nil, err
	}
	if on, err = rs.prepare(ctx, q); err != nil {
		return on, nil, err
	}
	defer func() {
		if err != nil {
			on.h.Close()
		}
	}()
	if on.manifest.Files != nil {
		return on, nil, fmt.Errorf("%w: image %s holds files, and no disks of which a guest could be made; its files go back to a server with keenlodge restore files, or into a folder with keenlodge image download", fault.ErrConflict, on.manifest.ID)
	}
	if err := checkFree(ctx, on.h, *q); err != nil {
		return on, nil, err
	}
	places := map[string]string{}
	for _, d := range on.manifest.Disks {
		places[d.Target] = d.Target
	}
	if q.lent() {
		if _, _, err := on.folder(ctx, *q); err != nil {
			return on, nil, err
		}
	}
	if left, err = on.makes.Admit(source.NewGuest{Name: q.As, Definition: on.manifest.Definition, Disks: places, Take: q.Take}); err != nil {
		return on, nil, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	return on, left, nil
}

// check says what of a request can't be, whatever it is of.
func (q Request) check() error {
	for i, name := range q.names() {
		if !machine.IsName(name) {
			return fmt.Errorf("%w: %q can't be a guest's name: up to 63 letters, digits, dots, dashes and underscores", fault.ErrInvalid, name)
		}
		if slices.Contains(q.names()[:i], name) {
			return fmt.Errorf("%w: two guests would be called %s", fault.ErrInvalid, name)
		}
	}
	switch {
	case q.AtOnce && q.Boot:
		return fmt.Errorf("%w: a guest that is booted for a while is not restored at once; choose one", fault.ErrInvalid)
	case q.lent() && (q.wanted("").Changes() || len(q.Clones) > 0):
		return fmt.Errorf("%w: a guest that starts with its disks still in the store has them as they are there; for other sizes, another identity or several guests it is restored first", fault.ErrInvalid)
	case len(q.Clones) >= mostClones:
		return fmt.Errorf("%w: %d guests are more than one restore makes: %d", fault.ErrInvalid, len(q.names()), mostClones)
	case q.Into && (q.lent() || q.Identity || q.Replace || q.Start || len(q.Clones) > 0):
		return fmt.Errorf("%w: disks that go into a guest change nothing else of it", fault.ErrInvalid)
	case len(q.Clones) > 0 && q.Replace:
		return fmt.Errorf("%w: clones replace no guest", fault.ErrInvalid)
	}
	return nil
}

// restoring is what a restore works on.
type restoring struct {
	manifest *image.Manifest
	st       store.Store
	store    string // its name
	spec     site.Hypervisor
	h        source.Source // the caller closes it
	makes    source.Restorer
}

// prepare finds the image and its store, connects to the source, and fills in what the request left open.
func (rs *Restores) prepare(ctx context.Context, q *Request) (restoring, error) {
	var on restoring
	m, st, err := rs.stores.OfImage(ctx, q.Image)
	if err != nil {
		return on, err
	}
	if err := restorable(m); err != nil {
		return on, err
	}
	on.st, on.store = st, m.Store
	if on.manifest, err = st.ReadImage(ctx, m.ID); err != nil {
		return on, err
	}
	if on.manifest, err = narrowed(on.manifest, q.Only); err != nil {
		return on, err
	}
	s, err := rs.rec.Site(ctx)
	if err != nil {
		return on, err
	}
	if q.Hypervisor == "" {
		if q.Hypervisor, err = whereTo(s, on.manifest); err != nil {
			return on, err
		}
	}
	if q.Pool == "" {
		q.Pool = s.Hypervisors[q.Hypervisor].Pool
	}
	on.spec = s.Hypervisors[q.Hypervisor]
	if on.h, err = rs.inventory.Connect(ctx, s, q.Hypervisor); err != nil {
		return on, err
	}
	if on.makes, err = source.As[source.Restorer](on.h, "make machines"); err != nil {
		on.h.Close()
	}
	return on, err
}

// narrowed is an image with these disks alone, all where none is named.
func narrowed(m *image.Manifest, only []string) (*image.Manifest, error) {
	if len(only) == 0 {
		return m, nil
	}
	var has []string
	for _, d := range m.Disks {
		has = append(has, d.Target)
	}
	for _, name := range only {
		if !slices.Contains(has, name) {
			return nil, fmt.Errorf("%w: image %s has no disk %s%s", fault.ErrInvalid, m.ID, name, suggest.Hint(name, has))
		}
	}
	out := *m
	out.Disks = slices.DeleteFunc(slices.Clone(m.Disks), func(d image.Disk) bool { return !slices.Contains(only, d.Target) })
	return &out, nil
}

// whereTo is the hypervisor on which a guest is made that nobody has named: where the machine lived, or the only one that there is.
func whereTo(s site.Site, m *image.Manifest) (string, error) {
	if h, ok := s.Hypervisors[m.Hypervisor]; m.Hypervisor != "" && (!ok || h.Kind != site.Agents) {
		return m.Hypervisor, nil
	}
	var able []string
	for _, name := range slices.Sorted(maps.Keys(s.Hypervisors)) {
		if s.Hypervisors[name].Kind != site.Agents {
			able = append(able, name)
		}
	}
	if len(able) != 1 {
		return "", fmt.Errorf("%w: image %s is of no hypervisor's guest; say where a guest is made of it: --hypervisor %s", fault.ErrInvalid, m.ID, cmp.Or(strings.Join(able, ", or "), "NAME"))
	}
	return able[0], nil
}

// restorable says why an image can't be restored. What is doubtful, or broken because not all of its machine's disks could be read, may be all that
// there is; a pooled store verifies what it reads.
func restorable(m records.Image) error {
	if m.State != image.Usable && m.State != image.Doubtful && !(m.State == image.Broken && m.Lost() > 0) {
		return fmt.Errorf("%w: image %s is %s; only a usable image can be restored", fault.ErrConflict, m.ID, m.State)
	}
	return nil
}

// checkFree makes sure that no guest of the names is in the way.
func checkFree(ctx context.Context, h source.Source, q Request) error {
	machines, err := h.Machines(ctx)
	if err != nil {
		return err
	}
	for _, clone := range q.Clones {
		if slices.ContainsFunc(machines, func(m source.Machine) bool { return m.Name == clone }) {
			return fmt.Errorf("%w: a guest called %s exists already; choose other names", fault.ErrConflict, clone)
		}
	}
	i := slices.IndexFunc(machines, func(m source.Machine) bool { return m.Name == q.As })
	switch {
	case q.Into && i < 0:
		return fmt.Errorf("guest %s, into which disks are to go: %w", q.As, fault.ErrNotFound)
	case q.Into || i < 0:
		return nil
	case !q.Replace:
		return fmt.Errorf("%w: a guest called %s exists already; choose another name, or allow it to be replaced (--replace)", fault.ErrConflict, q.As)
	case machines[i].State != machine.Off:
		return fmt.Errorf("%w: guest %s is %s; shut it down before it is replaced", fault.ErrConflict, q.As, machines[i].State)
	}
	return nil
}

// handler carries restores out.
type handler struct {
	runs.Base
	rs *Restores
}

// AtOnce implements [runs.Limited].
func (handler) AtOnce() int { return 12 }

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, r *runs.Run) (err error) {
	q, err := runs.Request[Request](r.Run)
	if err != nil {
		return err
	}
	on, err := h.rs.prepare(ctx, &q)
	if err != nil {
		return err
	}
	defer on.h.Close()
	end := h.rs.throttle.Urgent("restore "+r.ID, throttle.Store(on.store), throttle.Source(q.Hypervisor))
	defer end()
	fit := h.rs.fits(on, q)
	defer func() { err = errors.Join(err, fit.Close()) }()
	var tasks []records.Task
	for _, name := range q.names() {
		tasks = append(tasks, records.Task{Run: r.ID, Machine: name, Hypervisor: q.Hypervisor, Image: on.manifest.ID})
	}
	if tasks, err = r.AddTasks(ctx, tasks); err != nil {
		return err
	}
	for _, t := range tasks {
		one := q
		one.As, one.Clones = t.Machine, nil
		r.Perform(ctx, t, func(ctx context.Context, t *runs.Task) error {
			if err := h.rs.remember(ctx, on, one, r, t); err != nil {
				return err
			}
			if err := h.rs.makeGuest(ctx, on, one, fit, t); err != nil || !q.Start && !q.lent() {
				return err
			}
			if q.lent() {
				return h.rs.wakeLent(ctx, on, one, r, t, end)
			}
			return h.rs.wake(ctx, on, one.As, r, t)
		})
	}
	_, err = h.rs.inventory.Find(ctx)
	return err
}

// makeGuest writes the disks and defines the guest. If it fails, nothing of it stays on the source.
func (rs *Restores) makeGuest(ctx context.Context, on restoring, q Request, fit *fitting.Job, t *runs.Task) (err error) {
	m := on.manifest
	if err := checkFree(ctx, on.h, q); err != nil {
		return err
	}
	end, err := on.st.Reading(ctx, rs.program) // a sweep must not take away what is being read
	if err != nil {
		return err
	}
	defer end(context.WithoutCancel(ctx))
	folder, far := "", false
	if q.lent() {
		if folder, far, err = on.folder(ctx, q); err != nil {
			return err
		}
	}
	files := make([]*qcow2.File, len(m.Disks))
	disks, cards, err := fit.For(ctx, q.As, func(step string) error { return t.Begin(ctx, step) }, func(done string) { t.Log(ctx, "%s", done) })
	if err != nil {
		return err
	}
	for i, d := range m.Disks {
		if q.lent() {
			files[i], err = overLent(ctx, folder, d, q, t.Run)
		} else {
			files[i], err = qcow2.New(ctx, disks[i].Disk, "")
		}
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.Target, err)
		}
		t.Total += files[i].Size()
	}
	t.NeedsCleanup = true
	if err := t.Save(ctx); err != nil { // whoever clears up after us must know
		return err
	}
	places, made := map[string]string{}, []string{variablesTarget}
	defer func() {
		if err == nil {
			t.NeedsCleanup = false
			return
		}
		_, removed := removeDisks(context.WithoutCancel(ctx), on.makes, q, t.Run, made)
		if removed = errors.Join(removed, rs.endLoan(t.Run)); removed == nil {
			t.NeedsCleanup = false
			return
		}
		err = errors.Join(err, removed)
	}()
	reading, stop := context.WithCancel(ctx)
	defer stop()
	matched := rs.match(reading, on, q)
	for i, d := range m.Disks {
		if err := t.Begin(ctx, "writing "+d.Target); err != nil {
			return err
		}
		made = append(made, d.Target)
		err := t.Moving(ctx, nil, func() (err error) {
			content := stream(ctx, files[i], t.Add)
			defer content.Close()
			places[d.Target], err = on.makes.CreateDisk(ctx, q.Pool, volume(q, d.Target, t.Run), files[i].Size(), content)
			return err
		})
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.Target, err)
		}
	}
	if err := matched(); err != nil {
		t.Warn("the image is not as it was written, and so the guest may not be, either; restore another one if there is one: %v", err)
	}
	if q.Into {
		return attach(ctx, on, q, m, places, t)
	}
	guest := source.NewGuest{Name: q.As, Definition: m.Definition, Disks: places, Replace: q.Replace, Take: q.Take, Pausing: q.lent(), Unplugged: q.Boot && !q.Connected, Cards: cards,
		Say: func(format string, args ...any) { t.Log(ctx, "on this host "+format, args...) }}
	if q.lent() {
		if err := rs.lend(ctx, on, q, t, places, far); err != nil {
			return err
		}
	}
	variables, err := m.FirmwareOf(image.UEFIVariables)
	if err != nil {
		return err
	}
	if guest.TPM, err = m.FirmwareOf(image.TPMState); err != nil {
		return err
	}
	for _, f := range m.Firmware {
		if f.Left != "" {
			t.Log(ctx, "the guest gets fresh %s, for the image has none: %s", f.Kind, f.Left)
		}
	}
	if variables != nil {
		if err := t.Begin(ctx, "writing UEFI variables"); err != nil {
			return err
		}
		if guest.Variables, err = on.makes.CreateDisk(ctx, q.Pool, volume(q, variablesTarget, t.Run), int64(len(variables)), bytes.NewReader(variables)); err != nil {
			return err
		}
	}
	if err := t.Begin(ctx, "defining guest "+q.As); err != nil {
		return err
	}
	if strings.HasPrefix(m.Definition, "{") { // a server's layout
		t.Log(ctx, "it is made of what is known of it: its disks, how it booted, and its processors and memory where they are known (2 and 1 GiB where not), with one network card that only reaches out; change that in the hypervisor as it needs")
	}
	left, err := on.makes.Define(ctx, guest)
	for _, what := range left {
		t.Log(ctx, "left out of the definition, for it reaches beyond the guest: %s (take it over with --take, if it is meant)", what)
	}
	return err
}

// attach gives a guest that is there the disks of an image.
func attach(ctx context.Context, on restoring, q Request, m *image.Manifest, places map[string]string, t *runs.Task) error {
	to, err := source.As[source.Attacher](on.h, "give a machine further disks")
	if err != nil {
		return err
	}
	if err := t.Begin(ctx, "attaching disks to guest "+q.As); err != nil {
		return err
	}
	for _, d := range m.Disks {
		targets, err := to.Attach(ctx, q.As, []string{places[d.Target]})
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.Target, err)
		}
		t.Log(ctx, "what was %s is %s of guest %s; what lies on it has the names and UUIDs that it had: mount it read-only, or by its device", d.Target, strings.Join(targets, ", "), q.As)
	}
	return nil
}

// match matches an image of an open store with its digests while it is restored, for its disks say nothing of damage when they are read, as those of a
// pooled one do. What is returned waits for the end of that; damage is no reason to have no guest at all.
func (rs *Restores) match(ctx context.Context, on restoring, q Request) (end func() error) {
	if on.st.Header().Layout != site.Open || q.lent() {
		return func() error { return nil }
	}
	done := make(chan error, 1)
	go func() {
		_, err := on.st.ReadBack(ctx, on.manifest, func(int64) {})
		done <- err
	}()
	return func() error {
		if err := <-done; ctx.Err() == nil {
			return err
		}
		return nil
	}
}

// variablesTarget stands for the UEFI variables where disks are named by their targets.
const variablesTarget = "uefi-variables"

// volume names what a restore makes: the run's name in it makes it unique, for a guest that is replaced keeps its old disks.
func volume(q Request, target, run string) string {
	end := "qcow2"
	if target == variablesTarget {
		end = "fd"
	}
	return fmt.Sprintf("%s-%s-%s.%s", q.As, target, run, end)
}

// removeDisks takes back what a restore that failed has made, as far as no machine has it.
func removeDisks(ctx context.Context, makes source.Restorer, q Request, run string, targets []string) (removed []string, err error) {
	var errs []error
	for _, target := range targets {
		name := volume(q, target, run)
		was, err := makes.RemoveDisk(ctx, q.Pool, name)
		if was {
			removed = append(removed, name)
		}
		errs = append(errs, err)
	}
	return removed, errors.Join(errs...)
}

// Cleanup implements [runs.Handler]: it takes back what a process that died had made of a guest.
func (h handler) Cleanup(ctx context.Context, t records.Task) error {
	rs := h.rs
	r, err := rs.rec.Run(ctx, t.Run)
	if err != nil {
		return err
	}
	q, err := runs.Request[Request](r)
	if err != nil {
		return err
	}
	s, err := rs.rec.Site(ctx)
	if err != nil {
		return err
	}
	if _, ok := s.Hypervisors[t.Hypervisor]; !ok {
		return nil // it has left the site
	}
	q.Pool = cmp.Or(q.Pool, s.Hypervisors[t.Hypervisor].Pool)
	m, err := rs.rec.Image(ctx, t.Image)
	if errors.Is(err, fault.ErrNotFound) {
		return nil // nobody knows what it had made any more
	}
	if err != nil {
		return err
	}
	on, err := rs.inventory.Connect(ctx, s, t.Hypervisor)
	if err != nil {
		return err
	}
	defer on.Close()
	makes, err := source.As[source.Restorer](on, "make machines")
	if err != nil {
		return err
	}
	names := []string{variablesTarget}
	for _, d := range m.Disks {
		names = append(names, d.Target)
	}
	if lent, err := rs.lentToRunning(t.Run); lent || err != nil {
		return err // the guest is at work on them
	}
	q.As = t.Machine
	removed, err := removeDisks(ctx, makes, q, t.Run, names)
	err = errors.Join(err, rs.endLoan(t.Run))
	for _, name := range removed {
		rs.runs.Log(ctx, t.Run, t.Machine, run.Note, "cleared: removed volume "+name)
	}
	return err
}

// stream turns a file that writes itself into one that can be read, counting what goes through.
func stream(ctx context.Context, f *qcow2.File, moved func(int64)) io.ReadCloser {
	r, w := io.Pipe()
	stop := context.AfterFunc(ctx, func() { w.CloseWithError(context.Cause(ctx)) })
	go func() {
		defer stop()
		_, err := f.WriteTo(counted{w, moved})
		w.CloseWithError(err)
	}()
	return r
}

type counted struct {
	io.Writer
	moved func(int64)
}

func (c counted) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.moved(int64(n))
	return n, err
}

// wake starts the restored guest, waits for its agent, and reads its ledgers.
func (rs *Restores) wake(ctx context.Context, on restoring, guest string, r *runs.Run, t *runs.Task) error {
	if err := t.Begin(ctx, "starting guest "+guest); err != nil {
		return err
	}
	if err := on.makes.Start(ctx, guest); err != nil {
		return err
	}
	return rs.awaitAgent(ctx, on, guest, time.Now(), r, t)
}

// awaitAgent waits for the agent of a guest that was powered on at a time, and reads its ledgers.
func (rs *Restores) awaitAgent(ctx context.Context, on restoring, guest string, begun time.Time, r *runs.Run, t *runs.Task) error {
	inside, ok := on.h.(source.Insider)
	if !ok {
		r.Evidence(ctx, guest, "it was powered on; nobody can be asked in it, on a source of this kind")
		return nil
	}
	if err := t.Begin(ctx, "waiting for the guest's agent"); err != nil {
		return err
	}
	for {
		err := inside.Ping(ctx, guest)
		if err == nil {
			break
		}
		if time.Since(begun) > wakeTime {
			return fmt.Errorf("guest %s was restored and started, but its agent did not answer within %s: %w", guest, wakeTime, err)
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	r.Evidence(ctx, guest, "its guest agent answered %s after the start", time.Since(begun).Round(time.Second))
	mounts, err := inside.GuestMounts(ctx, guest)
	if err != nil {
		t.Warn("its file systems could not be listed: %v", err)
		return nil
	}
	found, err := source.Ledgers(ctx, inside, guest, mounts, time.Now())
	if err != nil {
		return fmt.Errorf("guest %s runs, but %w", guest, err)
	}
	for _, l := range found {
		r.Evidence(ctx, guest, "%s: %s", strings.TrimSuffix(l.Point, "/"), l)
	}
	return nil
}
