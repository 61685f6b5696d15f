package medium

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/probe"
)

// Doing words what was tried, for errors of media: a verb, the object (or "" for the place as a whole) and the place.
func Doing(verb, name string, place fmt.Stringer) string {
	if name == "" {
		return fmt.Sprintf("%s %s", verb, place)
	}
	return fmt.Sprintf("%s %s in %s", verb, name, place)
}

// Exposer is a medium that can tell whether strangers can read what is on it. name is an object that exists; the text is empty
// if they can't.
type Exposer interface {
	Exposed(ctx context.Context, name string) (text string, err error)
}

// Lasting is a medium that can tell whether what it took survives a power cut there. The text says why not; it is empty if it does.
type Lasting interface {
	Lasts(ctx context.Context) (text string, err error)
}

// clockSlack is how far the medium's clock may be off before a probe warns.
const clockSlack = time.Minute

// Probe tries a place: open it, write, read back, list, delete, room, clock, and who else can read. It ends at the first step
// without which the others make no sense. What it writes it deletes. For what is to be locked it tries whether the place keeps to it, too.
func Probe(ctx context.Context, locked bool, open func(context.Context) (Medium, error)) []probe.Step {
	var steps probe.Steps
	tell := steps.Tell
	m, err := open(ctx)
	if err != nil {
		tell("reach", probe.Failed, "%v", Advise(err))
		return steps
	}
	defer m.Close()
	tell("reach", probe.OK, "%s", m)

	name := fmt.Sprintf("probe/%016x", rand.Uint64())
	content := noise(64 << 10)
	begun := time.Now()
	if err := m.Put(ctx, name, content); err != nil {
		tell("write", probe.Failed, "%v", Advise(err))
		return steps
	}
	took := time.Since(begun)
	tell("write", probe.OK, "64 KiB in %s", took.Round(time.Millisecond))
	defer m.Delete(context.WithoutCancel(ctx), name) // again, for what ends before

	begun = time.Now()
	back, err := m.Get(ctx, name, 100, 1000)
	switch {
	case err != nil:
		tell("read", probe.Failed, "%v", Advise(err))
	case !bytes.Equal(back, content[100:1100]):
		tell("read", probe.Failed, "what came back is not what was written")
	default:
		tell("read", probe.OK, "a part of it in %s", time.Since(begun).Round(time.Millisecond))
	}
	if err == nil {
		switch text, err := speed(ctx, m, name+"-large"); {
		case err != nil:
			tell("speed", probe.Warning, "could not find out how fast it is: %v", Advise(err))
		default:
			tell("speed", probe.OK, "%s", text)
		}
	}
	seen := false
	err = m.List(ctx, "probe/", func(o Object) error { seen = seen || o.Name == name && o.Size == int64(len(content)); return nil })
	switch {
	case err != nil:
		tell("list", probe.Failed, "%v", Advise(err))
	case !seen:
		tell("list", probe.Failed, "what was written does not appear in the list")
	default:
		tell("list", probe.OK, "what was written appears at once")
	}
	if o, err := m.Stat(ctx, name); err != nil {
		tell("clock", probe.Failed, "%v", Advise(err))
	} else if off := o.Modified.Sub(begun).Abs() - took; off > clockSlack {
		tell("clock", probe.Warning, "the clocks differ by %s; set one of them right (NTP)", off.Round(time.Second))
	} else {
		tell("clock", probe.OK, "the clocks agree")
	}
	if e, ok := m.(Exposer); ok {
		switch text, err := e.Exposed(ctx, name); {
		case err != nil:
			tell("privacy", probe.Warning, "could not find out who else can read: %v", err)
		case text != "":
			tell("privacy", probe.Warning, "%s", text)
		default:
			tell("privacy", probe.OK, "strangers can't read it")
		}
	}
	if l, ok := m.(Lasting); ok {
		switch text, err := l.Lasts(ctx); {
		case err != nil:
			tell("lasting", probe.Warning, "could not find out whether what is written survives a power cut: %v", err)
		case text != "":
			tell("lasting", probe.Warning, "%s", text)
		default:
			tell("lasting", probe.OK, "what is written is made durable before it counts")
		}
	}
	switch h, ok := m.(Locker); {
	case ok && locked:
		switch err := tryLock(ctx, h, name+"-locked"); {
		case errors.Is(err, errNotKept):
			tell("lock", probe.Failed, "%v; don't count on its lock", err)
		case err != nil:
			tell("lock", probe.Warning, "could not find out whether it locks what it is to lock: %v", Advise(err))
		default:
			tell("lock", probe.OK, "what is locked stays %s", h.Locks())
		}
	case ok:
		tell("lock", probe.OK, "what is locked would stay %s", h.Locks())
	case locked:
		tell("lock", probe.Warning, "the place itself locks nothing: against who gets at it past this lodge, the lock does not help")
	}
	if err := m.Delete(ctx, name); err != nil {
		tell("delete", probe.Failed, "%v", Advise(err))
	} else if _, err := m.Stat(ctx, name); !errors.Is(err, ErrNotFound) {
		tell("delete", probe.Failed, "what was deleted is still there")
	} else {
		tell("delete", probe.OK, "what was written is gone")
	}
	room, err := m.Room(ctx)
	switch {
	case err != nil:
		tell("room", probe.Warning, "%v", err)
	case room.FreeBytes < 0:
		tell("room", probe.OK, "the medium does not tell")
	case room.FreeInodes >= 0 && room.TotalInodes > 0:
		tell("room", probe.OK, "%s free of %s, %s inodes free", humanize.IBytes(uint64(room.FreeBytes)), humanize.IBytes(uint64(room.TotalBytes)), humanize.Comma(room.FreeInodes))
	default:
		tell("room", probe.OK, "%s free of %s", humanize.IBytes(uint64(room.FreeBytes)), humanize.IBytes(uint64(room.TotalBytes)))
	}
	return steps
}

// errNotKept marks a place that promises to lock objects and does not.
var errNotKept = errors.New("the place says that it locks objects, and did not")

// lockedFor is how long an object is locked to see whether it is, and given that long again to go.
const lockedFor = 4 * time.Second

// tryLock has an object locked, tries to delete and to overwrite it, and deletes it when its time is over.
func tryLock(ctx context.Context, m Locker, name string) (err error) {
	content := noise(4 << 10)
	if err := m.Put(ctx, name+"-clock", content); err != nil {
		return err
	}
	o, err := m.Stat(ctx, name+"-clock")
	if err = errors.Join(err, m.Delete(ctx, name+"-clock")); err != nil {
		return err
	}
	until := o.Modified.Add(lockedFor) // by the place's own clock
	if err := m.PutUntil(ctx, name, content, until); err != nil {
		return err
	}
	gone := func() error {
		for {
			err := m.Delete(ctx, name)
			if !errors.Is(err, ErrLocked) {
				return err
			}
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(time.Second):
			}
			if time.Since(until) > time.Minute {
				return err
			}
		}
	}
	defer func() { err = errors.Join(err, gone()) }()
	switch err := m.Delete(ctx, name); {
	case err == nil:
		return fmt.Errorf("%w: a deletion was not refused", errNotKept)
	case !errors.Is(err, ErrLocked):
		return err
	}
	if err := m.Extend(ctx, name, until.Add(time.Second)); err != nil {
		return err
	}
	if err := m.Put(ctx, name, noise(4<<10)); err != nil && !errors.Is(err, ErrLocked) {
		return err
	}
	switch back, err := m.Get(ctx, name, 0, -1); {
	case err != nil && !errors.Is(err, ErrNotFound):
		return err
	case err != nil || !bytes.Equal(back, content):
		return fmt.Errorf("%w: what was put over it is read in its place", errNotKept)
	}
	return nil
}

// enough is how long an object must take before its time tells how fast a medium is; no larger ones than largest are tried.
const (
	enough  = 500 * time.Millisecond
	largest = 16 << 20
)

// speed writes objects of growing size, so that a thin line is not kept busy for long, and reads the last one back.
func speed(ctx context.Context, m Medium, prefix string) (text string, err error) {
	var content []byte
	var wrote time.Duration
	var name string
	for size := 1 << 20; size <= largest && wrote < enough; size *= 4 {
		content, name = noise(size), fmt.Sprintf("%s-%d", prefix, size)
		defer func(name string) { err = errors.Join(err, m.Delete(context.WithoutCancel(ctx), name)) }(name)
		begun := time.Now()
		if err := m.Put(ctx, name, content); err != nil {
			return "", err
		}
		wrote = time.Since(begun)
	}
	begun := time.Now()
	back, err := m.Get(ctx, name, 0, -1)
	if err != nil {
		return "", err
	}
	read := time.Since(begun)
	if !bytes.Equal(back, content) {
		return "", errors.New("what came back is not what was written")
	}
	per := func(d time.Duration) string {
		return humanize.IBytes(uint64(float64(len(content))/max(d.Seconds(), 1e-6))) + "/s"
	}
	return fmt.Sprintf("%s written at %s and read at %s, one object at a time", humanize.IBytes(uint64(len(content))), per(wrote), per(read)), nil
}

// noise is content that nothing on the way can make smaller.
func noise(size int) []byte {
	content := make([]byte, size)
	source := rand.NewChaCha8([32]byte(binary.LittleEndian.AppendUint64(make([]byte, 24), rand.Uint64())))
	source.Read(content)
	return content
}

// Advise adds to an error what a person can do about it, unless it says so itself.
func Advise(err error) error {
	if strings.Contains(err.Error(), "; ") {
		return err
	}
	for sentinel, advice := range map[error]string{
		ErrUnreachable: "is the address right, the host up, and no firewall between?",
		ErrRefused:     "check the user, and the key or password (keenlodge store secret)",
		ErrNoRight:     "give the account the right to write there",
		ErrNoPlace:     "create it, or name another",
		ErrFull:        "make room or choose another place",
	} {
		if errors.Is(err, sentinel) {
			return fmt.Errorf("%w; %s", err, advice)
		}
	}
	return err
}
