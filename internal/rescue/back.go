package rescue

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/layout"
	"keenlodge/internal/mount"
	"keenlodge/internal/reader"
	"keenlodge/internal/reader/inside"
)

var errNoDisk = errors.New("this machine has no disk that the medium's kernel knows")

// line is a disk in one line.
func (t *target) line() string {
	return fmt.Sprintf("%-10s %10s  %-24s %s", t.name, size(t.size), t.model, cmp.Or(t.holds, "empty"))
}

// back gets a machine back.
func back(ctx context.Context, c *console, o origin) (err error) {
	defer func() { err = errors.Join(err, o.Close()) }()
	c.say("  looking at %s …", o)
	all, unread, err := o.images(ctx)
	if err != nil {
		return err
	}
	if unread != nil {
		c.say("! images that can't be read are not shown: %v", unread)
	}
	if len(all) == 0 {
		return fmt.Errorf("%s has no image of a whole machine that this medium may have", o)
	}
	id, err := chooseImage(ctx, c, all)
	if err != nil {
		return err
	}
	w, err := o.open(ctx, id)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, w.Close()) }()
	byUEFI := startedByUEFI()
	held := ""
	if b, ok := o.(*bare); ok {
		held = b.disk
	}
	jobs, err := assign(ctx, c, w, held, byUEFI)
	if err != nil {
		return err
	}
	if err := agreed(ctx, c, w, jobs, byUEFI); err != nil {
		return err
	}
	for _, j := range jobs {
		if err := j.write(ctx, c); err != nil {
			return fmt.Errorf("disk %s: %w; what lies on it now is not whole, and the same can be done again", j.to.name, err)
		}
	}
	if err := settle(ctx, c, w, jobs, byUEFI); err != nil {
		return err
	}
	c.say("\n✓ %s is back, as of %s", w.machine, w.taken.UTC().Format(time.DateTime+" MST"))
	if err := c.pause(ctx, "It is started from its disk now"); err != nil {
		return err
	}
	return errLeave
}

// chooseImage asks for a machine, and which of its images.
func chooseImage(ctx context.Context, c *console, all []found) (string, error) {
	var machines []string
	for _, f := range all {
		if !slices.Contains(machines, f.machine) {
			machines = append(machines, f.machine)
		}
	}
	slices.Sort(machines)
	i := 0
	var err error
	if len(machines) > 1 {
		if i, err = c.choose(ctx, "Which machine", machines); err != nil {
			return "", err
		}
	}
	all = slices.DeleteFunc(slices.Clone(all), func(f found) bool { return f.machine != machines[i] })
	var lines []string
	for _, f := range all {
		lines = append(lines, fmt.Sprintf("%s of %s  %s  %10s  %s", f.id, f.machine, f.taken.UTC().Format(time.DateTime+" MST"), size(f.size), f.note))
	}
	if i, err = c.choose(ctx, "Which image", lines); err != nil {
		return "", err
	}
	return all[i].id, nil
}

// job is a disk of an image that goes onto one of this machine.
type job struct {
	from namedDisk
	to   *target
	plan layout.Plan
}

// assign finds out which disk goes where, and how that will be divided. held is a disk that is read from. Where the machine starts by other firmware, the first
// disk has a partition more, for that.
func assign(ctx context.Context, c *console, w *whole, held string, byUEFI bool) (jobs []job, err error) {
	disks, err := targets()
	if err != nil {
		return nil, err
	}
	disks = slices.DeleteFunc(disks, func(t *target) bool { return t.name == held })
	if len(disks) < len(w.disks) {
		return nil, fmt.Errorf("the image has %d disks, and this machine %d to write to", len(w.disks), len(disks))
	}
	for _, d := range w.disks {
		i := 0
		if len(disks) > 1 {
			var lines []string
			for _, t := range disks {
				lines = append(lines, t.line())
			}
			if i, err = c.choose(ctx, fmt.Sprintf("Onto which disk goes %s (%s)", d.target, size(d.Size())), lines); err != nil {
				return nil, err
			}
		}
		j := job{from: d, to: disks[i]}
		disks = slices.Delete(slices.Clone(disks), i, i+1)
		l, err := layout.Read(d)
		extra := layout.Extra("")
		if len(jobs) == 0 && w.uefi != byUEFI {
			extra = extraFor(byUEFI, l)
		}
		if err != nil && (j.to.size != d.Size() || extra != "") {
			return nil, fmt.Errorf("disk %s can't be divided otherwise, as %s (%s) and the firmware of this machine take: %w; choose a disk of %s, or another image", d.target, j.to.name, size(j.to.size), err, size(d.Size()))
		}
		if err == nil {
			if j.plan, err = l.Fit(j.to.size, func(p layout.Part) int64 { return layout.Least(d, p) }, extra); err != nil {
				return nil, fmt.Errorf("disk %s onto %s: %w", d.target, j.to.name, err)
			}
			for i := range j.plan.Steps { // nothing is written to the image here, so nothing in it gets smaller first
				if s := &j.plan.Steps[i]; s.Way == layout.Shrink {
					s.Way = layout.Copy
				}
			}
		} else {
			j.plan = layout.Plan{From: layout.Disk{Size: d.Size()}, Size: d.Size()}
		}
		jobs = append(jobs, j)
	}
	return jobs, nil
}

// extraFor is the partition that other firmware needs.
func extraFor(byUEFI bool, l layout.Disk) layout.Extra {
	switch {
	case byUEFI:
		return layout.ESP
	case l.Table == layout.GPT:
		return layout.BIOSBoot
	}
	return ""
}

// agreed shows what will be done, and asks for it. Where something lies on a disk, its name is to be typed.
func agreed(ctx context.Context, c *console, w *whole, jobs []job, byUEFI bool) error {
	c.say("\n  image %s of %s, taken %s:", w.id, w.machine, w.taken.UTC().Format(time.DateTime+" MST"))
	if w.uefi != byUEFI {
		c.say("  ! it started by %s, and this machine was booted by %s: it gets a boot loader for that, which reads the menu of its own", reader.Firmware(w.uefi), reader.Firmware(byUEFI))
	}
	var hold []string
	for _, j := range jobs {
		c.say("\n  %s (%s) goes onto %s (%s)", j.from.target, size(j.from.Size()), j.to.name, strings.TrimSpace(size(j.to.size)+" "+j.to.model))
		for _, s := range j.plan.Steps {
			name := s.To.Name(j.to.name + " ")
			how := map[layout.Way]string{layout.Keep: "as it is", layout.Grow: "grows", layout.Copy: "gets smaller: its files are copied", layout.Add: "is new"}[s.Way]
			if s.Way != layout.Add && s.To.Offset != s.From.Offset {
				how += ", and moves"
			}
			c.say("    %-14s %-8s %10s  %10s  %s", name, cmp.Or(s.From.Format, "–"), size(s.From.Length), size(s.To.Length), how)
		}
		for _, n := range j.plan.Notices {
			c.say("    ! %s", n)
		}
		if j.to.holds != "" {
			c.say("    ! what lies on %s now is lost: %s", j.to.name, j.to.holds)
			hold = append(hold, j.to.name)
		}
	}
	want := "yes"
	if len(hold) > 0 {
		want = strings.Join(hold, " ")
	}
	text, err := c.ask(ctx, fmt.Sprintf("\nWrite it? Type %q", want), "")
	if err != nil {
		return err
	}
	if text != want {
		return errors.New("nothing was written")
	}
	return nil
}

// write writes the disk.
func (j job) write(ctx context.Context, c *console) (err error) {
	composed, err := j.plan.Compose(j.from.Disk)
	if err != nil {
		return err
	}
	if err := j.to.open(true); err != nil {
		return fmt.Errorf("open it for writing: %w", err)
	}
	defer func() { err = errors.Join(err, j.to.close()) }()
	begun := time.Now()
	var last, done atomic.Int64
	c.say("")
	err = write(ctx, composed, j.to, func(n int64) {
		done.Store(n)
		if now := time.Now().Unix(); last.Swap(now) != now {
			fmt.Fprintf(c, "\r  %s: %s written, %s/s   ", j.to.name, size(n), size(int64(float64(n)/max(time.Since(begun).Seconds(), 0.001))))
		}
	})
	if err != nil {
		return err
	}
	c.say("\r  %s: %s written and put down in %s   ", j.to.name, size(done.Load()), time.Since(begun).Round(time.Second/10))
	return j.to.again()
}

// settle has what lies on the disks take its room, and be found.
func settle(ctx context.Context, c *console, w *whole, jobs []job, byUEFI bool) error {
	f := reader.Fit{Findable: w.uefi && byUEFI}
	if w.uefi != byUEFI {
		f.Boot = &reader.Boot{UEFI: byUEFI, Disk: jobs[0].to.name}
	}
	var names []string
	sources := map[string]disk.Disk{}
	for _, j := range jobs {
		names = append(names, j.to.name)
		for _, s := range j.plan.Steps {
			name := s.To.Name(j.to.name)
			switch s.Way {
			case layout.Grow:
				f.Grow = append(f.Grow, name)
			case layout.Copy:
				part, err := s.From.Of(j.from)
				if err != nil {
					return err
				}
				sources[reader.OldDisk+name] = part
				f.Copies = append(f.Copies, reader.Copies{From: reader.OldDisk + name, To: name})
			case layout.Add:
				f.Boot.Partition = name
			}
		}
	}
	if !f.Findable && f.Boot == nil && len(f.Grow)+len(f.Copies) == 0 {
		return nil
	}
	g, err := inside.Open(names)
	if err != nil {
		return err
	}
	if len(sources) > 0 {
		c.say("  copying files into smaller file systems ...")
		m, err := mount.Disks("/tmp/sources", sources)
		if err != nil {
			return errors.Join(err, g.Rest())
		}
		defer m.Close() // all of it goes with the machine's memory
		for _, s := range m.FileSystems {
			if s.Folder == "" {
				return errors.Join(fmt.Errorf("%s of the image can't be opened: %s", s.Disk, s.Why), g.Rest())
			}
			g.Beside(s.Disk, sources[s.Disk], s.Folder)
		}
	}
	done, err := g.Fit(ctx, f)
	for _, what := range done {
		c.say("  %s", what)
	}
	if err != nil {
		err = fmt.Errorf("all of it was written, and it is not ready to start: %w; it may be done again, or be put right by hand", err)
	}
	return errors.Join(err, g.Rest())
}
