package unpack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/inode"
)

// KeptFor is how long what was replaced or deleted is kept.
const KeptFor = 24 * time.Hour

// tellEvery is how often it is told how far a restore has come.
const tellEvery = 500 * time.Millisecond

// errChanged marks what is not as it was when the plan was made.
var errChanged = errors.New("it changed since it was looked at, and was left as it is")

// putter carries out a plan.
type putter struct {
	*Restore
	ctx     context.Context
	top     int
	steps   map[string]back.Step // those that are yet to be carried out, by the path in the image
	places  map[string]string    // where entries of the image go to that are written
	linked  map[string]bool      // what lasts of the keys of files that got or lost a name by us
	journal *journal
	done    back.Done
	at      back.Progress
	told    func(back.Progress)
	last    time.Time
	buffer  []byte

	parent  string
	fd      int
	cleared map[string]bool          // what went before the others
	touched map[string]unix.Timespec // when folders had been written to before
	amend   []amending               // folders, once all that lies in them is there
	devices map[uint64]int           // an open folder of each
	names   int
}

// amending is a folder that gets its own at last.
type amending struct {
	step back.Step
	e    files.Entry
}

// Put carries out what is planned. The archive has what the plan takes from the image, in the order of lists, and perhaps more; told is called now and
// then. What can't be done for single paths is told in what is returned; an error ends the restore, and says where it stood. Then it can be planned
// again, and goes on with what is not there yet.
func (r *Restore) Put(ctx context.Context, archive *files.Reader, told func(back.Progress)) (_ back.Done, err error) {
	p := &putter{Restore: r, ctx: ctx, steps: map[string]back.Step{}, places: map[string]string{}, linked: map[string]bool{}, cleared: map[string]bool{}, told: told, buffer: make([]byte, 1<<20), fd: -1, parent: "\x00", touched: map[string]unix.Timespec{}, devices: map[uint64]int{}}
	if r.Order.Look {
		return p.done, errors.New("this plan was made to be looked at only")
	}
	if r.Short != "" {
		return p.done, fmt.Errorf("%s: nothing was written; make room, or restore less", r.Short)
	}
	if p.top, err = r.place.open(); err != nil {
		return p.done, err
	}
	defer unix.Close(p.top)
	defer p.leave()
	defer func() {
		for _, fd := range p.devices {
			err = errors.Join(err, unix.Syncfs(fd))
			unix.Close(fd)
		}
	}()
	if p.journal, err = begin(r.place.Folder, r.Order); err != nil {
		return p.done, err
	}
	defer func() { err = errors.Join(err, p.journal.close()) }()
	if r.Order.Keep {
		p.done.Kept = p.journal.until
	}
	for _, s := range r.Steps {
		if s.Action.Writes() {
			p.steps[s.From], p.places[s.From] = s, s.Path
		}
	}
	if err := p.write(archive); err != nil {
		return p.done, err
	}
	for _, s := range r.Steps {
		if s.Action == back.Delete && !p.cleared[s.Path] {
			if err := p.settle(s, p.remove(s)); err != nil {
				return p.done, err
			}
		}
	}
	err = p.finish()
	if err == nil && !r.Order.Keep {
		err = p.journal.drop()
	}
	return p.done, err
}

// tell tells now and then how far it has come.
func (p *putter) tell() {
	if now := time.Now(); now.Sub(p.last) > tellEvery {
		p.last = now
		p.told(p.at)
	}
}

func (p *putter) leave() {
	if p.fd >= 0 {
		unix.Close(p.fd)
	}
	p.fd, p.parent = -1, "\x00"
}

// write writes what the archive brings.
func (p *putter) write(archive *files.Reader) error {
	for {
		if p.ctx.Err() != nil {
			return p.stopped("", context.Cause(p.ctx))
		}
		step, err := archive.Next()
		if err != nil {
			return p.stopped("", err)
		}
		if step.Last != nil {
			break
		}
		if step.Entry == nil {
			continue
		}
		e := step.Entry
		s, planned := p.steps[e.Path]
		delete(p.steps, e.Path)
		if s.Clears {
			if err := p.clear(s); err != nil {
				return err
			}
		}
		if planned && e.Kind == files.File && e.Same == "" && s.Action != back.Amend {
			p.owned.own(e)
			err = p.file(s, e, archive)
		} else {
			if _, err := io.Copy(io.Discard, archive); err != nil {
				return p.stopped(s.Path, err)
			}
			if err := archive.Settle(e); err != nil {
				return p.stopped(s.Path, err)
			}
			if planned {
				p.owned.own(e)
				err = p.other(s, e)
			}
		}
		if err := p.settle(s, err); planned && err != nil {
			return err
		}
	}
	p.done.Lack(p.Steps, p.steps)
	return nil
}

// clear removes the folder whose place a step takes. What does not work there shows when that is made.
func (p *putter) clear(s back.Step) error {
	for _, d := range p.Steps {
		if d.Action == back.Delete && inFolder(d.Path, s.Path) {
			p.cleared[d.Path] = true
			if err := p.settle(d, p.remove(d)); err != nil {
				return err
			}
		}
	}
	p.leave()
	return nil
}

// cut is an error of the archive, not of what is written.
type cut struct{ error }

func (c cut) Unwrap() error { return c.error }

// stopped is why the restore ended before its end, and where.
func (p *putter) stopped(at string, err error) error {
	var c cut
	if errors.As(err, &c) {
		err = c.error
	}
	return p.at.Stopped(at, err)
}

// settle counts a step that was carried out, or notes why not. What concerns all that follows is returned.
func (p *putter) settle(s back.Step, err error) error {
	var c cut
	switch {
	case err == nil:
		if s.Action.Acts() {
			p.done.Add(s)
			p.at.Paths++
		}
		p.tell()
		return nil
	case errors.As(err, &c), errors.Is(err, unix.ENOSPC), errors.Is(err, unix.EDQUOT), errors.Is(err, unix.EIO), errors.Is(err, unix.EROFS), errors.Is(err, errJournal):
		return p.stopped(s.Path, err)
	}
	p.done.Fail("/"+s.Path, err)
	return nil
}

// enter opens the folder of a path, and makes it where it is not there.
func (p *putter) enter(folder string) error {
	if folder == p.parent {
		return nil
	}
	p.leave()
	fd, err := openBelow(p.top, folder, unix.O_RDONLY|unix.O_DIRECTORY, within)
	if errors.Is(err, unix.ENOENT) && folder != "." {
		if err := p.enter(path.Dir(folder)); err != nil {
			return err
		}
		s := back.Step{Action: back.Make, Path: folder, Kind: files.Dir}
		if err := p.journal.intend(s, ""); err != nil {
			return err
		}
		if err := unix.Mkdirat(p.fd, path.Base(folder), 0o755); err != nil && !errors.Is(err, unix.EEXIST) {
			return fmt.Errorf("make /%s: %w", folder, err)
		}
		if err := p.journal.did(p.fd, path.Base(folder)); err != nil {
			return err
		}
		p.leave()
		fd, err = openBelow(p.top, folder, unix.O_RDONLY|unix.O_DIRECTORY, within)
	}
	if err != nil {
		return fmt.Errorf("open /%s: %w", folder, err)
	}
	p.fd, p.parent = fd, folder
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if _, known := p.touched[folder]; !known {
		p.touched[folder] = st.Mtim
	}
	if _, known := p.devices[st.Dev]; !known {
		if p.devices[st.Dev], err = unix.FcntlInt(uintptr(fd), unix.F_DUPFD_CLOEXEC, 0); err != nil {
			return err
		}
	}
	return nil
}

// asPlanned reports whether a path is as it was when the plan was made.
func (p *putter) asPlanned(s back.Step) error {
	now, _, err := find(p.fd, path.Base(s.Path))
	if err != nil {
		return err
	}
	key := func(f *back.Found) string {
		if f == nil {
			return ""
		}
		return f.Key
	}
	old := s.Old
	if s.Action == back.Make || s.Action == back.Beside { // what is beside it does not matter
		old = nil
	}
	if key(now) != key(old) && !(p.linked[lasting(key(now))] && linkMore(key(now), key(old))) {
		return errChanged
	}
	return nil
}

// remove removes what is planned to go.
func (p *putter) remove(s back.Step) error {
	if err := p.enter(path.Dir(s.Path)); err != nil {
		return err
	}
	name := path.Base(s.Path)
	if s.Kind == files.Dir {
		was, err := inode.XattrsOf(inode.Within(p.fd, name))
		if err == nil {
			err = p.journal.amend(s, was)
		}
		if err != nil {
			return err
		}
		if err := unix.Unlinkat(p.fd, name, unix.AT_REMOVEDIR); err != nil {
			return fmt.Errorf("remove the folder: %w", err)
		}
		return nil
	}
	if err := p.asPlanned(s); err != nil {
		return err
	}
	hold, err := p.hold(s)
	if err != nil {
		return err
	}
	if err := p.journal.intend(s, hold); err != nil {
		return err
	}
	p.linked[lasting(s.Old.Key)] = true
	if hold != "" {
		err = unix.Renameat(p.fd, name, p.top, hold)
	} else {
		err = unix.Unlinkat(p.fd, name, 0)
	}
	if err != nil {
		return fmt.Errorf("remove it: %w", err)
	}
	return nil
}

// finish gives folders what is theirs, from the deepest on: what is written in one changes its time.
func (p *putter) finish() error {
	p.leave()
	amended := map[string]bool{}
	for _, a := range slices.Backward(p.amend) {
		amended[a.step.Path] = true
		if err := p.enter(path.Dir(a.step.Path)); err != nil {
			return err
		}
		var err error
		if a.step.Action == back.Amend {
			err = p.amendOne(a.step, &a.e, p.fd, path.Base(a.step.Path))
		} else {
			err = dressAt(inode.Within(p.fd, path.Base(a.step.Path)), &a.e, false)
		}
		if err != nil {
			p.done.Fail("/"+a.step.Path, err)
		}
	}
	p.leave()
	if p.Order.Existing != back.Replace { // elsewhere its time says that something was put into it
		return nil
	}
	for folder, was := range p.touched {
		if amended[folder] || !p.asked(folder) {
			continue
		}
		fd, err := openBelow(p.top, folder, unix.O_RDONLY|unix.O_DIRECTORY, within)
		if err != nil {
			continue // it went again
		}
		err = unix.UtimesNanoAt(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", fd), []unix.Timespec{{Nsec: unix.UTIME_OMIT}, was}, 0)
		unix.Close(fd)
		if err != nil {
			p.done.Fail("/"+folder, fmt.Errorf("set its time: %w", err))
		}
	}
	return nil
}

// asked reports whether a folder is one of those that were to be as they are in the image.
func (p *putter) asked(folder string) bool {
	return slices.ContainsFunc(p.Order.Roots, func(r back.Root) bool { return inFolder(folder, r.To) })
}
