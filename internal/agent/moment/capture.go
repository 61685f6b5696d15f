package moment

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/core/digest"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
)

const (
	// readers is how many reads of a disk are under way at once.
	readers = 4
	// mostHeld bounds what is read into memory while file systems stand still, in bytes.
	mostHeld = 64 << 20
	// tries is how often one instant is tried in one round, quietTries where nothing stands still for it.
	tries, quietTries = 3, 40
	digestsFolder     = "digests"
	partial           = ".part-"
)

// Capture is one of this server's disks that goes on.
type Capture struct {
	id, folder string
	settings   string        // the folder of commands
	mounts     []block.Mount // on its disks, the last mounted first
	trace      *tracker
	disks      []*captured
	warnings   []string

	settling sync.Mutex
	round    int
	settled  line.Settled // what the round came to
}

// captured is a disk of a capture.
type captured struct {
	*live
	strict  *block.Direct // without holes
	digests *remembered   // of this image, nil where nothing is to be remembered
	since   disk.Disk     // what changed since an earlier image, nil where that is not told
	why     string        // it is not, though it was asked for
	watched disk.Disk     // the disk, with its digests noted
	now     []disk.Disk   // by round: 0 is the disk itself
	pending written       // what was written since it was read last
}

// Begin begins a capture of some devices. folder is one of the agent's, settings that in which commands lie.
func Begin(ctx context.Context, folder, settings string, devices []block.Device, b line.Begin) (c *Capture, err error) {
	if !image.IsID(b.ID) || b.Since != "" && !image.IsID(b.Since) {
		return nil, fmt.Errorf("%q since %q: these are no images' IDs", b.ID, b.Since)
	}
	c = &Capture{id: b.ID, folder: folder, settings: settings}
	defer func() {
		if err != nil {
			err = errors.Join(err, c.End(false))
			c = nil
		}
	}()
	all, err := block.Mounts()
	if err != nil {
		return c, err
	}
	c.mounts = block.On(all, devices)
	numbers := make([]uint32, len(devices))
	for i, d := range devices {
		numbers[i] = d.Number
	}
	if c.trace, err = track(b.ID, numbers); err != nil {
		return c, err
	}
	// What is written from here on is followed; what was before is brought to the disks, so that it can be read there.
	if err := c.flush(); err != nil {
		return c, err
	}
	for _, d := range devices {
		k := &captured{live: &live{Device: d}, pending: written{}}
		if k.strict, err = d.Open(); err != nil {
			return c, err
		}
		if k.r = k.strict; b.Holes {
			k.r = k.strict.Holed()
		}
		c.disks = append(c.disks, k)
		if k.m, err = block.MapOf(ctx, d, k.strict, c.mounts); err != nil {
			return c, err
		}
		k.watched = k.live
		if b.Remember {
			if err := c.remember(k); err != nil { // it spares the next image something, and this one must not fail for want of it
				c.warnings = append(c.warnings, fmt.Sprintf("what disk %s is like now can't be noted, so its next image will be full: %v", d.Target, err))
			}
		}
		k.now = []disk.Disk{k.watched}
		if b.Since != "" {
			if err := c.compare(ctx, k, b.Since); err != nil {
				return c, err
			}
		}
	}
	return c, nil
}

// flush brings what file systems have to their disks.
func (c *Capture) flush() error {
	for _, m := range c.mounts {
		f, err := os.Open(m.Path)
		if err == nil {
			err = unix.Syncfs(int(f.Fd()))
			f.Close()
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("write out the file system at %s: %w", m.Path, err)
		}
	}
	return nil
}

func digestFile(folder, id, target string) string {
	return filepath.Join(folder, digestsFolder, id+"-"+target)
}

// remember begins to note a disk's digests.
func (c *Capture) remember(k *captured) error {
	if err := os.MkdirAll(filepath.Join(c.folder, digestsFolder), 0o700); err != nil {
		return err
	}
	place := digestFile(c.folder, c.id, k.Target)
	f, err := os.OpenFile(filepath.Join(filepath.Dir(place), partial+filepath.Base(place)), os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	w, err := digest.CreateSparse(f, k.Size(), k.m.Used.All())
	if err != nil {
		f.Close()
		return errors.Join(err, os.Remove(f.Name()))
	}
	k.digests = &remembered{w, f, place}
	k.watched = w.Watch(k.live)
	return nil
}

// abandon gives up noting what a disk is like: that spares the next image something, and this one must not fail for want of it.
func (k *captured) abandon() {
	k.digests.drop()
	k.digests, k.watched = nil, k.live
	k.now = append([]disk.Disk{k.live}, k.now[1:]...)
}

// compare finds what changed on a disk since an image, by its digests. Whatever is wrong with those is why that is not told.
func (c *Capture) compare(ctx context.Context, k *captured, since string) error {
	f, err := os.Open(digestFile(c.folder, since, k.Target))
	if errors.Is(err, fs.ErrNotExist) {
		k.why = "what it was like in image " + since + " is not remembered on the server"
		return nil
	}
	if k.digests == nil {
		k.why = "nothing can be noted of it now"
		return nil
	}
	var older *digest.Digests
	if err == nil {
		defer f.Close()
		older, err = open(f)
	}
	switch {
	case err != nil:
		k.why = "what it was like in image " + since + ": " + err.Error()
		return nil
	case older.DiskSize() != k.Size():
		k.why = fmt.Sprintf("it had %d bytes in image %s", older.DiskSize(), since)
		return nil
	}
	changed, err := digest.Compare(ctx, k.live, older, k.digests.Writer)
	switch {
	case isFull(err):
		k.why = "what it is like now can't be noted: " + err.Error()
		k.abandon()
		return nil
	case err != nil:
		return fmt.Errorf("disk %s: %w", k.Target, err)
	}
	k.since = &fresh{changed, c, k}
	return nil
}

func open(f *os.File) (*digest.Digests, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return digest.Open(f, info.Size())
}

// isFull reports whether the server has no room for what was to be written.
func isFull(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }

// fresh is a disk with what changed since an image, and since that was compared.
type fresh struct {
	*digest.Changed
	c *Capture
	k *captured
}

// Extents implements [disk.Disk]: what was written is data, and the rest is as it was compared.
func (f *fresh) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	now := &patch{f.Size(), f.c.trace.peek(f.k.Number).extents(f.Size(), true), f.k.live}
	return disk.Over(now, f.Changed).Extents(ctx, offset, length)
}

// Begun is what the capture offers.
func (c *Capture) Begun() (disks []line.BegunDisk, warnings []string) {
	for _, k := range c.disks {
		disks = append(disks, line.BegunDisk{Target: k.Target, Size: k.Size(), Since: k.since != nil, Why: k.why})
	}
	return disks, c.warnings
}

// Maps are what lies on its disks, by target.
func (c *Capture) Maps() map[string]*block.Map {
	out := map[string]*block.Map{}
	for _, k := range c.disks {
		out[k.Target] = k.m
	}
	return out
}

// Disk is a disk of the capture as it is in a round, and, where that is told, with what of it is unchanged.
func (c *Capture) Disk(target string, round int) (whole, changed disk.Disk, err error) {
	c.settling.Lock()
	defer c.settling.Unlock()
	i := slices.IndexFunc(c.disks, func(k *captured) bool { return k.Target == target })
	if i < 0 {
		return nil, nil, fmt.Errorf("the capture has no disk %s", target)
	}
	k := c.disks[i]
	switch {
	case round == 0:
		return k.now[0], k.since, nil
	case round != c.round || len(k.now) < 2:
		return nil, nil, fmt.Errorf("disk %s is in round %d, not %d", target, c.round, round)
	}
	return k.watched, k.now[1], nil
}

// Settle brings the capture nearer to one instant: what was written since it was read is to be read again, until that is so little that it can be
// read while nothing is written.
func (c *Capture) Settle(ctx context.Context, s line.Settle) (line.Settled, error) {
	c.settling.Lock()
	defer c.settling.Unlock()
	if c.disks == nil {
		return line.Settled{}, errors.New("the capture has ended")
	}
	if s.Round == c.round {
		return c.settled, nil // the answer was lost on the way
	}
	if s.Round != c.round+1 || c.settled.Done {
		return line.Settled{}, fmt.Errorf("the capture is in round %d, not before %d", c.round, s.Round)
	}
	got, err := c.settle(ctx, s)
	if err != nil {
		return got, err
	}
	if got.Done {
		got.Holes = c.holes()
	}
	c.round, c.settled = s.Round, got
	return got, nil
}

// holes are the places that could not be read, by target.
func (c *Capture) holes() map[string][]line.Range {
	out := map[string][]line.Range{}
	for _, k := range c.disks {
		for _, e := range k.r.Holes() {
			out[k.Target] = append(out[k.Target], line.Range{Offset: e.Offset, Length: e.Length})
		}
	}
	return out
}

func (c *Capture) settle(ctx context.Context, s line.Settle) (got line.Settled, err error) {
	if err := c.flush(); err != nil {
		return got, err
	}
	if err := c.gather(ctx); err != nil {
		return got, err
	}
	if c.weight() > mostHeld {
		if err := c.leaveFree(ctx); err != nil {
			return got, err
		}
	}
	if c.weight() > mostHeld {
		if s.Last {
			return got, fmt.Errorf("the server writes more than can be read: %d MiB again in round %d; capture it when it has less to do", c.weight()>>20, s.Round)
		}
		return c.again()
	}
	if s.Freeze {
		for range tries {
			if got, err = c.atRest(ctx, s); err == nil || ctx.Err() != nil || !errors.Is(err, errMoved) {
				break
			}
		}
		if err == nil || ctx.Err() != nil {
			return got, err
		}
		if !s.Last && errors.Is(err, errMoved) {
			return c.again()
		}
		if s.Required {
			return got, fmt.Errorf("its file systems could not be made to stand still: %w", err)
		}
		got = line.Settled{Rested: got.Rested, Warnings: []string{fmt.Sprintf("its file systems could not be made to stand still: %v; the image is as after a power cut", err)}}
	}
	for range quietTries {
		moved, err := c.quiet(ctx)
		if err != nil {
			return got, err
		}
		if !moved {
			got.Done, got.Changed, got.Held = true, c.changed(), !s.Freeze && len(c.mounts) == 0
			return got, nil
		}
	}
	if s.Last {
		return got, errors.New("it writes all the time, so that no instant could be had without a freeze; the image would be of different moments, and is given up")
	}
	return c.again()
}

// errMoved marks an instant that was none: something was written while it was read.
var errMoved = errors.New("something was written while they stood still, past the file systems or by one of a kind that can't")

// gather adds what was written to what is to be read again. Where the kernel could not tell of every write, all is compared.
func (c *Capture) gather(ctx context.Context) error {
	seen, err := c.trace.take()
	if errors.Is(err, errLost) {
		return c.lost(err)
	}
	if err != nil {
		return err
	}
	for _, k := range c.disks {
		k.pending.join(k.wanted(seen[k.Number]))
	}
	return ctx.Err()
}

// leaveFree leaves out of what was written what is not in use by now: files that came and went, tables that are made ready. What comes into use
// after this look is written after it, too.
func (c *Capture) leaveFree(ctx context.Context) error {
	for _, k := range c.disks {
		now, err := block.MapOf(ctx, k.Device, k.strict, c.mounts)
		if err != nil {
			return err
		}
		for _, p := range now.Parts {
			if p.Behind {
				now.Used.Add(p.Offset, p.Length)
			}
		}
		for b := range k.pending {
			at := b * span
			used := slices.ContainsFunc(now.Used.Extents(at, min(span, k.Size()-at)), func(e disk.Extent) bool { return e.Kind == disk.Data })
			if !used {
				delete(k.pending, b)
			}
		}
	}
	return nil
}

// lost is for when writes were not seen: the capture can't be what it was to be.
func (c *Capture) lost(why error) error {
	return fmt.Errorf("%w: it writes faster than that; run it again when it has less to do", why)
}

// weight is how much is to be read again, in bytes.
func (c *Capture) weight() (n int64) {
	for _, k := range c.disks {
		for _, e := range k.pending.extents(k.Size(), false) {
			n += e.Length
		}
	}
	return n
}

func (c *Capture) changed() map[string]int64 {
	out := map[string]int64{}
	for _, k := range c.disks {
		if len(k.now) < 2 {
			continue
		}
		for _, e := range k.now[1].(*patch).extents {
			out[k.Target] += e.Length
		}
	}
	return out
}

// again offers what was written so far, to be read from the disks while they are written to: another round follows.
func (c *Capture) again() (line.Settled, error) {
	for _, k := range c.disks {
		extents := k.pending.extents(k.Size(), true)
		k.use(extents)
		if err := k.forget(extents); err != nil {
			return line.Settled{}, err
		}
		k.offer(extents, k.watched)
		k.pending = written{}
	}
	return line.Settled{Changed: c.changed()}, nil
}

// forget has what is noted of some ranges be unknown until they are read.
func (k *captured) forget(extents []disk.Extent) error {
	if k.digests == nil {
		return nil
	}
	for _, e := range extents {
		if err := k.digests.Forget(e); isFull(err) {
			k.abandon()
			return nil
		} else if err != nil {
			return fmt.Errorf("disk %s: %w", k.Target, err)
		}
	}
	return nil
}

// offer has the next round be of some ranges.
func (k *captured) offer(extents []disk.Extent, from disk.Disk) {
	k.now = k.now[:1]
	if len(extents) > 0 {
		k.now = append(k.now, &patch{k.Size(), extents, from})
	}
}

// still makes the file systems stand still, and reads what was written into memory.
func (c *Capture) still(ctx context.Context, longest time.Duration) (got line.Settled, err error) {
	ctx, end := context.WithTimeoutCause(ctx, longest, fmt.Errorf("%w: it was not read within %s", errMoved, longest))
	defer end()
	s, err := prepare(c.folder, c.mounts, longest)
	if err != nil {
		return got, err
	}
	defer s.end()
	if err := s.freeze(); err != nil {
		return got, err
	}
	moved, err := c.quiet(ctx)
	stood, thawed := s.thaw()
	switch {
	case err != nil:
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return got, err
	case thawed != nil:
		return got, fmt.Errorf("%w: %w", errMoved, thawed)
	case moved:
		return got, errMoved
	}
	return line.Settled{Done: true, Changed: c.changed(), Frozen: stood, Held: true}, nil
}

// quiet reads what was written into memory, and tells whether more was written meanwhile. Otherwise it is offered, and what was read is of one
// instant.
func (c *Capture) quiet(ctx context.Context) (moved bool, err error) {
	if err := c.gather(ctx); err != nil {
		return false, err
	}
	if w := c.weight(); w > mostHeld {
		return true, nil
	}
	copies := make([]*copied, len(c.disks))
	for i, k := range c.disks {
		extents := k.pending.extents(k.Size(), false)
		copies[i] = copyOf(k.live, extents)
		if err := copies[i].fill(ctx, k.r); err != nil {
			return false, fmt.Errorf("disk %s: %w", k.Target, err)
		}
	}
	seen, err := c.trace.take()
	if errors.Is(err, errLost) {
		return false, c.lost(err)
	}
	if err != nil {
		return false, err
	}
	for _, k := range c.disks {
		more := k.wanted(seen[k.Number])
		moved = moved || len(more) > 0
		k.pending.join(more)
	}
	if moved {
		return true, nil
	}
	for i, k := range c.disks {
		k.use(copies[i].extents)
		k.offer(copies[i].extents, copies[i])
	}
	return false, nil
}

// End ends the capture, and removes what it had. Kept says that the image exists: then what the disks are like in it is remembered.
func (c *Capture) End(kept bool) error {
	c.settling.Lock()
	defer c.settling.Unlock()
	var errs []error
	for _, k := range c.disks {
		if k.digests != nil && kept && c.settled.Done {
			errs = append(errs, c.keep(k))
		}
		if k.digests != nil {
			k.digests.drop()
			k.digests = nil
		}
		if k.strict != nil {
			k.strict.Close()
		}
	}
	c.disks = nil
	if c.trace != nil {
		errs = append(errs, c.trace.close())
	}
	return errors.Join(errs...)
}

// keep remembers a disk. What was read in the last moment is not noted block by block, and counts as changed the next time.
func (c *Capture) keep(k *captured) error {
	if len(k.now) == 2 {
		if err := k.forget(k.now[1].(*patch).extents); err != nil || k.digests == nil {
			return err
		}
	}
	if w, ok := k.watched.(*digest.Watched); ok && w.Err() != nil {
		return fmt.Errorf("what disk %s is like could not be noted: %w", k.Target, w.Err())
	}
	return k.digests.keep()
}

// Known lists the IDs of images of which something is remembered.
func Known(folder string) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(folder, digestsFolder))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	ids := map[string]bool{}
	for _, e := range entries {
		if id, _, ok := strings.Cut(e.Name(), "-"); ok && image.IsID(id) {
			ids[id] = true
		}
	}
	return slices.Sorted(maps.Keys(ids)), nil
}

// Forget forgets images, and returns those of which something was remembered.
func Forget(folder string, ids []string) (gone []string, err error) {
	known, err := Known(folder)
	errs := []error{err}
	for _, id := range known {
		if !slices.Contains(ids, id) {
			continue
		}
		files, err := filepath.Glob(filepath.Join(folder, digestsFolder, id+"-*"))
		errs = append(errs, err)
		for _, file := range files {
			errs = append(errs, os.Remove(file))
		}
		gone = append(gone, id)
	}
	return gone, errors.Join(errs...)
}

// Tidy removes what a dead agent had left: what was frozen, traces, half of what was to be remembered. It returns what it found.
func Tidy(folder, settings string) (found []string, err error) {
	found, err = ThawLeft(folder)
	went, _, failed := GoOn(folder, settings)
	found, err = append(found, went...), errors.Join(err, failed)
	found = append(found, LeftTraces()...)
	files, globbed := filepath.Glob(filepath.Join(folder, digestsFolder, partial+"*"))
	errs := []error{err, globbed}
	for _, file := range files {
		errs = append(errs, os.Remove(file))
	}
	return found, errors.Join(errs...)
}
