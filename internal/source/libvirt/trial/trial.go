// Package trial starts throwaway guests through libvirt: they are known to the daemon only while they run, and it ends them when the connection ends
// over which they were started.
package trial

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

const (
	// longestSerial bounds what is kept of what a guest says, in bytes: the last of it.
	longestSerial = 1 << 20
	// startTime is how long libvirt may take to start one.
	startTime = time.Minute
	// textAt is where a screen's text lies in a PC's memory (VGA): for each place its character and its colour, 80 in each of 25 rows.
	textAt, columns, rows = 0xb8000, 80, 25
	// longestPicture bounds a picture of a screen, in bytes.
	longestPicture = 64 << 20
)

// guest is a throwaway guest.
type guest struct {
	c       *daemon.Conn
	own     *daemon.Own // the connection over which it was started
	name    string
	d       golibvirt.Domain
	disks   []string
	adapted []string

	mu         sync.Mutex
	serial     []byte
	poweredOff bool
	closed     bool
}

// AbilitiesOf asks what a host can run.
func AbilitiesOf(ctx context.Context, c *daemon.Conn) (on Abilities, err error) {
	var text string
	var domains []string
	err = c.Within(ctx, daemon.AnswerTime, "ask what the host can run", func() (err error) {
		if text, err = c.L.ConnectGetCapabilities(); err != nil {
			return err
		}
		for _, machine := range []string{"pc", "q35"} {
			// A host need not have both.
			if one, err := c.L.ConnectGetDomainCapabilities(nil, golibvirt.OptString{"x86_64"}, golibvirt.OptString{machine}, nil, 0); err == nil {
				domains = append(domains, one)
			}
		}
		_, _, cpus, _, _, _, _, _, err := c.L.NodeGetInfo()
		on.CPUs = int(cpus)
		return err
	})
	if err != nil {
		return on, err
	}
	var caps libvirtxml.Caps
	if err := caps.Unmarshal(text); err != nil {
		return on, fmt.Errorf("what the host can run: %w", err)
	}
	for _, g := range caps.Guests {
		if g.OSType != "hvm" || g.Arch.Name != "x86_64" {
			continue
		}
		for _, d := range g.Arch.Domains {
			on.KVM = on.KVM || d.Type == "kvm"
			for _, m := range d.Machines {
				on.Machines = append(on.Machines, m.Name, m.Canonical)
			}
		}
		for _, m := range g.Arch.Machines {
			on.Machines = append(on.Machines, m.Name, m.Canonical)
		}
	}
	for _, text := range domains {
		var d libvirtxml.DomainCaps
		if err := d.Unmarshal(text); err != nil {
			return on, fmt.Errorf("what the host can run: %w", err)
		}
		if d.OS != nil && d.OS.Loader != nil {
			on.Firmware = append(on.Firmware, d.OS.Loader.Values...)
		}
	}
	return on, nil
}

// Can says in what a guest would differ from its definition, or why it can't be tried.
func Can(ctx context.Context, c *daemon.Conn, t source.Throwaway) (adapted []string, err error) {
	on, err := AbilitiesOf(ctx, c)
	if err != nil {
		return nil, err
	}
	t.Plug = nil
	_, adapted, err = cut(t, on)
	return adapted, err
}

// Start starts one, and begins to hear what it says.
func Start(ctx context.Context, c *daemon.Conn, t source.Throwaway) (source.Trying, error) {
	on, err := AbilitiesOf(ctx, c)
	if err != nil {
		return nil, err
	}
	def, adapted, err := cut(t, on)
	if err != nil {
		return nil, err
	}
	own, err := c.Another(ctx)
	if err != nil {
		return nil, err
	}
	g := &guest{c: c, own: own, name: def.Name, adapted: adapted}
	for _, place := range t.Disks {
		g.disks = append(g.disks, place)
	}
	if err := g.follow(context.WithoutCancel(ctx)); err != nil {
		own.Close()
		return nil, err
	}
	if err := g.create(ctx, def); err != nil {
		return nil, errors.Join(err, g.Close(context.WithoutCancel(ctx)))
	}
	go own.L.DomainOpenConsole(g.d, nil, hearing{g}, uint32(golibvirt.DomainConsoleForce)) // it ends with the connection
	err = own.Within(ctx, startTime, "start guest "+g.name, func() error { return own.L.DomainResume(g.d) })
	if err != nil {
		return nil, errors.Join(err, g.Close(context.WithoutCancel(ctx)))
	}
	return g, nil
}

// follow notes what becomes of it: once it has ended nobody can be asked any more. It ends with the connection.
func (g *guest) follow(ctx context.Context) error {
	events, err := g.own.L.LifecycleEvents(ctx)
	if err != nil {
		return fmt.Errorf("follow what becomes of guest %s: %w", g.name, err)
	}
	go func() {
		for e := range events {
			if e.Dom.Name != g.name || golibvirt.DomainEventType(e.Event) != golibvirt.DomainEventStopped {
				continue
			}
			g.mu.Lock()
			g.poweredOff = golibvirt.DomainEventStoppedDetailType(e.Detail) == golibvirt.DomainEventStoppedShutdown
			g.mu.Unlock()
		}
	}()
	return nil
}

// gone is how it ended.
func (g *guest) gone() source.Standing {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.poweredOff {
		return source.PoweredOff
	}
	return source.Gone
}

// create has libvirt make it, paused; where the host can't give it the processor of its definition, with such as it has.
func (g *guest) create(ctx context.Context, def *libvirtxml.Domain) error {
	try := func() error {
		text, err := def.Marshal()
		if err != nil {
			return err
		}
		return g.own.Within(ctx, startTime, "start guest "+g.name, func() (err error) {
			g.d, err = g.own.L.DomainCreateXML(text, golibvirt.DomainStartPaused|golibvirt.DomainStartAutodestroy)
			return err
		})
	}
	err := try()
	if !daemon.IsCode(err, golibvirt.ErrConfigUnsupported, golibvirt.ErrCPUIncompatible, golibvirt.ErrInternalError, golibvirt.ErrOperationFailed) {
		return err
	}
	generic(def)
	if again := try(); again != nil {
		return err // the first one says more
	}
	g.adapted = append(g.adapted, "it has a processor with all that the host has, for it could not be given its own: "+plain.Text(err.Error(), 300))
	return nil
}

// hearing takes what a guest says on its serial line.
type hearing struct{ g *guest }

func (h hearing) Write(p []byte) (int, error) {
	h.g.mu.Lock()
	defer h.g.mu.Unlock()
	h.g.serial = append(h.g.serial, p...)
	if over := len(h.g.serial) - longestSerial; over > 0 {
		h.g.serial = slices.Delete(h.g.serial, 0, over)
	}
	return len(p), nil
}

// Name implements [source.Trying].
func (g *guest) Name() string { return g.name }

// Adapted implements [source.Trying].
func (g *guest) Adapted() []string { return g.adapted }

// Look implements [source.Trying].
func (g *guest) Look(ctx context.Context) (s source.Sight, err error) {
	g.mu.Lock()
	s.Serial = string(g.serial)
	g.mu.Unlock()
	s.Standing = source.Up
	err = g.c.Within(ctx, daemon.AnswerTime, "look at guest "+g.name, func() error {
		state, reason, err := g.c.L.DomainGetState(g.d, 0)
		if daemon.IsCode(err, golibvirt.ErrNoDomain) {
			s.Standing = g.gone()
			return nil
		}
		if err != nil {
			return err
		}
		switch {
		case golibvirt.DomainState(state) == golibvirt.DomainCrashed || golibvirt.DomainState(state) == golibvirt.DomainPaused && golibvirt.DomainPausedReason(reason) == golibvirt.DomainPausedCrashed:
			s.Standing = source.Crashed
		case golibvirt.DomainState(state) == golibvirt.DomainShutoff:
			s.Standing = g.gone()
			return nil
		case golibvirt.DomainState(state) == golibvirt.DomainPaused && golibvirt.DomainPausedReason(reason) == golibvirt.DomainPausedIoerror:
			s.Standing = source.Starved
		}
		if text, err := g.c.L.DomainMemoryPeek(g.d, textAt, columns*rows*2, golibvirt.MemoryPhysical); err == nil { // a screen need not show text
			s.Screen = screen(text)
		}
		for _, disk := range g.disks {
			allocation, _, _, err := g.c.L.DomainGetBlockInfo(g.d, disk, 0)
			if err != nil && !daemon.IsCode(err, golibvirt.ErrNoDomain, golibvirt.ErrOperationInvalid) {
				return err
			}
			s.Written += int64(allocation)
		}
		return nil
	})
	return s, err
}

// screen is the text of a screen, "" where it shows none: what lies there then is of another kind.
func screen(memory []byte) string {
	var out strings.Builder
	strange := 0
	for r := range rows {
		line := make([]byte, 0, columns)
		for c := range columns {
			i := (r*columns + c) * 2
			if i >= len(memory) {
				break
			}
			b := memory[i]
			if b == 0 {
				b = ' '
			}
			if b < ' ' || b > '~' {
				strange++
				b = '.' // frames and the like
			}
			line = append(line, b)
		}
		out.WriteString(strings.TrimRight(string(line), " ") + "\n")
	}
	if strange > columns*rows/3 {
		return ""
	}
	return strings.TrimRight(out.String(), "\n")
}

// Picture implements [source.Trying].
func (g *guest) Picture(ctx context.Context) ([]byte, error) {
	// The stream of a picture may leave its connection unfit for more, so it has one of its own.
	own, err := g.c.Another(ctx)
	if err != nil {
		return nil, err
	}
	defer own.Close()
	out := &limited{left: longestPicture}
	err = own.Within(ctx, pictureTime, "take a picture of guest "+g.name, func() error {
		_, err := own.L.DomainScreenshot(g.d, out, 0, 0)
		return err
	})
	taken := out.taken()
	if len(taken) == 0 || errors.As(err, new(golibvirt.Error)) {
		return nil, err
	}
	// The library looks for the answer behind the picture, where there is none; whether it is whole shows when it is read.
	if bytes.HasPrefix(taken, []byte("\x89PNG")) {
		_, err := png.Decode(bytes.NewReader(taken))
		return taken, err
	}
	shown, err := portable(taken)
	if err != nil {
		return nil, fmt.Errorf("the picture of guest %s: %w", g.name, err)
	}
	var body bytes.Buffer
	err = png.Encode(&body, shown)
	return body.Bytes(), err
}

// pictureTime is how long a picture may take.
const pictureTime = 10 * time.Second

// limited takes so many bytes, and leaves what is more than that: whoever does not read a stream to its end keeps the library waiting.
type limited struct {
	mu   sync.Mutex
	body []byte
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.body = append(l.body, p[:min(len(p), l.left)]...)
	l.left -= min(len(p), l.left)
	return len(p), nil
}

// taken is what was taken so far.
func (l *limited) taken() []byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	return bytes.Clone(l.body)
}

var pixmap = regexp.MustCompile(`^P6\s+(\d{1,5})\s+(\d{1,5})\s+255\s`)

// portable reads a picture in the portable pixmap format, as QEMU writes it (ppm(5), P6 with 8 bits).
func portable(body []byte) (image.Image, error) {
	head := pixmap.FindSubmatch(body)
	if head == nil {
		return nil, errors.New("it is no portable pixmap")
	}
	wide, _ := strconv.Atoi(string(head[1])) // of at most five digits
	high, _ := strconv.Atoi(string(head[2]))
	pixels := body[len(head[0]):]
	if wide == 0 || high == 0 || len(pixels) != wide*high*3 {
		return nil, fmt.Errorf("a portable pixmap of %d by %d has %d bytes", wide, high, len(pixels))
	}
	out := image.NewNRGBA(image.Rect(0, 0, wide, high))
	for i := range wide * high {
		copy(out.Pix[i*4:], pixels[i*3:i*3+3])
		out.Pix[i*4+3] = 0xff
	}
	return out, nil
}

// GoOn implements [source.Trying].
func (g *guest) GoOn(ctx context.Context) error {
	return g.c.Within(ctx, daemon.AnswerTime, "have guest "+g.name+" go on", func() error { return g.c.L.DomainResume(g.d) })
}

// Close implements [source.Trying].
func (g *guest) Close(ctx context.Context) error {
	g.mu.Lock()
	was := g.closed
	g.closed = true
	g.mu.Unlock()
	if was {
		return nil
	}
	_, err := destroy(ctx, g.c, g.name)
	g.own.Close()
	return err
}

// destroy ends a guest by its name, and tells whether there was one.
func destroy(ctx context.Context, c *daemon.Conn, name string) (was bool, err error) {
	err = c.Within(ctx, startTime, "end guest "+name, func() error {
		d, err := c.L.DomainLookupByName(name)
		if err == nil {
			was = true
			err = c.L.DomainDestroy(d)
		}
		if daemon.IsCode(err, golibvirt.ErrNoDomain, golibvirt.ErrOperationInvalid) {
			return nil
		}
		return err
	})
	return was, err
}

// Clear ends a guest that a process that died left, and removes its files from a pool.
func Clear(ctx context.Context, c *daemon.Conn, id string, pool golibvirt.StoragePool) (found []string, err error) {
	name := source.TrialMark + id
	was, err := destroy(ctx, c, name)
	if err != nil {
		return nil, err
	}
	if was {
		found = append(found, "ended guest "+name)
	}
	if c.IsHere() {
		found = append(found, killLost(name)...)
	}
	err = c.Within(ctx, startTime, "remove the files of guest "+name, func() error {
		if err := c.L.StoragePoolRefresh(pool, 0); err != nil {
			return err
		}
		volumes, _, err := c.L.StoragePoolListAllVolumes(pool, 1, 0)
		if err != nil {
			return err
		}
		for _, v := range volumes {
			if !strings.HasPrefix(v.Name, name+"-") {
				continue
			}
			if err := c.L.StorageVolDelete(v, 0); err != nil && !daemon.IsCode(err, golibvirt.ErrNoStorageVol) {
				return err
			}
			found = append(found, "removed volume "+v.Name)
		}
		return nil
	})
	return found, err
}

// killLost kills the QEMU of a guest that its daemon forgot, for it died while it started it.
func killLost(name string) (found []string) {
	processes, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, p := range processes {
		body, err := os.ReadFile(p)
		if err != nil {
			continue // it ended
		}
		args := strings.Split(string(body), "\x00")
		i := slices.Index(args, "-name")
		if i < 0 || i+1 >= len(args) || !strings.HasPrefix(args[i+1]+",", "guest="+name+",") || !strings.Contains(filepath.Base(args[0]), "qemu") {
			continue
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(p)))
		if err == nil && syscall.Kill(pid, syscall.SIGKILL) == nil {
			found = append(found, fmt.Sprintf("killed QEMU (process %d) of guest %s", pid, name))
		}
	}
	return found
}

// idleOver is over what time it is looked how much a host's processors have to do.
const idleOver = 500 * time.Millisecond

// Spare tells what a host has left, and room in a pool.
func Spare(ctx context.Context, c *daemon.Conn, pool golibvirt.StoragePool) (s source.Spare, err error) {
	err = c.Within(ctx, daemon.AnswerTime, "ask what the host has left", func() error {
		// What caches hold is free, too (libvirt tells of it on Linux).
		list, n, err := c.L.NodeGetMemoryStats(0, int32(golibvirt.NodeMemoryStatsAllCells), 0)
		if err == nil {
			list, _, err = c.L.NodeGetMemoryStats(n, int32(golibvirt.NodeMemoryStatsAllCells), 0)
		}
		if err != nil {
			return err
		}
		for _, m := range list {
			if m.Field == "free" || m.Field == "cached" || m.Field == "buffers" {
				s.Memory += int64(m.Value) << 10
			}
		}
		if err := c.L.StoragePoolRefresh(pool, 0); err != nil {
			return err
		}
		_, _, _, free, err := c.L.StoragePoolGetInfo(pool)
		s.Room = int64(free)
		return err
	})
	if err != nil {
		return s, err
	}
	before, err := times(ctx, c)
	if err != nil {
		return s, err
	}
	select {
	case <-ctx.Done():
		return s, context.Cause(ctx)
	case <-time.After(idleOver):
	}
	after, err := times(ctx, c)
	if all := after[0] - before[0]; all > 0 {
		s.Idle = float64(after[1]-before[1]) / float64(all)
	}
	return s, err
}

// times is how long a host's processors have been counted, and how long they had nothing to do, all together, in nanoseconds.
func times(ctx context.Context, c *daemon.Conn) (t [2]uint64, err error) {
	err = c.Within(ctx, daemon.AnswerTime, "ask what the host's processors do", func() error {
		list, n, err := c.L.NodeGetCPUStats(int32(golibvirt.NodeCPUStatsAllCpus), 0, 0)
		if err == nil {
			list, _, err = c.L.NodeGetCPUStats(int32(golibvirt.NodeCPUStatsAllCpus), n, 0)
		}
		for _, m := range list {
			if t[0] += m.Value; m.Field == "idle" || m.Field == "iowait" {
				t[1] += m.Value
			}
		}
		return err
	})
	return t, err
}
