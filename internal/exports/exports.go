// Package exports is what becomes of images that hold an appliance's export: they are opened, tried on a fresh appliance, and taken back.
package exports

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/dustin/go-humanize/english"

	"keenlodge/internal/browse"
	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/inventory"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
	"keenlodge/internal/wire"
)

// Exports has exports taken back.
type Exports struct {
	rec       *records.Records
	stores    *stores.Stores
	inventory *inventory.Inventory
	throttle  *throttle.Throttle
	runs      *runs.Engine
	program   string

	mu     sync.Mutex
	spares map[string]chan struct{} // by source: one export at a time is tried on it
}

// New makes an Exports, and registers what it does with the engine. program is the name under which stores are read.
func New(rec *records.Records, ss *stores.Stores, inv *inventory.Inventory, th *throttle.Throttle, e *runs.Engine, program string) *Exports {
	x := &Exports{rec: rec, stores: ss, inventory: inv, throttle: th, runs: e, program: program, spares: map[string]chan struct{}{}}
	e.Register(run.Handback, handler{x: x})
	return x
}

// Request asks for an export to be taken back by a machine, which is its identity.
type Request struct {
	Image   string `json:"image"`
	Machine string `json:"machine"`
}

// toldOf is what an image tells of its export.
func toldOf(m *image.Manifest) (export.Told, error) {
	told, ok := export.Parse(m.Definition)
	if !ok || m.Files == nil {
		return told, fmt.Errorf("%w: image %s holds no export of an appliance (scope %s)", fault.ErrConflict, m.ID, m.Scope)
	}
	return told, nil
}

// content reads the export of an image. What is damaged in its store is an error that wraps [chunk.ErrDamaged]. Close it.
func content(ctx context.Context, st store.Store, m *image.Manifest, told export.Told) (io.ReadCloser, error) {
	archive := browse.TakeFiles(ctx, st, m, func(path string) bool { return path == told.File })
	in := files.NewReader(archive)
	for {
		s, err := in.Next()
		switch {
		case err != nil:
			return nil, errors.Join(err, archive.Close())
		case s.Last != nil:
			return nil, errors.Join(fmt.Errorf("%w: image %s has no file %s of %d bytes, which its definition names", chunk.ErrDamaged, m.ID, told.File, told.Bytes), archive.Close())
		case s.Entry != nil && s.Entry.Path == told.File && s.Entry.Size == told.Bytes:
			return struct {
				io.Reader
				io.Closer
			}{in, archive}, nil
		}
	}
}

// of is a source whose machines take exports back. Close it.
func (x *Exports) of(ctx context.Context, s site.Site, name string) (source.Source, source.Exporter, error) {
	h, err := x.inventory.Connect(ctx, s, name)
	if err != nil {
		return nil, nil, err
	}
	e, err := source.As[source.Exporter](h, "take exports back")
	if err != nil {
		return nil, nil, errors.Join(err, h.Close())
	}
	return h, e, nil
}

// watched remembers how reading failed: what comes of that is no word on what was read.
type watched struct {
	io.Reader
	failed   error
	progress func(int64)
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	w.progress(int64(n))
	if err != nil && !errors.Is(err, io.EOF) {
		w.failed = err
	}
	return n, err
}

// Open opens the export of an image, and reads it to its end. An error that wraps [source.ErrExport] is a verdict on it.
func (x *Exports) Open(ctx context.Context, st store.Store, m *image.Manifest, progress func(int64)) (evidence []string, err error) {
	told, err := toldOf(m)
	if err != nil {
		return nil, err
	}
	s, err := x.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	h, e, err := x.of(ctx, s, m.Hypervisor)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	in, err := content(ctx, st, m, told)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	w := &watched{in, nil, progress}
	evidence, err = e.OpenExport(ctx, told, w)
	if w.failed != nil {
		return nil, w.failed
	}
	return evidence, err
}

const (
	// spareTime is how long a trial waits for a spare on which another export is tried, spareEvery how often it looks.
	spareTime, spareEvery = 30 * time.Minute, 2 * time.Second
)

// Try has a fresh appliance take the export of an image back, looks whether it then is what the export says, and resets it. An error that wraps
// [source.ErrExport] is a verdict on the export.
func (x *Exports) Try(ctx context.Context, st store.Store, m *image.Manifest, runID string, progress func(int64)) (evidence []string, err error) {
	told, err := toldOf(m)
	if err != nil {
		return nil, err
	}
	s, err := x.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	spec := s.Hypervisors[m.Hypervisor].Export
	if spec == nil || spec.Spare == "" {
		return nil, fmt.Errorf("%w: an export is tried on a fresh appliance of the same kind, and source %s names none; write into its entry in the site file: export: {spare: SOURCE}", fault.ErrConflict, m.Hypervisor)
	}
	h, e, err := x.of(ctx, s, spec.Spare)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	name, err := onlyMachine(ctx, h, spec.Spare)
	if err != nil {
		return nil, err
	}
	if err := e.CanTakeBack(ctx, name, told); err != nil {
		return nil, fmt.Errorf("spare %s: %w", spec.Spare, err)
	}
	unlock, err := x.lock(ctx, spec.Spare)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := x.await(ctx, e, name, spec.Spare); err != nil {
		return nil, err
	}
	in, err := content(ctx, st, m, told)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	defer func() {
		_, cleared := e.ClearTakeBack(context.WithoutCancel(ctx), name, runID, true)
		if cleared != nil {
			err = errors.Join(err, fmt.Errorf("spare %s could not be made fresh again; the next trial tries again: %w", spec.Spare, cleared))
		}
	}()
	w := &watched{in, nil, progress}
	if err := e.TakeBack(ctx, name, runID, told, w); err != nil {
		if w.failed != nil {
			return nil, w.failed
		}
		return nil, err
	}
	return []string{fmt.Sprintf("%s (source %s) took it back: %s, each as it was exported; it was reset after", name, spec.Spare, english.Plural(len(told.Parts), "part", ""))}, nil
}

// onlyMachine is the one machine that a spare has.
func onlyMachine(ctx context.Context, h source.Source, name string) (string, error) {
	found, err := h.Machines(ctx)
	if err == nil && len(found) != 1 {
		err = fmt.Errorf("%w: source %s has %d machines, and a spare has one", fault.ErrConflict, name, len(found))
	}
	if err != nil {
		return "", err
	}
	return found[0].Name, nil
}

// lock has one trial at a time in this process on a spare.
func (x *Exports) lock(ctx context.Context, spare string) (unlock func(), err error) {
	x.mu.Lock()
	if x.spares[spare] == nil {
		x.spares[spare] = make(chan struct{}, 1)
	}
	turn := x.spares[spare]
	x.mu.Unlock()
	select {
	case turn <- struct{}{}:
		return func() { <-turn }, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// await waits until a spare is fresh. One that a dead run of this lodge left is reset; one that holds something else is never touched.
func (x *Exports) await(ctx context.Context, e source.Exporter, name, spare string) error {
	for until := time.Now().Add(spareTime); ; {
		fresh, mark, err := e.Holding(ctx, name)
		if err != nil || fresh {
			return err
		}
		by, err := x.rec.Run(ctx, mark)
		switch {
		case mark == "" || errors.Is(err, fault.ErrNotFound):
			return fmt.Errorf("%w: spare %s is not fresh: %s holds something that no trial of this lodge brought there, so nothing is tried on it; reset it, or name another one", fault.ErrConflict, spare, name)
		case err != nil:
			return err
		case by.State.Over():
			if _, err := e.ClearTakeBack(ctx, name, mark, true); err != nil {
				return err
			}
		case time.Now().After(until):
			return fmt.Errorf("%w: run %s tries an export on spare %s, and did not end within %s", source.ErrBusy, mark, spare, spareTime)
		default:
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(spareEvery):
			}
		}
	}
}

// handing is what a handback works on.
type handing struct {
	rec     records.Image
	m       *image.Manifest
	st      store.Store
	told    export.Told
	machine records.Machine
	h       source.Source // the caller closes it
	to      source.Exporter
}

// prepare finds what a request is about, and what is wrong with it. word names the machine, "" is the one of which the image is.
func (x *Exports) prepare(ctx context.Context, id, word string) (g handing, err error) {
	if g.rec, g.st, err = x.stores.OfImage(ctx, id); err != nil {
		return g, err
	}
	if g.rec.State != image.Usable && g.rec.State != image.Doubtful {
		return g, fmt.Errorf("%w: image %s is %s; only a usable image can be taken back", fault.ErrConflict, g.rec.ID, g.rec.State)
	}
	if g.m, err = g.st.ReadImage(ctx, g.rec.ID); err != nil {
		return g, err
	}
	if g.told, err = toldOf(g.m); err != nil {
		return g, err
	}
	if word == "" {
		word = g.rec.MachineID
	}
	if g.machine, err = x.inventory.Resolve(ctx, word); err != nil {
		return g, err
	}
	s, err := x.rec.Site(ctx)
	if err != nil {
		return g, err
	}
	if g.h, g.to, err = x.of(ctx, s, g.machine.Hypervisor); err != nil {
		return g, err
	}
	if err = g.to.CanTakeBack(ctx, g.machine.Name, g.told); err != nil {
		err = errors.Join(fmt.Errorf("%w: %w", fault.ErrConflict, err), g.h.Close())
	}
	return g, err
}

// Preview says what taking an export back would do. It changes nothing.
func (x *Exports) Preview(ctx context.Context, id, word string) (out wire.HandbackPreview, err error) {
	g, err := x.prepare(ctx, id, word)
	if err != nil {
		return out, err
	}
	defer g.h.Close()
	fresh, _, err := g.to.Holding(ctx, g.machine.Name)
	if err != nil {
		return out, err
	}
	out = wire.HandbackPreview{Machine: g.machine.Label, Taken: g.rec.Taken, Product: g.told.Product, Release: g.told.Release, Build: g.told.Build, Node: g.told.Node, By: g.told.By, Bytes: g.told.Bytes, Parts: []wire.ExportPart{}, LeftOut: append([]string{}, g.told.LeftOut...), Fresh: fresh, Notices: []string{}}
	for _, p := range g.told.Parts {
		out.Parts = append(out.Parts, wire.ExportPart(p))
	}
	if g.machine.ID != g.rec.MachineID {
		out.Notices = append(out.Notices, fmt.Sprintf("the export is of %s, and goes to %s", g.rec.Machine, g.machine.Label))
	}
	if len(g.told.LeftOut) > 0 && !fresh {
		out.Notices = append(out.Notices, "parts that were left out of the export will be empty after")
	}
	newest, err := x.rec.Images(ctx, records.ImageFilter{MachineID: g.machine.ID})
	if err == nil && len(newest) > 0 && newest[0].ID != g.rec.ID && newest[0].Taken.After(g.rec.Taken) {
		out.Notices = append(out.Notices, fmt.Sprintf("there is a newer image of it, %s", newest[0].ID))
	}
	return out, err
}

// MachineOf is the machine that takes the export of an image back where none is named.
func (x *Exports) MachineOf(ctx context.Context, id, word string) (string, error) {
	if word != "" {
		return word, nil
	}
	m, err := x.stores.Image(ctx, id)
	return m.MachineID, err
}

// Start queues that an export is taken back, for who. confirm is the machine's name, typed once more, unless it is fresh: all that it has is replaced.
func (x *Exports) Start(ctx context.Context, who, id, word, confirm string) (records.Run, error) {
	g, err := x.prepare(ctx, id, word)
	if err != nil {
		return records.Run{}, err
	}
	defer g.h.Close()
	fresh, _, err := g.to.Holding(ctx, g.machine.Name)
	if err != nil {
		return records.Run{}, err
	}
	if !fresh && confirm != g.machine.Name {
		return records.Run{}, fmt.Errorf("%w: all that %s has is replaced by what it was on %s; confirm that by its name", fault.ErrInvalid, g.machine.Name, g.rec.Taken.UTC().Format("2006-01-02 15:04 MST"))
	}
	return x.runs.Queue(ctx, runs.Order{Kind: run.Handback, Policy: g.rec.Policy, Cause: run.Hand, Who: who, Request: Request{g.rec.ID, g.machine.ID}})
}

// handler has exports taken back.
type handler struct {
	runs.Base
	x *Exports
}

// AtOnce implements [runs.Limited].
func (handler) AtOnce() int { return 4 }

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[Request](r.Run)
	if err != nil {
		return err
	}
	g, err := h.x.prepare(ctx, q.Image, q.Machine)
	if err != nil {
		return err
	}
	defer g.h.Close()
	defer h.x.throttle.Urgent("restore "+r.ID, throttle.Store(g.rec.Store), throttle.Machine(g.machine.ID))()
	return r.PerformOne(ctx, records.Task{Machine: g.machine.Name, MachineID: g.machine.ID, Hypervisor: g.machine.Hypervisor, Image: g.rec.ID}, func(ctx context.Context, t *runs.Task) error {
		busy, err := h.x.rec.Capturing(ctx, g.machine.ID)
		if err == nil && busy {
			err = fmt.Errorf("%w: %s is being backed up just now; start it again when that is done", fault.ErrConflict, g.machine.Label)
		}
		if err != nil {
			return err
		}
		end, err := g.st.Reading(ctx, h.x.program) // a sweep must not take away what is being read
		if err != nil {
			return err
		}
		defer end(context.WithoutCancel(ctx))
		if err := t.Begin(ctx, "taking back"); err != nil {
			return err
		}
		in, err := content(ctx, g.st, g.m, g.told)
		if err != nil {
			return err
		}
		defer in.Close()
		t.Total, t.NeedsCleanup = g.told.Bytes, true
		if err := t.Save(ctx); err != nil {
			return err
		}
		err = t.Moving(ctx, nil, func() error {
			return g.to.TakeBack(ctx, g.machine.Name, r.ID, g.told, &watched{in, nil, t.Add})
		})
		if err != nil {
			return err
		}
		t.NeedsCleanup = false
		r.Evidence(ctx, t.Machine, "%s is what it was on %s: %s %s, build %s, %s, each as it was exported", g.machine.Name, g.rec.Taken.UTC().Format("2006-01-02 15:04 MST"), g.told.Product, g.told.Release, g.told.Build, english.Plural(len(g.told.Parts), "part", ""))
		return nil
	})
}

// Cleanup implements [runs.Handler]: what was brought to the appliance and not taken over goes.
func (h handler) Cleanup(ctx context.Context, t records.Task) error {
	s, err := h.x.rec.Site(ctx)
	if err != nil {
		return err
	}
	if _, ok := s.Hypervisors[t.Hypervisor]; !ok {
		return nil
	}
	on, e, err := h.x.of(ctx, s, t.Hypervisor)
	if err != nil {
		return err
	}
	defer on.Close()
	_, err = e.ClearTakeBack(ctx, t.Machine, t.Run, false)
	return err
}
