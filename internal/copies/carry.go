package copies

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
	"keenlodge/internal/wire"
)

// recordTime is how long a finished copy waits for a database that does not answer; after that a later look at its store records it.
const recordTime = time.Hour

// readAgain is how often a rule's bandwidth is read anew while it is on its way: asking for each frame would cost more than sending it.
const readAgain = time.Second

// pace lets bytes pass as fast as the rule's bandwidth allows at this hour.
func (k *round) pace(ctx context.Context, n int) error {
	k.mu.Lock()
	known, zone := k.bandwidth, k.zone
	fresh := time.Since(k.asked) < readAgain
	k.mu.Unlock()
	if !fresh {
		s, err := k.c.rec.Site(records.Within(ctx, 0))
		if records.Away(err) { // what is on its way does not wait for the database
			s, err = k.c.rec.KnownSite(), nil
		}
		if err != nil {
			return err
		}
		known, zone = s.Copies[k.name].Bandwidth, s.Location()
		k.mu.Lock()
		k.bandwidth, k.zone, k.asked = known, zone, time.Now()
		k.mu.Unlock()
	}
	if len(known) == 0 {
		return nil
	}
	return k.c.throttle.Wait(ctx, "copy rule "+k.name, site.PaceOf(known), zone, n)
}

// carry copies one image, and goes on where it was when the line was cut.
func (k *round) carry(ctx context.Context, t *runs.Task, src records.Lying) error {
	var got int64 // bytes that had arrived before the last try
	for tries := 0; ; {
		t.Tries++
		sent, err := k.once(ctx, t, src)
		if err == nil || !runs.IsTransient(err) || ctx.Err() != nil {
			return err
		}
		if got += sent; sent > 0 {
			tries = 0 // it gets on
		}
		if tries++; tries > attempts {
			return fmt.Errorf("%d tries in a row brought nothing over; what has arrived (%d bytes) is not sent again: %w", attempts, got, err)
		}
		t.Caution(ctx, "it was cut: %v; what has arrived is not sent again, and it goes on in %s", err, wait(tries))
		select {
		case <-time.After(wait(tries)):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if err := k.again(ctx); err != nil && !runs.IsTransient(err) {
			return err
		}
	}
}

// again opens the stores anew: a line that was cut needs another connection.
func (k *round) again(ctx context.Context) error {
	from, err := k.c.stores.Open(ctx, k.site, k.rule.From)
	if err != nil {
		return err
	}
	to, err := k.c.stores.Open(ctx, k.site, k.rule.To)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.from, k.to = from, to
	return nil
}

func (k *round) ends() (from, to store.Store) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.from, k.to
}

// once copies an image, or fails. sent are the bytes that arrived, in either case.
func (k *round) once(ctx context.Context, t *runs.Task, src records.Lying) (sent int64, err error) {
	from, to := k.ends()
	m, err := from.ReadImage(ctx, src.ID)
	if errors.Is(err, medium.ErrNotFound) {
		return 0, fmt.Errorf("image %s went from store %s before it was copied: %w", src.ID, k.rule.From, err)
	}
	if err != nil {
		return 0, err
	}
	need, _, err := k.need(ctx, from, to, src, m)
	if err != nil {
		return 0, err
	}
	room, err := to.Medium().Room(ctx)
	if err == nil {
		err = stores.CheckCapacity(k.rule.To, k.site.Stores[k.rule.To], room, need, 0, "as much as is missing there takes in "+k.rule.From)
	}
	if err != nil {
		return 0, err
	}
	out := *m
	out.ID, out.Base, out.Program = image.NewID(), "", k.c.program
	out.Copy = &image.Copy{Of: m.Origin(), Image: m.ID, Store: from.Header().ID, Rule: k.name, At: time.Now().UTC().Truncate(time.Second)}
	if !to.Header().Sealed {
		out.Firmware = image.Unsealed(m.Firmware)
	}
	rec := records.Image{ID: out.ID, Machine: m.Machine, MachineID: src.MachineID, Policy: src.Policy, Store: k.rule.To, Run: k.ID, Taken: m.Taken, Scope: m.Scope, Capture: m.Capture,
		Note: m.Note, SeparateSet: m.SeparateSet, CopyOf: src.Origin, CopiedBy: k.name}
	if err := k.c.rec.AddImage(ctx, rec); err != nil {
		return 0, err
	}
	t.Image = out.ID
	if err := t.Save(ctx); err != nil {
		return 0, err
	}
	finished := false
	defer func() {
		if err != nil && !finished {
			err = errors.Join(err, records.Surely(context.WithoutCancel(ctx), func(ctx context.Context) error { return k.c.rec.ForgetImage(ctx, out.ID) }))
			t.Image = ""
		}
	}()
	endReading, err := from.Reading(ctx, k.c.program)
	if err != nil {
		return 0, err
	}
	defer func() {
		if ended := endReading(context.WithoutCancel(ctx)); ended != nil {
			k.c.log.Warn("the end of the reading of an image", "image", m.ID, "error", ended)
		}
	}()
	spec := k.site.Stores[k.rule.To]
	w, err := to.Begin(ctx, &out, store.WriteOptions{Program: k.c.program, Compress: spec.Compress, Compression: spec.Compression})
	if err != nil {
		return 0, err
	}
	defer func() {
		_, sent = w.Written()
		if ended := w.End(context.WithoutCancel(ctx), err); ended != nil && medium.IsFull(err) {
			err = errors.Join(err, ended)
		} else if ended != nil {
			k.c.log.Warn("the end of a copy's writing", "image", out.ID, "error", ended)
		}
	}()
	if err := t.Begin(ctx, "copying image "+m.ID); err != nil {
		return 0, err
	}
	began := time.Now()
	count := &store.Progress{}
	t.Total = m.Sizes.Data
	if m.Files != nil {
		t.Total = m.Files.Content.Size + m.Files.List.Size
	}
	err = t.Moving(ctx, func(t *records.Task) {
		t.Done = min(count.Data.Load(), max(t.Total, count.Data.Load()))
		t.NewBytes, t.Stored = w.Written()
	}, func() error { return k.content(ctx, from, to, w, src, m, &out, count) })
	if err != nil {
		return 0, err
	}
	if err := w.Flush(ctx); err != nil {
		return 0, err
	}
	out.Sizes.New, out.Sizes.Stored = w.Written()
	out.Sizes.Read = count.Read.Load()
	out.Took = time.Since(began)
	out.Lock(k.site.LockOf(cmp.Or(k.name, k.policy)), time.Now())
	t.NewBytes, t.Stored = out.Sizes.New, out.Sizes.Stored
	finished = true
	if err := w.Finish(ctx, &out); err != nil {
		if _, read := to.ReadImage(context.WithoutCancel(ctx), out.ID); errors.Is(read, medium.ErrNotFound) {
			finished = false
		}
		return 0, err
	}
	recording, end := context.WithTimeout(context.WithoutCancel(ctx), recordTime)
	defer end()
	if err := records.Surely(recording, func(ctx context.Context) error { return k.c.rec.FinishImage(ctx, stores.Finished(rec, &out)) }); err != nil {
		return 0, err
	}
	one := wire.CopyResult{Images: 1, Data: count.Data.Load(), New: out.Sizes.New, Sent: out.Sizes.Stored, Read: count.Read.Load()}
	t.Log(ctx, "image %s is image %s in %s: %s", m.ID, out.ID, k.rule.To, one.Says())
	k.mu.Lock()
	k.result.Add(one)
	k.fresh[src.MachineID] = true
	k.mu.Unlock()
	if err := k.c.Follow(ctx, k.rule.To); err != nil {
		t.Caution(ctx, "the copy rules that go on from %s could not be started; their next moment does it: %v", k.rule.To, err)
	}
	return 0, nil
}

// need is about how much an image would add, in bytes; most says that it is no more than that, and perhaps much less.
func (k *round) need(ctx context.Context, from, to store.Store, src records.Lying, m *image.Manifest) (bytes int64, most bool, err error) {
	exchanger, ok := to.(store.Exchanger)
	can, equally := false, false
	if ok {
		can, equally = exchanger.Exchanges(from)
	}
	if !can {
		return m.Sizes.Data, true, nil
	}
	there, here, err := k.pair(ctx, from, to, src, equally)
	if err != nil {
		return 0, false, err
	}
	bytes, err = exchanger.Lacks(ctx, store.Taking{From: from, Image: m, Older: there, Copy: here})
	return bytes, !equally, err
}

// content brings over what an image holds: piece by piece where both stores have pieces, and as disks and files otherwise.
func (k *round) content(ctx context.Context, from, to store.Store, w store.Writing, src records.Lying, m, out *image.Manifest, count *store.Progress) error {
	taker, ok := w.(store.Taker)
	exchanger, can := to.(store.Exchanger)
	equally := false
	if ok && can {
		can, equally = exchanger.Exchanges(from)
	}
	there, here, err := k.pair(ctx, from, to, src, equally)
	if err != nil {
		return err
	}
	if ok && can {
		taken, err := taker.Take(ctx, store.Taking{From: from, Image: m, Older: there, Copy: here, Pace: k.pace, Count: count})
		if err != nil {
			return err
		}
		out.Disks, out.Files = taken.Disks, taken.Files
		return nil
	}
	if m.Files != nil {
		return k.files(ctx, from, w, m, out, count)
	}
	out.Disks, out.Capture, out.Since, out.Why = nil, image.Full, "", "it was copied whole"
	for _, d := range m.Disks {
		made, leans, err := k.disk(ctx, from, to, w, m, d, there, here, count)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.Target, err)
		}
		made.Holes = d.Holes
		out.Disks = append(out.Disks, made)
		if leans {
			out.Capture, out.Since, out.Why = image.Incremental, here.ID, ""
			if to.Header().Layout == site.Open {
				out.Base = here.ID
			}
		}
	}
	return nil
}

// pair finds the newest image of which both stores have one, and reads its manifests: only what exists after the writing began is safe from sweeps. Where
// both name equal pieces equally, the newest one here will do.
func (k *round) pair(ctx context.Context, from, to store.Store, src records.Lying, equally bool) (there, here *image.Manifest, err error) {
	if equally {
		id, err := k.c.rec.NewestHere(ctx, k.rule.To, src.MachineID, src.Scope)
		if err != nil || id == "" {
			return nil, nil, err
		}
		here, err = to.ReadImage(ctx, id)
		if errors.Is(err, medium.ErrNotFound) {
			return nil, nil, nil
		}
		return nil, here, err
	}
	p, ok, err := k.c.rec.NewestPair(ctx, k.rule.From, k.rule.To, src.MachineID, src.Scope)
	if err != nil || !ok {
		return nil, nil, err
	}
	if here, err = to.ReadImage(ctx, p.Here); err == nil {
		there, err = from.ReadImage(ctx, p.There)
	}
	if errors.Is(err, medium.ErrNotFound) || errors.Is(err, fault.ErrNotFound) { // one of them went just now
		return nil, nil, nil
	}
	return there, here, err
}

// disk copies a disk as one: since the older image where both stores have that and it can be told what changed. leans reports whether it was so.
func (k *round) disk(ctx context.Context, from, to store.Store, w store.Writing, m *image.Manifest, d image.Disk, there, here *image.Manifest, count *store.Progress) (made image.Disk, leans bool, err error) {
	older, copied := diskOf(there, d), diskOf(here, d)
	comparer, can := from.(store.Comparer)
	var src store.OpenedDisk
	var base *store.OlderDisk
	if older != nil && copied != nil && can {
		if src, err = comparer.Since(ctx, m, d, there, *older); err != nil {
			return made, false, err
		}
	}
	if src != nil {
		opened, err := to.OpenDisk(ctx, here, *copied)
		if err != nil {
			return made, false, errors.Join(err, src.Close())
		}
		defer opened.Close()
		base = &store.OlderDisk{OpenedDisk: opened, Desc: *copied}
	} else if src, err = from.OpenDisk(ctx, m, d); err != nil {
		return made, false, err
	}
	defer src.Close()
	made, err = w.Disk(ctx, d.Target, d.Format, throttle.Disk(ctx, src, k.pace), base, count)
	return made, base != nil, err
}

// diskOf is the same disk of another image, nil where it has none of that length.
func diskOf(m *image.Manifest, d image.Disk) *image.Disk {
	if m == nil {
		return nil
	}
	for _, o := range m.Disks {
		if o.Target == d.Target && o.Size == d.Size {
			return &o
		}
	}
	return nil
}

// files copies an image of files as a stream of them.
func (k *round) files(ctx context.Context, from store.Store, w store.Writing, m, out *image.Manifest, count *store.Progress) error {
	r, in := io.Pipe()
	sent := make(chan error, 1)
	go func() {
		stream := files.NewWireWriter(in)
		err := from.ReadEntries(ctx, m, func(string) bool { return true }, func(e *files.Entry, stored io.Reader) error { return send(stream, *e, stored) })
		if err == nil {
			err = stream.Close(files.Last{LeftOut: m.Files.LeftOut, Whole: m.Files.Whole})
		}
		in.CloseWithError(err)
		sent <- err
	}()
	made, err := w.Files(ctx, files.NewReader(throttle.Reader(ctx, r, k.pace)), nil, count)
	r.CloseWithError(err)
	if why := <-sent; why != nil && err != nil {
		err = why // what was sent ended too early for a reason
	}
	out.Files = &made
	return err
}

// send sends an entry with what is stored of it.
func send(stream *files.WireWriter, e files.Entry, stored io.Reader) error {
	changed, unread := e.Changed, e.Unread
	e.Changed, e.Unread = false, ""
	if err := stream.Entry(&e); err != nil {
		return err
	}
	if _, err := io.Copy(stream, stored); err != nil {
		return err
	}
	if changed {
		if err := stream.Changed(); err != nil {
			return err
		}
	}
	if unread != "" {
		return stream.Unread(unread)
	}
	return nil
}
