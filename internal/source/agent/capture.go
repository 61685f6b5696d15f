package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/nbd"
	"keenlodge/internal/source"
)

const (
	// format is what disks of servers are: bytes on a device.
	format = "raw"
	// longestFreeze is how long file systems stand still at most where nothing else is asked for.
	longestFreeze = 10 * time.Second
	// mostWarnings bounds what is taken over of an agent's warnings.
	mostWarnings = 100
	// mostRounds is how often what was written meanwhile is read again before a server writes too much for it.
	mostRounds = 12
	// endTime is how long an agent may take to end a capture; what it has not ended then is cleared later, and given up by itself at last.
	endTime = 15 * time.Second
)

// session is what captures of disks and of files have in common. The agent keeps a capture while the line is cut.
type session struct {
	s        *Source
	r        source.Request
	ctx      context.Context // in which it was begun
	open     []io.Closer
	earlier  []string
	warnings []string
	reached  bool // the agent had a line
	asked    bool // it may have begun the capture
	ended    bool
}

func (c *session) Firmware() []image.Firmware { return nil }
func (c *session) Warnings() []string         { return slices.Clone(c.warnings) }
func (c *session) Checkpoints() []string      { return c.earlier }

// capture is one of a server's disks.
type capture struct {
	session
	begun   line.Begun
	disks   []source.CapturedDisk
	rounds  int
	settled line.Settled
}

func (c *capture) Disks() []source.CapturedDisk { return c.disks }

// Definition implements [source.Capture]: how the server is laid out, as JSON that a person can read.
func (c *capture) Definition() string { return indented(c.begun.Layout) }

// Consistency implements [source.Capture].
func (c *capture) Consistency() (image.Consistency, time.Duration) {
	if c.settled.Held && image.Held(c.Rested()) {
		return image.Application, c.settled.Frozen
	}
	if c.settled.Held {
		return image.FileSystem, c.settled.Frozen
	}
	return image.Crash, c.settled.Frozen
}

// Rested implements [source.Rester].
func (c *capture) Rested() (out []image.Rested) {
	for _, r := range c.settled.Rested[:min(len(c.settled.Rested), len(c.r.Applications))] {
		out = append(out, image.Rested{Name: plain.Text(r.Name, 100), Before: r.Before, After: r.After, Failed: plain.Text(r.Failed, 1<<10)})
	}
	return out
}

// Holes implements [source.Holed].
func (c *capture) Holes() map[string][]image.Range {
	out := map[string][]image.Range{}
	for target, all := range c.settled.Holes {
		for _, r := range all {
			out[target] = append(out[target], image.Range(r))
		}
	}
	return out
}

// Capture implements [source.Capturer].
func (s *Source) Capture(ctx context.Context, r source.Request) (source.Capture, error) {
	if r.LongestFreeze == 0 {
		r.LongestFreeze = longestFreeze
	}
	if r.Files != nil {
		return s.captureFiles(ctx, r)
	}
	c := &capture{session: session{s: s, r: r}}
	if err := c.begin(ctx); err != nil {
		return nil, errors.Join(err, c.Close(context.WithoutCancel(ctx), false, nil))
	}
	return c, nil
}

// prepare makes sure that the server is the one that is meant, and that nothing of a dead process is in the way.
func (c *session) prepare(ctx context.Context) (err error) {
	c.ctx = ctx
	servers, err := c.s.lines.Servers(ctx, c.s.name)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(servers, func(v Server) bool { return v.Name == c.r.Machine })
	if i < 0 || c.r.UUID != "" && servers[i].UUID != c.r.UUID {
		return fmt.Errorf("%w: no server %s is enrolled", source.ErrNoMachine, c.r.Machine)
	}
	err = c.persist(ctx, func() (err error) {
		c.earlier, err = c.s.Checkpoints(ctx, c.r.Machine)
		return err
	})
	if err != nil {
		return err
	}
	// One that a dead process left open is cleared first; the agent has one at a time.
	if err := c.makeRoom(ctx); err != nil {
		return err
	}
	c.asked = true
	return nil
}

func (c *capture) begin(ctx context.Context) (err error) {
	if err := c.prepare(ctx); err != nil {
		return err
	}
	ask := line.Begin{ID: c.r.ID, Since: c.r.Since, Disks: c.r.Disks, Remember: c.r.Checkpoint, Holes: c.r.Holes}
	if err := c.persist(ctx, func() error { return c.s.ask(ctx, c.r.Machine, line.CallBegin, ask, &c.begun) }); err != nil {
		return err
	}
	if err := c.check(); err != nil {
		return err
	}
	c.warn(c.begun.Warnings)
	for _, d := range c.begun.Disks {
		opened, err := c.read(ctx, d.Target, d.Since, 0)
		if err != nil {
			return err
		}
		if opened.Size() != d.Size {
			return fmt.Errorf("server %s: disk %s was to have %d bytes, and is offered with %d", c.r.Machine, d.Target, d.Size, opened.Size())
		}
		disk := source.CapturedDisk{Target: d.Target, Format: format, Disk: opened, Why: plain.Text(d.Why, 1<<10), Moving: true}
		if d.Since {
			disk.Whole = opened.Whole()
		}
		c.disks = append(c.disks, disk)
	}
	return nil
}

// check looks at what the agent says of its disks: a server that somebody took over says what he likes.
func (c *capture) check() error {
	seen := map[string]bool{}
	for _, d := range c.begun.Disks {
		asked := len(c.r.Disks) == 0 || slices.Contains(c.r.Disks, d.Target)
		if !image.IsTarget(d.Target) || seen[d.Target] || !asked || d.Size <= 0 || d.Size > image.MaxDisk {
			return fmt.Errorf("server %s offers a disk %.40q of %d bytes, which can't be or was not asked for", c.r.Machine, d.Target, d.Size)
		}
		seen[d.Target] = true
	}
	if len(seen) == 0 {
		return fmt.Errorf("server %s offers no disk", c.r.Machine)
	}
	return nil
}

// warn takes over warnings of the agent's.
func (c *session) warn(texts []string) {
	for _, text := range texts[:min(len(texts), mostWarnings)] {
		c.warnings = append(c.warnings, plain.Text(text, 1<<10))
	}
}

// makeRoom clears the capture that the agent has open, if its maker is dead.
func (c *session) makeRoom(ctx context.Context) error {
	var open line.Known
	if err := c.persist(ctx, func() error { return c.s.ask(ctx, c.r.Machine, line.CallOpen, nil, &open) }); err != nil {
		return err
	}
	for _, id := range open.IDs {
		if err := c.r.OfTheDead(ctx, id); err != nil {
			return fmt.Errorf("server %s: %w", c.r.Machine, err)
		}
		found, err := c.s.Clear(ctx, c.r.Machine, id, false)
		for _, f := range found {
			c.warnings = append(c.warnings, "a service that died had left something behind: "+f)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// read opens a disk of the capture, as it is in a round.
func (c *capture) read(ctx context.Context, target string, since bool, round int) (*nbd.Steady, error) {
	bitmap := ""
	if since {
		bitmap = line.Bitmap
	}
	redial := nbd.Redial{What: "disk " + target, Whose: "server " + c.r.Machine, Tell: c.r.Tell, Patience: c.s.patience,
		Dial: func(ctx context.Context) (*nbd.Client, error) {
			conn, err := c.s.open(ctx, c.r.Machine, line.CallRead, line.Read{ID: c.r.ID, Target: target, Round: round}, nil)
			if err != nil {
				return nil, err
			}
			return nbd.Over(ctx, conn, nil, target, bitmap)
		},
		Over: func(_ context.Context, failed error) error {
			if refused := new(line.Refusal); errors.As(failed, &refused) {
				return errors.New("the agent has ended the capture (was it started anew?)")
			}
			return nil
		}}
	var opened *nbd.Steady
	err := c.persist(ctx, func() (err error) {
		opened, err = nbd.Steadily(ctx, redial)
		return err
	})
	if err == nil {
		c.open = append(c.open, opened)
	}
	return opened, err
}

// Settle implements [source.Settler].
func (c *capture) Settle(ctx context.Context) (disks []source.CapturedDisk, done bool, err error) {
	c.rounds++
	ask := line.Settle{ID: c.r.ID, Round: c.rounds, Freeze: c.r.Quiesce != machine.NoFreeze, Longest: c.r.LongestFreeze, Required: c.r.Quiesce == machine.Required, Last: c.rounds >= mostRounds}
	for _, a := range c.r.Applications {
		ask.Applications = append(ask.Applications, line.Application{Name: a.Name, Within: a.Limit()})
	}
	var got line.Settled
	if err := c.persist(ctx, func() error { return c.s.ask(ctx, c.r.Machine, line.CallSettle, ask, &got) }); err != nil {
		return nil, false, err
	}
	c.settled = got
	c.warn(got.Warnings)
	for _, d := range c.begun.Disks {
		if got.Changed[d.Target] == 0 {
			continue
		}
		opened, err := c.read(ctx, d.Target, true, c.rounds)
		if err != nil {
			return nil, false, err
		}
		disks = append(disks, source.CapturedDisk{Target: d.Target, Format: format, Disk: opened, Moving: !got.Done})
	}
	return disks, got.Done, nil
}

// persist asks again while the line is cut, for a while: what is asked so is carried out once, however often it is asked. An agent that had no
// line in the first place is not waited for.
func (c *session) persist(ctx context.Context, ask func() error) error {
	for begun := time.Now(); ; {
		err := ask()
		if err == nil {
			c.reached = true
		}
		cut := errors.Is(err, line.ErrCut) || errors.Is(err, nbd.ErrBroken) || c.reached && errors.Is(err, source.ErrUnreachable)
		c.reached = c.reached || cut
		if err == nil || !cut || time.Since(begun) > c.s.patience {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%w: %w", err, context.Cause(ctx))
		case <-time.After(time.Second):
		}
	}
}

// Close implements [source.Capture].
func (c *session) Close(ctx context.Context, kept bool, drop []string) error {
	for _, d := range c.open {
		d.Close()
	}
	c.open = nil
	if c.ended || !c.asked {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), endTime)
	defer cancel()
	err := c.persist(ctx, func() error {
		return c.s.ask(ctx, c.r.Machine, line.CallEnd, line.End{ID: c.r.ID, Kept: kept, Drop: drop}, nil)
	})
	c.ended = err == nil
	return err
}

// Clear implements [source.Capturer].
func (s *Source) Clear(ctx context.Context, name, id string, _ bool) ([]string, error) {
	var c line.Cleared
	err := s.ask(ctx, name, line.CallClear, line.End{ID: id}, &c)
	if errors.Is(err, source.ErrNoMachine) {
		return nil, nil // it was dismissed: nothing of it is ours any more
	}
	for i, f := range c.Found {
		c.Found[i] = plain.Text(f, 1<<10)
	}
	return c.Found, err
}

// Checkpoints implements [source.Capturer].
func (s *Source) Checkpoints(ctx context.Context, name string) ([]string, error) {
	var k line.Known
	err := s.ask(ctx, name, line.CallKnown, nil, &k)
	return k.IDs, err
}

// DropCheckpoints implements [source.Capturer].
func (s *Source) DropCheckpoints(ctx context.Context, name string, ids []string) ([]string, error) {
	var k line.Known
	err := s.ask(ctx, name, line.CallForget, line.Known{IDs: ids}, &k)
	return k.IDs, err
}

// Thaw implements [source.Capturer]: the agent's own watchdog thaws, and it can be told to as well.
func (s *Source) Thaw(ctx context.Context, name string) error {
	return s.ask(ctx, name, line.CallThaw, nil, nil)
}

var (
	_ source.Capturer = (*Source)(nil)
	_ source.Settler  = (*capture)(nil)
	_ source.Holed    = (*capture)(nil)
)
