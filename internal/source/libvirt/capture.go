package libvirt

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/image"
	"keenlodge/internal/nbd"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

const (
	// marked begins the name of all that we make on a hypervisor.
	marked = daemon.Marked
	// cleanupTime is how long clearing up may take, after the work itself was given up.
	cleanupTime = 30 * time.Second
	// longestPath is what a socket's path may have, in bytes (unix(7)).
	longestPath = 107
)

// capture is a backup job under way.
type capture struct {
	h           *Host
	domain      golibvirt.Domain
	mark        string
	text        string
	folder      string // in which QEMU makes the job's files
	socket      string
	job         bool         // begun
	cleared     []string     // what was found of a dead process
	late        func() error // looks again for what a dead process began; ErrBusy where somebody lives
	unsure      bool         // the call that begins it was given up, and may still be carried out
	lasting     bool         // a checkpoint is wanted
	checkpoint  bool         // to be made, or begun
	earlier     []string
	since       map[string]string // by target: the checkpoint from which its changes are told
	why         map[string]string // by target: why they are not, though they were asked for
	woken       bool              // the guest was off, we started it paused
	consistency image.Consistency
	frozen      time.Duration
	warnings    []string
	disks       []source.CapturedDisk
	firmware    []image.Firmware
	server      *libvirtxml.DomainBackupPullServer // where the disks are offered
	open        []*nbd.Steady
	tell        func(format string, args ...any)
	patience    time.Duration // how long a line is waited for that was cut
}

func (c *capture) Disks() []source.CapturedDisk                    { return c.disks }
func (c *capture) Definition() string                              { return c.text }
func (c *capture) Consistency() (image.Consistency, time.Duration) { return c.consistency, c.frozen }
func (c *capture) Firmware() []image.Firmware                      { return c.firmware }
func (c *capture) Warnings() []string                              { return append(slices.Clone(c.cleared), c.warnings...) }
func (c *capture) Checkpoints() []string                           { return c.earlier }

// Capture implements [source.Source].
func (h *Host) Capture(ctx context.Context, r source.Request) (source.Capture, error) {
	c := &capture{h: h, mark: r.ID, lasting: r.Checkpoint, tell: r.Tell, patience: patience}
	if c.tell == nil {
		c.tell = func(string, ...any) {}
	}
	if err := c.begin(ctx, r); err != nil {
		if cleaned := c.Close(context.WithoutCancel(ctx), false, nil); cleaned != nil {
			err = errors.Join(err, cleaned)
		}
		return nil, err
	}
	return c, nil
}

func (c *capture) begin(ctx context.Context, r source.Request) (err error) {
	if c.domain, err = c.h.DomainOf(ctx, r.Machine, r.UUID); err != nil {
		return err
	}
	if c.text, _, err = c.h.Definition(ctx, c.domain, true); err != nil {
		return err
	}
	state, err := c.h.State(ctx, c.domain)
	if err != nil {
		return err
	}
	if state != golibvirt.DomainShutoff && state != golibvirt.DomainCrashed {
		if err := c.makeRoom(ctx, r, state); err != nil {
			return err
		}
		if state, err = c.h.State(ctx, c.domain); err != nil {
			return err
		}
	}
	switch state {
	case golibvirt.DomainShutoff, golibvirt.DomainCrashed:
		if err := c.wake(ctx, r); err != nil {
			return err
		}
	case golibvirt.DomainRunning, golibvirt.DomainBlocked, golibvirt.DomainPaused:
		c.consistency = image.Crash
	default:
		return fmt.Errorf("guest %s: %w: it is changing its state just now; try again when it runs or is off", r.Machine, source.ErrBusy)
	}
	_, def, err := c.h.Definition(ctx, c.domain, false)
	if err != nil {
		return err
	}
	disks, left := captured(def)
	c.warnings = left
	if len(r.Disks) > 0 {
		disks = slices.DeleteFunc(disks, func(d libvirtxml.DomainDisk) bool { return !slices.Contains(r.Disks, d.Target.Dev) })
		for _, target := range r.Disks {
			if !slices.ContainsFunc(disks, func(d libvirtxml.DomainDisk) bool { return d.Target.Dev == target }) {
				return fmt.Errorf("guest %s has no disk %s that can be captured", r.Machine, target)
			}
		}
		c.warnings = nil // what was not asked for is not missed
	}
	if len(disks) == 0 {
		return fmt.Errorf("guest %s has no disk that can be captured", r.Machine)
	}
	if err := c.lookBack(ctx, r, disks); err != nil {
		return err
	}
	if err := c.place(disks); err != nil {
		return err
	}
	c.late = func() error { return c.makeRoom(ctx, r, state) }
	begin := func() error { return c.start(ctx, def, disks, r.Checkpoint) }
	if c.consistency == image.Crash {
		var stood source.Stood
		stood, err = source.WhileFrozen(ctx, r, freezer{c.h, c.domain}, begin)
		c.consistency, c.frozen, c.warnings = stood.Consistency, stood.Frozen, append(c.warnings, stood.Warnings...)
	} else {
		err = begin()
	}
	if err != nil {
		return err
	}
	for _, k := range disks {
		if err := c.openDisk(ctx, k); err != nil {
			return err
		}
	}
	return c.readFirmware(ctx, def, r.Secrets)
}

// openDisk connects to a disk of the job.
func (c *capture) openDisk(ctx context.Context, k libvirtxml.DomainDisk) error {
	target := k.Target.Dev
	d := source.CapturedDisk{Target: target, Format: format(k), Forgets: c.lasting && format(k) != "qcow2"}
	bitmap := ""
	if c.since[target] != "" {
		bitmap = c.bitmap()
	}
	begun := time.Now()
	opened, err := c.connect(ctx, target, bitmap, 0)
	if errors.Is(err, nbd.ErrNoBitmap) {
		bitmap, c.why[target] = "", err.Error()
		begun = time.Now()
		opened, err = c.connect(ctx, target, "", 0)
	}
	if err != nil {
		return err
	}
	c.open = append(c.open, opened)
	if d.Disk, err = c.widen(ctx, opened, target, bitmap, time.Since(begun)); err != nil {
		return err
	}
	if d.Why = c.why[target]; bitmap != "" {
		d.Whole = whole{d.Disk, opened}
	}
	c.disks = append(c.disks, d)
	return nil
}

// bitmap is the name under which QEMU offers what was written since an earlier checkpoint.
func (c *capture) bitmap() string { return marked + c.mark + "-since" }

// lookBack finds the checkpoint from which changes are asked for, and what it covers.
func (c *capture) lookBack(ctx context.Context, r source.Request, disks []libvirtxml.DomainDisk) error {
	points, err := c.h.checkpoints(ctx, c.domain)
	if err != nil {
		return err
	}
	c.since, c.why = map[string]string{}, map[string]string{}
	covered := map[string]bool{}
	found := false
	for _, p := range points {
		id := strings.TrimPrefix(p.Name, marked)
		c.earlier = append(c.earlier, id)
		if id != r.Since {
			continue
		}
		found = true
		if covered, err = c.h.covers(ctx, p); err != nil {
			return err
		}
	}
	lost := "the hypervisor has no checkpoint of image " + r.Since + " any more"
	if r.Since != "" && !found {
		came, refused, err := c.takeUp(ctx, r.Since, disks)
		if err != nil {
			return err
		}
		if found = len(came) > 0; found {
			c.earlier = append(c.earlier, r.Since)
			covered = came
		} else if refused != "" {
			lost += ", and the disks have not come from another host with its bitmaps: " + refused
		}
	}
	for _, k := range disks {
		switch target := k.Target.Dev; {
		case r.Since == "":
		case format(k) != "qcow2":
			c.why[target] = "a disk of format " + format(k) + " can carry no checkpoint"
		case !found:
			c.why[target] = lost
		case !covered[target]:
			c.why[target] = "the checkpoint of image " + r.Since + " does not cover it"
		default:
			c.since[target] = marked + r.Since
		}
	}
	return nil
}

// takeUp has the hypervisor take up the checkpoint of a guest that came from another host: the bitmaps came with its disks, what libvirt knew of
// them did not. It makes sure that they are there. came tells the disks that have one, by target; refused says why there is none.
func (c *capture) takeUp(ctx context.Context, id string, disks []libvirtxml.DomainDisk) (came map[string]bool, refused string, err error) {
	def := new(libvirtxml.Domain)
	if err := def.Unmarshal(c.text); err != nil {
		return nil, "", fmt.Errorf("definition of guest %s: %w", c.domain.Name, err)
	}
	k := libvirtxml.DomainCheckpoint{Name: marked + id, CreationTime: fmt.Sprint(time.Now().Unix()), Disks: &libvirtxml.DomainCheckpointDisks{}, Domain: def}
	came = map[string]bool{}
	for _, d := range disks {
		if format(d) == "qcow2" {
			came[d.Target.Dev] = true
			k.Disks.Disks = append(k.Disks.Disks, libvirtxml.DomainCheckpointDisk{Name: d.Target.Dev, Checkpoint: "bitmap", Bitmap: marked + id})
		}
	}
	if len(came) == 0 {
		return nil, "", nil
	}
	text, err := k.Marshal()
	if err != nil {
		return nil, "", err
	}
	err = c.h.Within(ctx, daemon.AnswerTime, "take up checkpoint "+k.Name+" of guest "+c.domain.Name, func() error {
		_, err := c.h.L.DomainCheckpointCreateXML(c.domain, text, uint32(golibvirt.DomainCheckpointCreateRedefine|golibvirt.DomainCheckpointCreateRedefineValidate))
		return err
	})
	var told golibvirt.Error
	if errors.As(err, &told) {
		return nil, told.Message, nil
	}
	return came, "", err
}

// covers tells which disks a checkpoint keeps a bitmap for.
func (h *Host) covers(ctx context.Context, p golibvirt.DomainCheckpoint) (map[string]bool, error) {
	var text string
	err := h.Within(ctx, daemon.AnswerTime, "read checkpoint "+p.Name, func() (err error) {
		text, err = h.L.DomainCheckpointGetXMLDesc(p, uint32(golibvirt.DomainCheckpointXMLNoDomain))
		return err
	})
	if daemon.IsCode(err, golibvirt.ErrNoDomainCheckpoint) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	def := new(libvirtxml.DomainCheckpoint)
	if err := def.Unmarshal(text); err != nil {
		return nil, fmt.Errorf("checkpoint %s: %w", p.Name, err)
	}
	covered := map[string]bool{}
	if def.Disks != nil {
		for _, d := range def.Disks.Disks {
			covered[d.Name] = d.Checkpoint == "bitmap"
		}
	}
	return covered, nil
}

// wake starts a guest that is off, paused: backup jobs need a QEMU process, and a paused guest runs no instruction.
func (c *capture) wake(ctx context.Context, r source.Request) error {
	if err := r.Starting(); err != nil {
		return err
	}
	err := c.h.Within(ctx, time.Minute, "start guest "+r.Machine+" paused", func() (err error) {
		c.domain, err = c.h.L.DomainCreateWithFlags(c.domain, uint32(golibvirt.DomainStartPaused))
		return err
	})
	c.woken, c.consistency = err == nil, image.Off
	if err == nil {
		err = c.h.markStarted(ctx, c.domain, c.mark)
	}
	return err
}

// place finds where the job's files can lie. QEMU makes the socket and the scratch files, so they must lie where QEMU can make
// files: beside a disk it can.
func (c *capture) place(disks []libvirtxml.DomainDisk) error {
	c.folder = "/var/lib/libvirt/qemu"
	for _, d := range disks {
		if d.Source.File != nil {
			c.folder = filepath.Dir(d.Source.File.File)
			break
		}
	}
	c.socket = filepath.Join(c.folder, marked+c.mark+".sock")
	if c.server = c.h.Offer(c.mark, c.socket, 0); c.server.UNIX != nil && len(c.socket) > longestPath {
		return fmt.Errorf("guest %s: the socket's path %s is longer than %d bytes; move the disks to a shorter path", c.domain.Name, c.socket, longestPath)
	}
	return nil
}

// describe writes the job, and the checkpoint that it starts from unless none is wanted. A raw disk can't carry a checkpoint.
func (c *capture) describe(def *libvirtxml.Domain, disks []libvirtxml.DomainDisk, lasting bool) (backup, checkpoint string, err error) {
	b := libvirtxml.DomainBackup{Pull: &libvirtxml.DomainBackupPull{Disks: &libvirtxml.DomainBackupPullDisks{}}}
	k := libvirtxml.DomainCheckpoint{Name: marked + c.mark, Disks: &libvirtxml.DomainCheckpointDisks{}}
	points := false
	if def.Devices != nil {
		for _, d := range def.Devices.Disks {
			if d.Target == nil {
				continue
			}
			in := slices.ContainsFunc(disks, func(k libvirtxml.DomainDisk) bool { return k.Target.Dev == d.Target.Dev })
			entry := libvirtxml.DomainBackupPullDisk{Name: d.Target.Dev, Backup: "no"}
			point := libvirtxml.DomainCheckpointDisk{Name: d.Target.Dev, Checkpoint: "no"}
			if in {
				entry.Backup, entry.BackupMode = "yes", "full"
				scratch := filepath.Join(c.folder, marked+c.mark+"-"+d.Target.Dev+".scratch")
				entry.Scratch = &libvirtxml.DomainDiskSource{File: &libvirtxml.DomainDiskSourceFile{File: scratch}}
				if since := c.since[d.Target.Dev]; since != "" {
					entry.BackupMode, entry.Incremental, entry.ExportBitmap = "incremental", since, c.bitmap()
				}
				if lasting && format(d) == "qcow2" {
					point.Checkpoint, points = "bitmap", true
				}
			}
			b.Pull.Disks.Disks = append(b.Pull.Disks.Disks, entry)
			k.Disks.Disks = append(k.Disks.Disks, point)
		}
	}
	b.Pull.Server = c.server
	if backup, err = b.Marshal(); err == nil && points {
		checkpoint, err = k.Marshal()
	}
	return backup, checkpoint, err
}

// start starts the job. Where libvirt refuses an earlier checkpoint (its bitmap may be lost or inconsistent), it starts without.
func (c *capture) start(ctx context.Context, def *libvirtxml.Domain, disks []libvirtxml.DomainDisk, lasting bool) error {
	err := c.startOnce(ctx, def, disks, lasting)
	var told golibvirt.Error
	if errors.As(err, &told) && c.late != nil {
		// What a call was doing when its caller died may have happened just now.
		before := len(c.cleared)
		if room := c.late(); errors.Is(room, source.ErrBusy) {
			return room
		} else if room == nil && len(c.cleared) > before {
			err = c.startOnce(ctx, def, disks, lasting)
		}
	}
	if len(c.since) == 0 || !errors.As(err, &told) {
		return err
	}
	for target := range c.since {
		c.why[target] = "the hypervisor refused its own checkpoint: " + told.Message
	}
	clear(c.since)
	return c.startOnce(ctx, def, disks, lasting)
}

func (c *capture) startOnce(ctx context.Context, def *libvirtxml.Domain, disks []libvirtxml.DomainDisk, lasting bool) (err error) {
	for try := range daemon.Ports {
		c.server = c.h.Offer(c.mark, c.socket, try)
		if err = c.startAt(ctx, def, disks, lasting); c.server.TCP == nil || err == nil || !strings.Contains(err.Error(), "in use") {
			break
		}
	}
	return err
}

func (c *capture) startAt(ctx context.Context, def *libvirtxml.Domain, disks []libvirtxml.DomainDisk, lasting bool) error {
	backup, checkpoint, err := c.describe(def, disks, lasting)
	if err != nil {
		return err
	}
	var point golibvirt.OptString
	if checkpoint != "" {
		point = golibvirt.OptString{checkpoint}
	}
	c.job, c.checkpoint = true, checkpoint != "" // from here on they may be, whatever we are told
	err = c.h.Within(ctx, daemon.AnswerTime, "start a backup job on guest "+c.domain.Name, func() error {
		return c.h.L.DomainBackupBegin(c.domain, backup, point, 0)
	})
	c.unsure = errors.Is(err, source.ErrUnreachable)
	return err
}

// freezer freezes a guest.
type freezer struct {
	h      *Host
	domain golibvirt.Domain
}

// Guard implements [source.Freezer]. On this host the watchdog is enough.
func (f freezer) Guard(ctx context.Context) (end func(), err error) {
	if _, here := f.h.Way.(daemon.Local); here {
		return func() {}, nil
	}
	return f.h.Guard(ctx, f.domain)
}

func (f freezer) Freeze(ctx context.Context) error { return f.h.Freeze(ctx, f.domain) }

func (f freezer) Thaw(ctx context.Context) (n int, err error) {
	thawed, err := f.h.ThawDomain(ctx, f.domain)
	return int(thawed), err
}

// Close implements [source.Capture].
func (c *capture) Close(ctx context.Context, kept bool, drop []string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanupTime)
	defer cancel()
	for _, d := range c.open {
		d.Close()
	}
	c.open = nil
	var errs []error
	if c.job {
		found, err := c.h.endJob(ctx, c.domain, c.mark)
		c.job = err != nil
		errs = append(errs, err)
		if c.unsure && !found && err == nil {
			errs = append(errs, fmt.Errorf("guest %s: whether the backup job will still begin can't be told; it is looked for again", c.domain.Name))
		}
		if _, here := c.h.Way.(daemon.Local); here {
			os.Remove(c.socket) // QEMU leaves it sometimes; one that is gone is what we want
		}
	}
	if c.checkpoint && !kept {
		drop = append(slices.Clone(drop), c.mark)
	}
	if len(drop) > 0 {
		_, err := c.h.removeCheckpoints(ctx, c.domain, drop)
		errs = append(errs, err)
		kept = kept || err == nil
	}
	c.checkpoint = c.checkpoint && !kept
	if c.woken {
		_, err := c.h.sendToSleep(ctx, c.domain, c.mark)
		c.woken = err != nil
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// checkpoints lists ours on a guest.
func (h *Host) checkpoints(ctx context.Context, d golibvirt.Domain) ([]golibvirt.DomainCheckpoint, error) {
	var points []golibvirt.DomainCheckpoint
	err := h.Within(ctx, daemon.AnswerTime, "list checkpoints of guest "+d.Name, func() (err error) {
		points, _, err = h.L.DomainListAllCheckpoints(d, 1, 0)
		return err
	})
	return slices.DeleteFunc(points, func(p golibvirt.DomainCheckpoint) bool { return !strings.HasPrefix(p.Name, marked) }), err
}

// removeCheckpoints removes ours that bear one of the IDs.
func (h *Host) removeCheckpoints(ctx context.Context, d golibvirt.Domain, ids []string) (removed []string, err error) {
	points, err := h.checkpoints(ctx, d)
	if err != nil {
		return nil, err
	}
	var errs []error
	for _, p := range points {
		id := strings.TrimPrefix(p.Name, marked)
		if !slices.Contains(ids, id) {
			continue
		}
		err := h.removeCheckpoint(ctx, p, 0)
		var told golibvirt.Error
		if errors.As(err, &told) && strings.Contains(told.Message, "bitmap") { // it is lost, so there is only the checkpoint to forget
			err = h.removeCheckpoint(ctx, p, golibvirt.DomainCheckpointDeleteMetadataOnly)
		}
		if daemon.IsCode(err, golibvirt.ErrNoDomainCheckpoint) {
			err = nil
		}
		if err == nil {
			removed = append(removed, id)
		}
		errs = append(errs, err)
	}
	return removed, errors.Join(errs...)
}

func (h *Host) removeCheckpoint(ctx context.Context, p golibvirt.DomainCheckpoint, how golibvirt.DomainCheckpointDeleteFlags) error {
	return h.Within(ctx, daemon.AnswerTime, "remove checkpoint "+p.Name+" of guest "+p.Dom.Name, func() error { return h.L.DomainCheckpointDelete(p, how) })
}

// Marks implements [source.Source].
func (h *Host) Checkpoints(ctx context.Context, machine string) ([]string, error) {
	d, err := h.Domain(ctx, machine)
	if err != nil {
		return nil, err
	}
	points, err := h.checkpoints(ctx, d)
	var ids []string
	for _, p := range points {
		ids = append(ids, strings.TrimPrefix(p.Name, marked))
	}
	return ids, err
}

// DropMarks implements [source.Source].
func (h *Host) DropCheckpoints(ctx context.Context, machine string, ids []string) ([]string, error) {
	d, err := h.Domain(ctx, machine)
	if err != nil {
		return nil, err
	}
	state, err := h.State(ctx, d)
	if err != nil || state == golibvirt.DomainShutoff || state == golibvirt.DomainCrashed {
		return nil, err // libvirt removes a bitmap only through a QEMU process
	}
	return h.removeCheckpoints(ctx, d, ids)
}
