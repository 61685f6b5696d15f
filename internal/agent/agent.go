package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/agent/inplace"
	"keenlodge/internal/agent/moment"
	"keenlodge/internal/agent/parts"
	"keenlodge/internal/agent/tree"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/line"
	"keenlodge/internal/nbd"
	"keenlodge/internal/wire"
)

// Offer is what an agent shows its lodge, as its server's administrator says.
type Offer struct {
	// Disks are the disks, by name or path; empty is all that this server has.
	Disks []string
	// Files are the files.
	Files tree.Offer
	// Writable are the absolute paths at and below which files may be put back; empty is none.
	Writable []string
}

// capturePatience is how long a capture is kept that nobody asks for: longer than a lodge tries to reach it again. watchEvery is how often captures
// and applications are looked after. Tests shorten them.
var capturePatience, watchEvery = 12 * time.Minute, 30 * time.Second

// tidyEvery is how often it is looked after what restores replaced.
const tidyEvery = 10 * time.Minute

// longestWatch is how long an application is let alone at the most that does not go on.
const longestWatch = time.Hour

// Agent answers the lodge's calls. What a capture holds lies in folder.
type Agent struct {
	offer  Offer
	folder string
	log    *slog.Logger
	keeper *inplace.Keeper

	mu   sync.Mutex
	open *opened // the capture that is open, nil where none is
	// planned is the plan of a restore, putting the restore that is under way, "" where none is.
	planned *planned
	putting string
}

// opened is a capture that is open, or is being begun.
type opened struct {
	id    string
	ready chan struct{} // closed once it has begun, or has failed to
	begun line.Begun
	// One of disks or files is there once it has begun.
	disks *moment.Capture
	files *tree.Capture
	stop  context.CancelFunc // of its beginning
	// asked is when somebody asked for it last, using how many do now.
	asked time.Time
	using int
}

// New is an agent. What a dead one left is cleared first: nothing of this server stands still because of it.
func New(offer Offer, folder string, log *slog.Logger) (*Agent, error) {
	tidyDisks := func(folder string) ([]string, error) { return moment.Tidy(folder, offer.Files.Settings) }
	for _, tidy := range []func(string) ([]string, error){tidyDisks, tree.Tidy} {
		found, err := tidy(folder)
		if len(found) > 0 {
			log.Warn("cleared what an agent left that died", "found", found)
		}
		if err != nil {
			return nil, err
		}
	}
	a := &Agent{offer: offer, folder: folder, log: log, keeper: &inplace.Keeper{Folder: folder, Writable: offer.Writable}}
	a.tidyRestores()
	return a, nil
}

// Close ends what is open.
func (a *Agent) Close() error {
	a.mu.Lock()
	o := a.open
	a.open = nil
	a.mu.Unlock()
	return a.end(o, false)
}

// watch ends a capture that nobody asked for in a long time, and tells applications to go on that did not when they were told, until ctx ends.
func (a *Agent) watch(ctx context.Context) {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	next, wait, tidied := time.Now(), watchEvery, time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		a.mu.Lock()
		o := a.open
		if o == nil || o.using > 0 || time.Since(o.asked) < capturePatience {
			o = nil
		} else {
			a.open = nil
		}
		a.mu.Unlock()
		if o != nil {
			a.log.Warn("a capture was given up, for nobody asked for it any more", "image", o.id)
			if err := a.end(o, false); err != nil {
				a.log.Error("a capture did not end", "image", o.id, "error", err)
			}
		}
		if time.Since(tidied) > tidyEvery {
			tidied = time.Now()
			a.tidyRestores()
		}
		if time.Now().Before(next) {
			continue
		}
		found, left, err := moment.GoOn(a.folder, a.offer.Files.Settings)
		if len(found) > 0 || err != nil {
			a.log.Warn("applications had been left at rest", "found", found, "error", err)
		}
		if wait = min(2*wait, longestWatch); left == 0 {
			wait = watchEvery
		}
		next = time.Now().Add(wait)
	}
}

// end ends a capture that is not open any more.
func (a *Agent) end(o *opened, kept bool) error {
	if o == nil {
		return nil
	}
	o.stop()
	<-o.ready
	switch {
	case o.disks != nil:
		return o.disks.End(kept)
	case o.files != nil:
		return o.files.End(kept)
	}
	return nil
}

// WatchCommand is the hidden command under which the program runs as the watchdog of a freeze.
const WatchCommand = moment.WatchCommand

// WatchFreeze is that watchdog.
func WatchFreeze(in io.Reader, out io.Writer) error { return moment.WatchFreeze(in, out) }

// Reply answers a call. It implements [line.Reply].
func (a *Agent) Reply(ctx context.Context, call string, args json.RawMessage) (result any, then func(net.Conn) error, err error) {
	switch call {
	case line.CallAbout:
		result, err = a.about()
	case line.CallBegin:
		result, err = with(args, func(b line.Begin) (line.Begun, error) { return a.begin(b) })
	case line.CallRead:
		return a.read(ctx, args)
	case line.CallSettle:
		result, err = with(args, func(s line.Settle) (line.Settled, error) {
			o, done, err := a.use(s.ID)
			if err != nil {
				return line.Settled{}, err
			}
			defer done()
			if o.disks == nil {
				return line.Settled{}, line.Refuse(line.Unknown, "the capture for image %s is one of files", s.ID)
			}
			return o.disks.Settle(context.WithoutCancel(ctx), s) // the answer may be asked for over another line
		})
	case line.CallWalk:
		result, err = with(args, a.walk)
	case line.CallArchive:
		return a.archive(ctx, args)
	case line.CallPlan:
		return a.plan(ctx, args)
	case line.CallPut:
		return a.put(ctx, args)
	case line.CallUndo:
		return a.undo(ctx, args)
	case line.CallCommand:
		result, err = with(args, func(c line.Command) (line.CommandEnded, error) { return a.command(ctx, c) })
	case line.CallParts:
		result, err = with(args, func(p line.Parts) (line.PartsTold, error) { return tree.Parts(ctx, a.offer.Files, p.Measure) })
	case line.CallOpen:
		a.mu.Lock()
		defer a.mu.Unlock()
		k := line.Known{IDs: []string{}}
		if a.open != nil {
			k.IDs = append(k.IDs, a.open.id)
		}
		return k, nil, nil
	case line.CallEnd:
		result, err = with(args, a.endCapture)
	case line.CallClear:
		result, err = with(args, a.clear)
	case line.CallKnown:
		ids, failed := moment.Known(a.folder)
		ofFiles, failedToo := tree.Known(a.folder)
		result, err = line.Known{IDs: append(ids, ofFiles...)}, errors.Join(failed, failedToo)
	case line.CallForget:
		result, err = with(args, func(k line.Known) (line.Known, error) {
			gone, err := a.forget(k.IDs)
			return line.Known{IDs: gone}, err
		})
	case line.CallThaw:
		_, err = moment.ThawLeft(a.folder)
	case line.CallSnap:
		result, err = with(args, func(s line.Snap) (line.Snapped, error) { return a.keeper.Take(context.WithoutCancel(ctx), s) })
	case line.CallSnaps:
		result, err = a.keeper.List(ctx)
	case line.CallUnsnap:
		result, err = with(args, func(s line.Unsnap) (line.Unsnapped, error) {
			was, err := a.keeper.Remove(context.WithoutCancel(ctx), s)
			return line.Unsnapped{Was: was}, err
		})
	case line.CallBack:
		result, err = with(args, func(s line.Unsnap) (line.WentBack, error) {
			told, err := a.keeper.Back(context.WithoutCancel(ctx), s)
			return line.WentBack{Told: told}, err
		})
	case line.CallMounts:
		result, err = mounts()
	default:
		err = line.Refuse(line.Unknown, "this agent (%s) does not know the call %q; update it", wire.Program, call)
	}
	return result, nil, err
}

// with carries out a call with its arguments.
func with[A, R any](args json.RawMessage, do func(A) (R, error)) (R, error) {
	var in A
	if err := json.Unmarshal(args, &in); err != nil {
		var none R
		return none, fmt.Errorf("the lodge's call is not to be understood: %w", err)
	}
	return do(in)
}

// devices are the disks that are offered, and those that are left.
func (a *Agent) devices() (offered, left []block.Device, err error) {
	all, err := block.Devices(a.offer.Disks)
	for _, d := range all {
		if d.Left == "" {
			offered = append(offered, d)
		} else {
			left = append(left, d)
		}
	}
	return offered, left, err
}

func (a *Agent) about() (line.About, error) {
	host, err := os.Hostname()
	if err != nil {
		return line.About{}, err
	}
	out := line.About{Host: host, Program: wire.Program, Disks: []line.Disk{}, Now: time.Now()}
	out.System, out.Kernel, out.Arch = block.System()
	offered, left, err := a.devices()
	for _, d := range append(offered, left...) {
		out.Disks = append(out.Disks, line.Disk{Target: d.Target, Size: d.Size, Left: d.Left})
	}
	if err != nil {
		a.log.Warn("not all disks can be offered", "error", err)
	}
	return out, nil
}

// begin begins a capture, or tells again of the one that was begun: the answer may have been lost.
func (a *Agent) begin(b line.Begin) (line.Begun, error) {
	offered, left, err := a.devices()
	if err != nil {
		return line.Begun{}, err
	}
	for _, target := range b.Disks {
		if !slices.ContainsFunc(offered, func(d block.Device) bool { return d.Target == target }) {
			return line.Begun{}, line.Refuse(line.Unknown, "it has no disk %s that it offers", target)
		}
	}
	if len(b.Disks) > 0 {
		offered = slices.DeleteFunc(offered, func(d block.Device) bool { return !slices.Contains(b.Disks, d.Target) })
	}
	if len(offered) == 0 {
		return line.Begun{}, errors.New("it offers no disk that can be captured; the agent is told which by keenlodge agent run --disk")
	}
	o, err := a.begun(b.ID, func(ctx context.Context, o *opened) (err error) {
		if o.disks, err = moment.Begin(ctx, a.folder, a.offer.Files.Settings, offered, b); err == nil {
			o.begun, err = a.describe(o.disks, offered, left)
		}
		return err
	})
	return o.begun, err
}

// begun begins a capture, or gives the one of that ID that was begun.
func (a *Agent) begun(id string, begin func(ctx context.Context, o *opened) error) (*opened, error) {
	a.mu.Lock()
	o := a.open
	if o != nil && o.id != id {
		a.mu.Unlock()
		return &opened{}, line.Refuse(line.Busy, "the capture of image %s is open", o.id)
	}
	if o != nil {
		a.mu.Unlock()
		if <-o.ready; o.disks == nil && o.files == nil {
			return o, fmt.Errorf("the capture for image %s could not be begun; who asked for it first was told why", id)
		}
		return o, nil
	}
	o = &opened{id: id, ready: make(chan struct{}), asked: time.Now()}
	a.open = o
	ctx, stop := context.WithCancel(context.Background()) // it outlives the line on which it was asked for
	o.stop = stop
	a.mu.Unlock()
	err := begin(ctx, o)
	if err != nil {
		if o.disks != nil {
			err = errors.Join(err, o.disks.End(false))
			o.disks = nil
		}
		a.mu.Lock()
		if a.open == o {
			a.open = nil
		}
		a.mu.Unlock()
	}
	close(o.ready)
	return o, err
}

// walk begins a capture of files, or tells again of the one that was begun.
func (a *Agent) walk(w line.Walk) (line.Walked, error) {
	o, err := a.begun(w.ID, func(ctx context.Context, o *opened) (err error) {
		o.files, err = tree.Begin(ctx, a.folder, a.offer.Files, w)
		return err
	})
	if err != nil {
		return line.Walked{}, err
	}
	if o.files == nil {
		return line.Walked{}, line.Refuse(line.Busy, "the capture for image %s is open, and one of disks", w.ID)
	}
	return o.files.Walked(), nil
}

// archive offers the archive of a capture of files.
func (a *Agent) archive(ctx context.Context, args json.RawMessage) (any, func(net.Conn) error, error) {
	var r line.Archive
	if err := json.Unmarshal(args, &r); err != nil {
		return nil, nil, err
	}
	o, done, err := a.use(r.ID)
	if err != nil {
		return nil, nil, err
	}
	if o.files == nil {
		done()
		return nil, nil, line.Refuse(line.Unknown, "the capture for image %s is one of disks", r.ID)
	}
	send, err := o.files.Archive(ctx, r.From)
	if err != nil {
		done()
		return nil, nil, err
	}
	return nil, func(conn net.Conn) error {
		defer done()
		return send(conn)
	}, nil
}

// command runs a command of the server's folder.
func (a *Agent) command(ctx context.Context, c line.Command) (out line.CommandEnded, err error) {
	said := &first{}
	err = parts.Run(ctx, a.offer.Files.Settings, c.Name, c.Within, said)
	if ended := new(parts.Ended); errors.As(err, &ended) {
		said.Write([]byte(err.Error()))
		out.Code, err = ended.Code, nil
	}
	out.Output = string(said.b)
	return out, err
}

// first keeps the begin of what is written to it.
type first struct{ b []byte }

const mostOutput = 64 << 10

func (f *first) Write(p []byte) (int, error) {
	f.b = append(f.b, p[:min(len(p), mostOutput-len(f.b))]...)
	return len(p), nil
}

// forget forgets what is remembered for images.
func (a *Agent) forget(ids []string) ([]string, error) {
	gone, err := moment.Forget(a.folder, ids)
	ofFiles, failed := tree.Forget(a.folder, ids)
	return append(gone, ofFiles...), errors.Join(err, failed)
}

func (a *Agent) describe(c *moment.Capture, offered, left []block.Device) (out line.Begun, err error) {
	out.Disks, out.Warnings = c.Begun()
	layout, err := block.Describe(offered, left, c.Maps())
	if err == nil {
		out.Layout, err = json.MarshalIndent(layout, "", "  ")
	}
	for _, text := range layout.LeftOut {
		out.Warnings = append(out.Warnings, "left out: "+text)
	}
	return out, err
}

// use finds the capture of an ID; done is called when it is not needed just now.
func (a *Agent) use(id string) (o *opened, done func(), err error) {
	a.mu.Lock()
	o = a.open
	if o == nil || o.id != id {
		a.mu.Unlock()
		return nil, nil, line.Refuse(line.Unknown, "no capture for image %s is open", id)
	}
	o.using++
	a.mu.Unlock()
	done = func() {
		a.mu.Lock()
		o.using--
		o.asked = time.Now()
		a.mu.Unlock()
	}
	if <-o.ready; o.disks == nil && o.files == nil {
		done()
		return nil, nil, line.Refuse(line.Unknown, "the capture for image %s could not be begun", id)
	}
	return o, done, nil
}

// read offers a disk of a capture.
func (a *Agent) read(ctx context.Context, args json.RawMessage) (any, func(net.Conn) error, error) {
	var r line.Read
	if err := json.Unmarshal(args, &r); err != nil {
		return nil, nil, err
	}
	o, done, err := a.use(r.ID)
	if err != nil {
		return nil, nil, err
	}
	if o.disks == nil {
		done()
		return nil, nil, line.Refuse(line.Unknown, "the capture for image %s is one of files", r.ID)
	}
	whole, changed, err := o.disks.Disk(r.Target, r.Round)
	if err != nil {
		done()
		return nil, nil, line.Refuse(line.Unknown, "%v", err)
	}
	e := nbd.Export{Name: r.Target, Disk: whole, Bitmap: line.Bitmap, Changed: changed}
	if r.Round > 0 {
		e.Disk = both{whole, changed} // read as it was in the round
	}
	return nil, func(conn net.Conn) error {
		defer done()
		return nbd.Serve(ctx, conn, e)
	}, nil
}

// both has the extents of one disk and is read as another.
type both struct {
	disk.Disk
	from disk.Disk
}

func (b both) ReadAt(p []byte, off int64) (int, error) { return b.from.ReadAt(p, off) }

// endCapture ends the capture of an ID, and forgets older ones. One that is not there has ended.
func (a *Agent) endCapture(e line.End) (out line.Cleared, err error) {
	a.mu.Lock()
	o := a.open
	if o != nil && o.id == e.ID {
		a.open = nil
	} else {
		o = nil
	}
	a.mu.Unlock()
	err = a.end(o, e.Kept)
	drop := e.Drop
	if !e.Kept {
		drop = append(slices.Clone(drop), e.ID)
	}
	_, forgot := a.forget(drop)
	return out, errors.Join(err, forgot)
}

// clear ends a capture that its maker does not end any more, and tells what there was.
func (a *Agent) clear(e line.End) (out line.Cleared, err error) {
	a.mu.Lock()
	there := a.open != nil && a.open.id == e.ID
	a.mu.Unlock()
	if there {
		out.Found = append(out.Found, "the capture for image "+e.ID+" was open")
	}
	_, err = a.endCapture(line.End{ID: e.ID})
	return out, err
}

func mounts() (out line.Mounts, err error) {
	local, err := block.Local()
	for _, m := range local {
		out.Mounts = append(out.Mounts, line.Mount{Mounted: m.Path, Kind: m.Kind, Used: m.Used, Total: m.Total})
	}
	return out, err
}
