package unpack

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
)

// What was replaced or deleted is held in a folder at the top of its mount, where it can be put by its name alone. A journal in the agent's
// folder says of each path what is about to be done with it, and then that it was: JSON, a line each.

const (
	// journals is where journals lie in the agent's folder.
	journals = "restores"
)

// errJournal marks a journal that can't be written: then nothing more is done, for it could not be undone.
var errJournal = errors.New("what is done can't be noted")

// note is a line of a journal.
type note struct {
	// Begun is the first, Until when what is held may go.
	Begun *back.Order `json:"begun,omitempty"`
	Until time.Time   `json:"until,omitzero"`
	// Temp is a temporary name that may be there.
	Temp string `json:"temp,omitempty"`
	// Step is about to be carried out; what was there is then at Hold, or had these attributes.
	Step   *back.Step        `json:"step,omitempty"`
	Hold   string            `json:"hold,omitempty"`
	Xattrs map[string][]byte `json:"xattrs,omitempty"`
	// Key is that of what the step made, which was carried out.
	Key string `json:"key,omitempty"`
	// Held is a folder in which things are held.
	Held string `json:"held,omitempty"`
}

// journal notes what is done. It does not outlive a power cut for sure, but any end of the process.
type journal struct {
	f     *os.File
	until time.Time
	keep  bool
	holds map[uint64]string // folders, by mount
	count int
}

var idForm = regexp.MustCompile(`^[a-z0-9]{4,32}$`)

// isID reports whether something can be a restore's ID.
func isID(id string) bool { return idForm.MatchString(id) }

func journalFile(folder, id string) string { return filepath.Join(folder, journals, id) }

// begin begins a journal, or goes on with that of a restore that was stopped.
func begin(folder string, o back.Order) (*journal, error) {
	if !isID(o.ID) {
		return nil, fmt.Errorf("%q is no restore's ID", o.ID)
	}
	if err := os.MkdirAll(filepath.Join(folder, journals), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(journalFile(folder, o.ID), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	j := &journal{f: f, until: time.Now().Add(KeptFor), keep: o.Keep, holds: map[uint64]string{}}
	if st, err := f.Stat(); err == nil {
		j.count = int(st.Size()) // names of what is held don't come again
	}
	return j, j.write(note{Begun: &o, Until: j.until})
}

func (j *journal) write(n note) error {
	n.Temp, n.Hold, n.Held = back.Text(n.Temp), back.Text(n.Hold), back.Text(n.Held)
	body, err := json.Marshal(n)
	if err == nil {
		_, err = j.f.Write(append(body, '\n'))
	}
	if err != nil {
		return fmt.Errorf("%w: %w", errJournal, err)
	}
	return nil
}

func (j *journal) temp(p string) error { return j.write(note{Temp: p}) }

// intend notes what is about to be done.
func (j *journal) intend(s back.Step, hold string) error {
	if !j.keep {
		return nil
	}
	return j.write(note{Step: &s, Hold: hold})
}

func (j *journal) amend(s back.Step, was map[string]string) error {
	if !j.keep {
		return nil
	}
	raw := map[string][]byte{}
	for k, v := range was {
		raw[k] = []byte(v)
	}
	return j.write(note{Step: &s, Xattrs: raw})
}

// did notes that what was intended is done, by what is there now.
func (j *journal) did(fd int, name string) error {
	if !j.keep {
		return nil
	}
	now, _, err := find(fd, name)
	if err != nil || now == nil {
		return err
	}
	return j.write(note{Key: now.Key})
}

func (j *journal) close() error { return j.f.Close() }

// drop removes a journal that is of no use any more.
func (j *journal) drop() error { return os.Remove(j.f.Name()) }

// hold is the name under which what is at a step's path is held, "" where it is not to be.
func (p *putter) hold(s back.Step) (string, error) {
	if !p.Order.Keep || s.Old == nil {
		return "", nil
	}
	mount, err := mountOf(p.fd)
	if err != nil {
		return "", err
	}
	folder, known := p.journal.holds[mount]
	if !known {
		top := p.parent
		for top != "." {
			above, err := openBelow(p.top, path.Dir(top), unix.O_PATH|unix.O_DIRECTORY, within)
			if err != nil {
				return "", err
			}
			other, err := mountOf(above)
			unix.Close(above)
			if err != nil {
				return "", err
			}
			if other != mount {
				break
			}
			top = path.Dir(top)
		}
		for _, name := range []string{files.HeldFolder, path.Join(files.HeldFolder, p.Order.ID)} {
			place := path.Join(top, name)
			if err := unix.Mkdirat(p.top, place, 0o700); err != nil && !errors.Is(err, unix.EEXIST) {
				return "", fmt.Errorf("a place to hold what is replaced, /%s: %w", place, err)
			}
			folder = place
		}
		if err := p.journal.write(note{Held: folder}); err != nil {
			return "", err
		}
		p.journal.holds[mount] = folder
	}
	p.journal.count++
	return path.Join(folder, fmt.Sprint(p.journal.count)), nil
}

// mountOf tells one mount from another: a file system may be mounted at several places, and nothing moves from one to the other by its name alone.
func mountOf(fd int) (uint64, error) {
	var x unix.Statx_t
	err := unix.Statx(fd, "", unix.AT_EMPTY_PATH, unix.STATX_MNT_ID, &x)
	return x.Mnt_id, err
}

// read reads a journal. A last line that was cut is passed over.
func read(folder, id string) (notes []note, err error) {
	f, err := os.Open(journalFile(folder, id))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	in := bufio.NewReader(f)
	for {
		line, err := in.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return notes, nil
		}
		if err != nil {
			return nil, err
		}
		var n note
		if json.Unmarshal(line, &n) != nil {
			return notes, nil
		}
		n.Temp, n.Hold, n.Held = back.Bytes(n.Temp), back.Bytes(n.Hold), back.Bytes(n.Held)
		notes = append(notes, n)
	}
}

// ErrGone marks a restore of which nothing is held, or not any more.
var ErrGone = errors.New("nothing is held of it")

// Undo puts back what a restore replaced, deleted or amended, and removes what it made, as far as that is as the restore left it. What is not is told,
// and stays. It may be called again.
func (p Place) Undo(ctx context.Context, id string, told func(back.Progress)) (done back.Done, err error) {
	if !isID(id) {
		return done, fmt.Errorf("%q is no restore's ID", id)
	}
	notes, err := read(p.Folder, id)
	if errors.Is(err, fs.ErrNotExist) || err == nil && (len(notes) == 0 || notes[0].Begun == nil || !notes[0].Begun.Keep) {
		return done, fmt.Errorf("%w: restore %s", ErrGone, id)
	}
	if err != nil {
		return done, err
	}
	top, err := p.open()
	if err != nil {
		return done, err
	}
	defer unix.Close(top)
	var at back.Progress
	last := time.Now()
	key := ""
	for _, n := range slices.Backward(notes) {
		if n.Key != "" {
			key = n.Key
		}
		if n.Step == nil {
			continue
		}
		if ctx.Err() != nil {
			return done, context.Cause(ctx)
		}
		if err := undo(top, n, key); err != nil {
			done.Fail("/"+n.Step.Path, err)
		} else {
			done.Add(*n.Step)
		}
		key = ""
		if at.Paths++; time.Since(last) > tellEvery {
			last = time.Now()
			told(at)
		}
	}
	if done.Failures > 0 {
		return done, nil // what could not go back is held on
	}
	return done, p.forget(id, notes)
}

// errElse marks what somebody else changed since.
var errElse = errors.New("it was changed since the restore, and was left as it is")

// undo takes one step back. key is that of what it made, "" where it may not have been carried out.
func undo(top int, n note, key string) error {
	s := n.Step
	name := path.Base(s.Path)
	fd, err := openBelow(top, path.Dir(s.Path), unix.O_RDONLY|unix.O_DIRECTORY, within)
	if errors.Is(err, unix.ENOENT) && s.Action != back.Delete {
		return nil // with its folder
	}
	if err != nil {
		return fmt.Errorf("open /%s: %w", path.Dir(s.Path), err)
	}
	defer unix.Close(fd)
	now, _, err := find(fd, name)
	if err != nil {
		return err
	}
	asMade := now != nil && now.Key == key
	switch s.Action {
	case back.Make, back.Beside:
		if now == nil {
			return nil
		}
		if s.Kind == files.Dir {
			err := unix.Unlinkat(fd, name, unix.AT_REMOVEDIR)
			if errors.Is(err, unix.ENOTEMPTY) || errors.Is(err, unix.ENOTDIR) {
				return errElse
			}
			return err
		}
		if key == "" {
			return errors.New("it is not known whether the restore made it, so it was left as it is")
		}
		if !asMade && !linkMore(now.Key, key) {
			return errElse
		}
		return unix.Unlinkat(fd, name, 0)
	case back.Replacing:
		held, _, err := find(top, n.Hold)
		if err != nil || held == nil {
			return err // it was put back before, or never taken away
		}
		if now != nil && key != "" && !asMade && !linkMore(now.Key, key) && now.Kind != files.Dir {
			return errElse
		}
		if now != nil && now.Kind == files.Dir {
			if err := unix.Unlinkat(fd, name, unix.AT_REMOVEDIR); err != nil {
				return errElse
			}
		}
		return unix.Renameat(top, n.Hold, fd, name)
	case back.Amend:
		if key == "" || now == nil || s.Kind != files.Dir && !asMade && !linkMore(now.Key, key) {
			if key == "" {
				return nil
			}
			return errElse
		}
		return redress(fd, name, s.Old, n.Xattrs)
	case back.Delete:
		if s.Kind == files.Dir {
			err := unix.Mkdirat(fd, name, 0o700)
			if errors.Is(err, unix.EEXIST) {
				err = nil
			}
			if err != nil {
				return err
			}
			return redress(fd, name, s.Old, n.Xattrs)
		}
		held, _, err := find(top, n.Hold)
		if err != nil || held == nil {
			return err
		}
		if now != nil {
			return errElse
		}
		return unix.Renameat2(top, n.Hold, fd, name, unix.RENAME_NOREPLACE)
	}
	return nil
}

// linkMore reports whether two keys are of one file of which only another name came or went: that changes when it changed last, and nothing else.
func linkMore(a, b string) bool {
	return a != "" && lasting(a) == lasting(b)
}

// lasting is what of a key lasts when a name comes or goes.
func lasting(key string) string {
	_, rest, _ := strings.Cut(key, ".")
	return rest
}

// forget removes what a restore holds, its temporary files, and its journal.
func (p Place) forget(id string, notes []note) error {
	top, err := p.open()
	if err != nil {
		return err
	}
	defer unix.Close(top)
	var errs []error
	gone := func(err error) {
		if err != nil && !errors.Is(err, unix.ENOENT) && !errors.Is(err, unix.ENOTDIR) && !errors.Is(err, unix.ELOOP) && !errors.Is(err, unix.EXDEV) {
			errs = append(errs, err)
		}
	}
	for _, n := range notes {
		if n.Temp != "" && strings.HasPrefix(path.Base(n.Temp), ".keenlodge-"+id) {
			gone(removeBelow(top, n.Temp))
		}
		if n.Held == "" || path.Base(n.Held) != id {
			continue
		}
		fd, err := openBelow(top, n.Held, unix.O_RDONLY|unix.O_DIRECTORY, within)
		if err != nil {
			gone(err)
			continue
		}
		f := os.NewFile(uintptr(fd), n.Held)
		names, err := f.Readdirnames(-1)
		gone(err)
		for _, name := range names {
			gone(unix.Unlinkat(fd, name, 0))
		}
		f.Close()
		gone(unix.Unlinkat(top, n.Held, unix.AT_REMOVEDIR))
		if err := unix.Unlinkat(top, path.Dir(n.Held), unix.AT_REMOVEDIR); !errors.Is(err, unix.ENOTEMPTY) {
			gone(err)
		}
	}
	if len(errs) > 0 {
		return errors.Join(errs...)
	}
	return os.Remove(journalFile(p.Folder, id))
}

// removeBelow removes a file, over no link.
func removeBelow(top int, p string) error {
	fd, err := openBelow(top, path.Dir(p), unix.O_PATH|unix.O_DIRECTORY, within)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	err = unix.Unlinkat(fd, path.Base(p), 0)
	if errors.Is(err, unix.EISDIR) {
		err = unix.Unlinkat(fd, path.Base(p), unix.AT_REMOVEDIR)
	}
	return err
}

// Tidy removes temporary files that restores left which died, and what is held of those whose day is over. using reports whether a restore is under
// way.
func (p Place) Tidy(now time.Time, using func(id string) bool) (found []string, err error) {
	names, err := filepath.Glob(filepath.Join(p.Folder, journals, "*"))
	errs := []error{err}
	top, err := p.open()
	if err != nil {
		return nil, err
	}
	defer unix.Close(top)
	for _, file := range names {
		id := filepath.Base(file)
		if using(id) {
			continue
		}
		notes, err := read(p.Folder, id)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		var until time.Time
		keep := false
		for _, n := range notes {
			if n.Begun != nil {
				until, keep = n.Until, keep || n.Begun.Keep
			}
			if n.Temp != "" && strings.HasPrefix(path.Base(n.Temp), ".keenlodge-"+id) && removeBelow(top, n.Temp) == nil {
				found = append(found, "/"+n.Temp)
			}
		}
		if !keep || now.After(until) {
			errs = append(errs, p.forget(id, notes))
		}
	}
	return found, errors.Join(errs...)
}
