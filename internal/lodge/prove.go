package lodge

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"keenlodge/internal/core/run"

	"keenlodge/internal/store/open"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/ledger"
	"keenlodge/internal/mount"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// mostRead is how many bytes of files a proof by mount reads from one file system; what is beyond is listed only.
const mostRead = 8 << 30

// ProofRequest asks for a proof of an image.
type ProofRequest struct {
	Image string      `json:"image"`
	Level image.Level `json:"level"`
}

// Prove queues the proof of an image.
func (l *Lodge) Prove(ctx context.Context, r ProofRequest) (records.Run, error) {
	m, err := l.Image(ctx, r.Image)
	if err != nil {
		return records.Run{}, err
	}
	if m.State != "usable" {
		return records.Run{}, fmt.Errorf("%w: image %s is %s; only a usable image can be proven", ErrConflict, m.ID, m.State)
	}
	if r.Level == "mount" {
		if err := mount.CheckRights(); err != nil {
			return records.Run{}, fmt.Errorf("%w: %w", ErrConflict, err)
		}
	}
	return l.queue(ctx, "proof", m.Policy, r)
}

// queue records a run that somebody asks for and queues it.
func (l *Lodge) queue(ctx context.Context, kind run.Kind, policy string, request any) (records.Run, error) {
	body, err := json.Marshal(request)
	if err != nil {
		return records.Run{}, err
	}
	run := records.Run{ID: newRunID(), Kind: kind, Policy: policy, Cause: "hand", Request: body}
	if err := l.rec.QueueRun(ctx, run); err != nil {
		return records.Run{}, err
	}
	return l.rec.Run(ctx, run.ID)
}

// Image finds an image that is not gone.
func (l *Lodge) Image(ctx context.Context, id string) (records.Image, error) {
	m, err := l.rec.Image(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return m, fmt.Errorf("%w: no image is called %q; look at: keenlodge image list", ErrNotFound, id)
	}
	if err == nil && m.Gone != nil {
		return m, fmt.Errorf("%w: image %s went on %s: %s", ErrNotFound, id, m.Gone.Format("2006-01-02 15:04"), m.GoneWhy)
	}
	return m, err
}

// prove carries the proof of an image out, as a run of its own.
func (l *Lodge) prove(ctx context.Context, run records.Run) (state run.State, err error) {
	var r ProofRequest
	if err := json.Unmarshal(run.Request, &r); err != nil {
		return "failed", err
	}
	m, st, err := l.imageStore(ctx, r.Image)
	if err != nil {
		return "failed", err
	}
	rec, err := l.rec.AddTask(ctx, records.Task{Run: run.ID, Machine: m.Machine, Image: m.ID})
	if err != nil {
		return "failed", err
	}
	done := l.perform(ctx, rec, func(ctx context.Context, t *task) error {
		if err := t.step(ctx, "proving by "+string(r.Level)); err != nil {
			return err
		}
		t.rec.Total = m.Read
		proof, err := l.proveImage(ctx, st, run.ID, m.ID, r.Level, t)
		if err == nil && !proof.Passed {
			err = errors.New(proof.Error)
		}
		return err
	})
	return done.State, nil
}

// imageStore finds an image and opens its store.
func (l *Lodge) imageStore(ctx context.Context, id string) (records.Image, store.Store, error) {
	m, err := l.Image(ctx, id)
	if err != nil {
		return m, nil, err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return m, nil, err
	}
	st, err := l.store(ctx, s, m.Store)
	return m, st, err
}

// proveImage proves an image and records the outcome, passed or not. The error is for a proof that could not be carried
// out at all, which says nothing of the image. t, if not nil, shows the progress.
func (l *Lodge) proveImage(ctx context.Context, st store.Store, run, id string, level image.Level, t *task) (records.Proof, error) {
	p := records.Proof{Image: id, Run: run, Level: level, Began: time.Now(), Program: Version}
	end, err := st.Reading(ctx, Version) // a sweep must not take away what is being read
	if err != nil {
		return p, err
	}
	defer end(context.WithoutCancel(ctx))
	m, err := st.ReadImage(ctx, id)
	if err == nil {
		work := func() (err error) {
			if level == "mount" {
				p.Evidence, err = l.proveByMount(ctx, st, m)
				return err
			}
			p.Evidence, err = st.ReadBack(ctx, m, func(n int64) {
				if t != nil {
					t.done.Add(n)
				}
			})
			return err
		}
		if t != nil {
			err = t.moving(ctx, nil, work)
		} else {
			err = work()
		}
	}
	if ctx.Err() != nil {
		return p, context.Cause(ctx)
	}
	var verdict failedProof
	damaged := errors.Is(err, chunk.ErrDamaged) || errors.Is(err, medium.ErrNotFound)
	if err != nil && !damaged && !errors.As(err, &verdict) {
		return p, err
	}
	p.Ended, p.Passed = time.Now(), err == nil
	if err != nil {
		p.Error = err.Error()
	}
	if recorded := l.rec.AddProof(ctx, p); recorded != nil {
		return p, recorded
	}
	note := store.Proof{Level: p.Level, Passed: p.Passed, Began: p.Began.UTC(), Ended: p.Ended.UTC(), Program: p.Program, Evidence: p.Evidence, Error: p.Error}
	if err := st.AddProof(ctx, id, note); err != nil {
		l.say(ctx, run, machineOf(m), "warning: the proof could not be kept in the store, only in the records: "+err.Error())
	}
	for _, e := range p.Evidence {
		l.say(ctx, run, machineOf(m), "evidence: "+e)
	}
	if damaged {
		var below *open.BrokenError
		if errors.As(err, &below) {
			id = below.Image // what leans on it is broken, too
		}
		l.say(ctx, run, machineOf(m), "image "+id+" is broken: "+p.Error)
		return p, l.rec.BreakImage(ctx, id)
	}
	return p, nil
}

// machineOf is the machine of a manifest, "" where that could not be read.
func machineOf(m *image.Manifest) string {
	if m == nil {
		return ""
	}
	return m.Machine
}

// failedProof is a verdict on the image, as opposed to trouble on the way.
type failedProof struct{ error }

// proveByMount mounts every file system, lists it, reads its files, and checks a ledger where there is one.
func (l *Lodge) proveByMount(ctx context.Context, st store.Store, m *image.Manifest) (evidence []string, err error) {
	mounted, err := l.mountImage(ctx, st, m)
	var rights mount.ErrRights
	if errors.As(err, &rights) {
		return nil, err
	}
	if err != nil {
		return nil, failedProof{err}
	}
	defer func() {
		if closed := mounted.Close(); closed != nil {
			l.log.Error("a proof's mounts could not all be removed; the next start will", "image", m.ID, "error", closed)
		}
	}()
	opened := 0
	for _, f := range mounted.FileSystems {
		if f.Folder == "" {
			evidence = append(evidence, f.Name()+": not opened: "+f.Why)
			continue
		}
		told, err := readFiles(ctx, f)
		evidence = append(evidence, told...)
		if err != nil {
			return evidence, failedProof{fmt.Errorf("%s: %w", f.Name(), err)}
		}
		opened++
	}
	if opened == 0 {
		return evidence, failedProof{errors.New("no file system of the image could be opened on this host")}
	}
	return evidence, nil
}

// mounted is an image whose file systems are mounted.
type mounted struct {
	*mount.Mounted
	disks map[string]disk.Disk
}

// Close unmounts, then closes the disks.
func (m *mounted) Close() error {
	err := m.Mounted.Close()
	closeDisks(m.disks)
	return err
}

func closeDisks(disks map[string]disk.Disk) {
	for _, d := range disks {
		d.(store.OpenedDisk).Close()
	}
}

// mountImage mounts the file systems of an image's disks.
func (l *Lodge) mountImage(ctx context.Context, st store.Store, m *image.Manifest) (*mounted, error) {
	disks := map[string]disk.Disk{}
	for _, d := range m.Disks {
		opened, err := st.OpenDisk(ctx, m, d)
		if err != nil {
			closeDisks(disks)
			return nil, err
		}
		disks[d.Target] = opened
	}
	done, err := mount.Disks(l.mounts(), disks)
	if err != nil {
		closeDisks(disks)
		return nil, err
	}
	return &mounted{done, disks}, nil
}

// readFiles reads a mounted file system's files.
func readFiles(ctx context.Context, f mount.FileSystem) (evidence []string, err error) {
	root, err := os.OpenRoot(f.Folder) // nothing in it leads out of it
	if err != nil {
		return nil, err
	}
	defer root.Close()
	var files, folders, read, bytes int64
	buffer := make([]byte, 1<<20)
	err = fs.WalkDir(root.FS(), ".", func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() {
			folders++
			return ctx.Err()
		}
		files++
		if !e.Type().IsRegular() || bytes >= mostRead {
			return ctx.Err()
		}
		file, err := root.Open(path)
		if err != nil {
			return err
		}
		defer file.Close()
		n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{file}, buffer)
		read, bytes = read+1, bytes+n
		if err != nil {
			return fmt.Errorf("read %s: %w", path, err)
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	evidence = append(evidence, fmt.Sprintf("%s: %s mounted, %d folders and %d entries listed, %d files read whole (%s)",
		f.Name(), f.Part.Format, folders, files, read, humanize.IBytes(uint64(bytes))))
	book, err := root.Open(ledger.FileName)
	if errors.Is(err, fs.ErrNotExist) {
		return evidence, nil
	}
	if err != nil {
		return evidence, err
	}
	defer book.Close()
	s, err := ledger.Check(book)
	if err != nil {
		return evidence, fmt.Errorf("%s: %w", filepath.Base(ledger.FileName), err)
	}
	return append(evidence, fmt.Sprintf("%s: %s", f.Name(), ledgerText(s))), nil
}

func ledgerText(s ledger.Summary) string {
	if s.Lines == 0 {
		return "ledger clean, no line in it yet"
	}
	return fmt.Sprintf("ledger clean, %d lines, the last of %s", s.Lines, s.Last.Format(time.RFC3339))
}
