package lodge

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"keenlodge/internal/core/run"

	"keenlodge/internal/store"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/ledger"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
)

// RestoreRequest asks for a guest to be made from an image.
type RestoreRequest struct {
	Image string `json:"image"`
	// As is the new guest's name.
	As string `json:"as" doc:"name of the guest to make"`
	// Hypervisor is where; empty for where the machine lived.
	Hypervisor string `json:"hypervisor,omitempty" doc:"where; by default where the machine lived"`
	Pool       string `json:"pool,omitempty" doc:"storage pool for its disks; by default the hypervisor's"`
	Start      bool   `json:"start,omitempty" doc:"power it on, and wait for its guest agent"`
	Replace    bool   `json:"replace,omitempty" doc:"allow a guest of that name, which must be off, to be defined anew; its old disks stay"`
}

// wakeTime is how long a restored guest may take until its agent answers.
const wakeTime = 5 * time.Minute

// maxLedger is the longest ledger that is read through a guest agent, in bytes.
const maxLedger = 64 << 20

var guestName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// Restore queues a restore. What would make it fail is looked at first, so that it fails at once.
func (l *Lodge) Restore(ctx context.Context, r RestoreRequest) (records.Run, error) {
	none := records.Run{}
	if !guestName.MatchString(r.As) {
		return none, fmt.Errorf("%w: %q can't be a guest's name: up to 63 letters, digits, dots, dashes and underscores", ErrInvalid, r.As)
	}
	on, err := l.prepareRestore(ctx, &r)
	if err != nil {
		return none, err
	}
	defer on.h.Close()
	if err := checkFree(ctx, on.h, r); err != nil {
		return none, err
	}
	return l.queue(ctx, "restore", on.manifest.Policy, r)
}

// restoring is what a restore works on.
type restoring struct {
	manifest *image.Manifest
	st       store.Store
	h        source.Hypervisor // the caller closes it
}

// prepareRestore finds the image and its store, connects to the hypervisor, and fills in what the request left open.
func (l *Lodge) prepareRestore(ctx context.Context, r *RestoreRequest) (restoring, error) {
	var on restoring
	m, st, err := l.imageStore(ctx, r.Image)
	if err != nil {
		return on, err
	}
	if m.State != "usable" {
		return on, fmt.Errorf("%w: image %s is %s; only a usable image can be restored", ErrConflict, m.ID, m.State)
	}
	on.st = st
	if on.manifest, err = st.ReadImage(ctx, m.ID); err != nil {
		return on, err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return on, err
	}
	if r.Hypervisor == "" {
		r.Hypervisor = on.manifest.Hypervisor
	}
	if r.Pool == "" {
		r.Pool = s.Hypervisors[r.Hypervisor].Pool
	}
	on.h, err = l.hypervisor(ctx, s, r.Hypervisor)
	return on, err
}

// checkFree makes sure that no guest of the name is in the way.
func checkFree(ctx context.Context, h source.Hypervisor, r RestoreRequest) error {
	machines, err := h.Machines(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(machines, func(m source.Machine) bool { return m.Name == r.As })
	switch {
	case i < 0:
		return nil
	case !r.Replace:
		return fmt.Errorf("%w: a guest called %s exists already; choose another name, or allow it to be replaced (--replace)", ErrConflict, r.As)
	case machines[i].State != "off":
		return fmt.Errorf("%w: guest %s is %s; shut it down before it is replaced", ErrConflict, r.As, machines[i].State)
	}
	return nil
}

// restore carries a restore out.
func (l *Lodge) restore(ctx context.Context, run records.Run) (state run.State, err error) {
	var r RestoreRequest
	if err := json.Unmarshal(run.Request, &r); err != nil {
		return "failed", err
	}
	on, err := l.prepareRestore(ctx, &r)
	if err != nil {
		return "failed", err
	}
	defer on.h.Close()
	rec, err := l.rec.AddTask(ctx, records.Task{Run: run.ID, Machine: r.As, Hypervisor: r.Hypervisor, Image: on.manifest.ID})
	if err != nil {
		return "failed", err
	}
	done := l.perform(ctx, rec, func(ctx context.Context, t *task) error {
		if err := l.makeGuest(ctx, on, r, t); err != nil {
			return err
		}
		if !r.Start {
			return nil
		}
		return l.wakeGuest(ctx, on.h, r.As, t)
	})
	if _, err := l.FindMachines(ctx); err != nil {
		return "failed", err
	}
	return done.State, nil
}

// makeGuest writes the disks and defines the guest. If it fails, nothing of it stays on the hypervisor.
func (l *Lodge) makeGuest(ctx context.Context, on restoring, r RestoreRequest, t *task) (err error) {
	h, m := on.h, on.manifest
	if err := checkFree(ctx, h, r); err != nil {
		return err
	}
	end, err := on.st.Reading(ctx, Version) // a sweep must not take away what is being read
	if err != nil {
		return err
	}
	defer end(context.WithoutCancel(ctx))
	files := make([]*qcow2.File, len(m.Disks))
	for i, d := range m.Disks {
		opened, err := on.st.OpenDisk(ctx, m, d)
		if err != nil {
			return err
		}
		defer opened.Close()
		if files[i], err = qcow2.New(ctx, opened, ""); err != nil {
			return fmt.Errorf("disk %s: %w", d.Target, err)
		}
		t.rec.Total += files[i].Size()
	}
	places := map[string]string{}
	defer func() {
		if err == nil {
			return
		}
		for _, place := range places {
			err = errors.Join(err, h.RemoveDisk(context.WithoutCancel(ctx), place))
		}
	}()
	for i, d := range m.Disks {
		if err := t.step(ctx, "writing "+d.Target); err != nil {
			return err
		}
		// The run's name makes the volume's unique: a guest that is replaced keeps its old disks.
		volume := fmt.Sprintf("%s-%s-%s.qcow2", r.As, d.Target, t.rec.Run)
		err := t.moving(ctx, nil, func() (err error) {
			content := stream(ctx, files[i], &t.done)
			defer content.Close()
			places[d.Target], err = h.CreateDisk(ctx, r.Pool, volume, files[i].Size(), content)
			return err
		})
		if err != nil {
			delete(places, d.Target) // CreateDisk removed it itself
			return fmt.Errorf("disk %s: %w", d.Target, err)
		}
	}
	if err := t.step(ctx, "defining guest "+r.As); err != nil {
		return err
	}
	return h.Define(ctx, source.NewGuest{Name: r.As, Definition: m.Definition, Disks: places, Replace: r.Replace})
}

// stream turns a file that writes itself into one that can be read, counting what goes through.
func stream(ctx context.Context, f *qcow2.File, done *atomic.Int64) io.ReadCloser {
	r, w := io.Pipe()
	stop := context.AfterFunc(ctx, func() { w.CloseWithError(context.Cause(ctx)) })
	go func() {
		defer stop()
		_, err := f.WriteTo(counted{w, done})
		w.CloseWithError(err)
	}()
	return r
}

type counted struct {
	io.Writer
	n *atomic.Int64
}

func (c counted) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.n.Add(int64(n))
	return n, err
}

// wakeGuest starts the restored guest, waits for its agent, and reads its ledgers.
func (l *Lodge) wakeGuest(ctx context.Context, h source.Hypervisor, guest string, t *task) error {
	if err := t.step(ctx, "starting guest "+guest); err != nil {
		return err
	}
	if err := h.Start(ctx, guest); err != nil {
		return err
	}
	if err := t.step(ctx, "waiting for the guest's agent"); err != nil {
		return err
	}
	begun := time.Now()
	for {
		err := h.Ping(ctx, guest)
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
	l.say(ctx, t.rec.Run, guest, fmt.Sprintf("evidence: its guest agent answered %s after the start", time.Since(begun).Round(time.Second)))
	mounts, err := h.GuestMounts(ctx, guest)
	if err != nil {
		t.rec.Warnings = append(t.rec.Warnings, "its file systems could not be listed: "+err.Error())
		return nil
	}
	for _, point := range mounts {
		body, err := h.ReadGuestFile(ctx, guest, path.Join(point, ledger.FileName), maxLedger)
		if err != nil {
			continue // most file systems have no ledger
		}
		// The guest appends while we read, so a last line may be cut.
		if i := bytes.LastIndexByte(body, '\n'); i >= 0 {
			body = body[:i+1]
		}
		s, err := ledger.Check(bytes.NewReader(body))
		if err != nil {
			return fmt.Errorf("guest %s runs, but its ledger at %s is not clean: %w", guest, point, err)
		}
		l.say(ctx, t.rec.Run, guest, fmt.Sprintf("evidence: %s: %s", strings.TrimSuffix(point, "/"), ledgerText(s)))
	}
	return nil
}
