package trials

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"keenlodge/internal/closed"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lending"
	"keenlodge/internal/nbd"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
)

// party is what is tried together: one machine, or some that need each other, in one closed network.
type party struct {
	tr      *Trials
	s       site.Site
	members []*member
	// host is the hypervisor on which they are tried, whose pool has the folder.
	host, pool, folder string
	far                bool
	spec               site.Hypervisor
	writeOut           bool
	// net is nil where the host is another one.
	net *closed.Network
}

// member is a machine of a party.
type member struct {
	p      *party
	id     string
	rec    records.Image
	st     store.Store
	m      *image.Manifest
	expect expect.Trial
	memory int64
	// agent says that it has a place for QEMU's guest agent.
	agent bool
	// up is closed when it is, asked when all was asked of it, ended when its part is over, whatever became of it.
	up, asked, ended chan struct{}
	endReading       func(context.Context) error
	// written is the image, where it was written out, in so much time.
	written *proof.Written
	took    time.Duration

	// read counts bytes of its disks that were read; trouble is the first error of that.
	read    atomic.Int64
	mu      sync.Mutex
	trouble error
}

// leave ends the reading of the images.
func (p *party) leave() (err error) {
	for _, m := range p.members {
		err = errors.Join(err, m.endReading(context.Background()))
	}
	return err
}

// meet has each member start when the one before it is up, asks all of them once they all are, and ends them.
func (p *party) meet(ctx context.Context, r *runs.Run) error {
	if !p.far {
		network, err := closed.New()
		if err != nil {
			return err
		}
		p.net = network
		defer network.Close()
	}
	tasks := make([]records.Task, len(p.members))
	for i, m := range p.members {
		tasks[i] = records.Task{Machine: m.m.Machine, MachineID: m.rec.MachineID, Image: m.m.ID, Hypervisor: p.host}
	}
	tasks, err := r.AddTasks(ctx, tasks)
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	for i, m := range p.members {
		all.Go(func() {
			defer close(m.ended)
			r.Perform(ctx, tasks[i], func(ctx context.Context, t *runs.Task) error { return m.perform(ctx, r, t, p.members[:i]) })
		})
	}
	all.Wait()
	return nil
}

// await waits until a member is up.
func (m *member) await(ctx context.Context) error {
	select {
	case <-m.up:
		return nil
	case <-m.ended:
		select {
		case <-m.up:
			return nil
		default:
			return fmt.Errorf("%s did not come up", m.m.Machine)
		}
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// perform is a member's part in the trial.
func (m *member) perform(ctx context.Context, r *runs.Run, t *runs.Task, before []*member) (err error) {
	if m.p.writeOut {
		if err := m.writeOut(ctx, t); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, m.written.Close()) }()
	}
	for _, b := range before {
		if err := b.await(ctx); err != nil {
			return fmt.Errorf("it was not started, for it starts after another: %w", err)
		}
	}
	h, err := m.p.tr.inventory.Connect(ctx, m.p.s, m.p.host)
	if err != nil {
		return err
	}
	defer h.Close()
	t.NeedsCleanup = true
	if err := t.Save(ctx); err != nil { // whoever clears up after us must know
		return err
	}
	w := &watch{member: m, h: h, r: r, t: t}
	began := time.Now()
	verdict := w.carryOut(ctx)
	// Whatever was seen: nothing of it stays.
	closing := context.WithoutCancel(ctx)
	var ended error
	if w.guest != nil {
		ended = w.guest.Close(closing)
	}
	m.stopOffers(w)
	found, cleared := clear(closing, h, m.id, m.p.pool)
	if ended = errors.Join(ended, cleared); ended == nil {
		t.NeedsCleanup = false
	} else {
		m.p.tr.log.Warn("a trial could not be cleared, and will be", "image", m.m.ID, "found", found, "error", ended)
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var failed failure
	if verdict != nil && !errors.As(verdict, &failed) {
		return errors.Join(verdict, ended)
	}
	return errors.Join(w.record(closing, began, verdict), ended)
}

// writeOut writes the image out whole.
func (m *member) writeOut(ctx context.Context, t *runs.Task) error {
	if err := t.Begin(ctx, "writing its disks out"); err != nil {
		return err
	}
	for _, d := range m.m.Disks {
		t.Total += max(d.Data, d.Length)
	}
	began := time.Now()
	return t.Moving(ctx, nil, func() (err error) {
		m.written, _, err = m.p.tr.proofs.WriteOut(ctx, m.st, m.m, false, t.Add)
		m.took = time.Since(began)
		return err
	})
}

// open opens a disk of the image where it lies: in the store, or written out.
func (m *member) open(ctx context.Context, w *watch, d image.Disk) (disk.Disk, error) {
	if m.written != nil {
		return m.written.Disks[slices.IndexFunc(m.m.Disks, func(one image.Disk) bool { return one.Target == d.Target })].Disk, nil
	}
	opened, err := m.st.OpenDisk(ctx, m.m, d)
	if err == nil {
		w.opened = append(w.opened, opened)
	}
	return opened, err
}

// targets are the disks of the image, as a source is asked what it can do with them.
func (m *member) targets() map[string]string {
	out := map[string]string{}
	for _, d := range m.m.Disks {
		out[d.Target] = "/" + d.Target
	}
	return out
}

// volume is the name of a file of the guest in the pool.
func (m *member) volume(what, end string) string { return source.TrialMark + m.id + "-" + what + end }

// place makes the files of the guest, and offers the disks below them.
func (m *member) place(ctx context.Context, w *watch) (t source.Throwaway, err error) {
	makes, err := source.As[source.Restorer](w.h, "make machines")
	if err != nil {
		return t, err
	}
	t = source.Throwaway{ID: m.id, Definition: m.m.Definition, Disks: map[string]string{}, Memory: m.p.spec.Trials.MemoryOne()}
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	w.stopServing = stop
	for _, d := range m.m.Disks {
		name := m.volume(d.Target, ".qcow2")
		overlay := filepath.Join(m.p.folder, name)
		address, err := lending.Address(d.Target, overlay)
		if err != nil {
			return t, err
		}
		file, err := qcow2.Over(ctx, d.Size, address, "raw")
		if err != nil {
			return t, fmt.Errorf("disk %s: %w", d.Target, err)
		}
		var body bytes.Buffer // it holds nothing but where the rest is
		if _, err := file.WriteTo(&body); err != nil {
			return t, fmt.Errorf("disk %s: %w", d.Target, err)
		}
		if t.Disks[d.Target], err = makes.CreateDisk(ctx, m.p.pool, name, int64(body.Len()), &body); err != nil {
			return t, fmt.Errorf("disk %s: %w", d.Target, err)
		}
		if err := m.offer(serving, w, d, overlay); err != nil {
			return t, fmt.Errorf("disk %s: %w", d.Target, err)
		}
	}
	variables, err := m.m.FirmwareOf(image.UEFIVariables)
	if err == nil && variables != nil {
		t.Variables, err = makes.CreateDisk(ctx, m.p.pool, m.volume("variables", ".fd"), int64(len(variables)), bytes.NewReader(variables))
	}
	return t, err
}

// offer offers a disk of the image at the socket of the file over it.
func (m *member) offer(ctx context.Context, w *watch, d image.Disk, overlay string) error {
	opened, err := m.open(ctx, w, d)
	if err != nil {
		return err
	}
	var listener net.Listener
	if m.p.far {
		borrower, err := source.As[source.Borrower](w.h, "run a guest on disks that are lent to it")
		if err != nil {
			return err
		}
		listener, err = borrower.ListenAt(ctx, lending.Socket(overlay), overlay)
		if err != nil {
			return err
		}
	} else if listener, err = lending.Listen(lending.Socket(overlay)); err != nil {
		return err
	}
	w.listeners = append(w.listeners, listener)
	w.serving.Go(func() {
		lending.Offer(ctx, listener, overlay, nbd.Export{Name: d.Target, Disk: counted{opened, m}}, 0, func(err error) {
			m.p.tr.log.Info("a disk of a trial", "image", m.m.ID, "disk", d.Target, "error", err)
		})
	})
	return nil
}

// stopOffers ends the offering of the disks.
func (m *member) stopOffers(w *watch) {
	for _, l := range w.listeners {
		l.Close()
	}
	if w.stopServing != nil {
		w.stopServing()
	}
	w.serving.Wait()
	for _, d := range w.opened {
		d.Close()
	}
}

// counted is a disk of which it is counted what is read, and noted what can't be.
type counted struct {
	disk.Disk
	m *member
}

func (c counted) ReadAt(p []byte, offset int64) (int, error) {
	n, err := c.Disk.ReadAt(p, offset)
	c.m.read.Add(int64(n))
	if err != nil && err != io.EOF {
		c.m.mu.Lock()
		c.m.trouble = err
		c.m.mu.Unlock()
	}
	return n, err
}

// troubled is the newest error with which a disk could not be read, nil if there was none.
func (m *member) troubled() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.trouble
}
