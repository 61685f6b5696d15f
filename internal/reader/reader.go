// Package reader opens what is in images in a reader guest: a throwaway guest with this host's kernel, no network, and nothing in it but our own
// program (package inside), to which the disks are offered over NBD for reading. So a hostile file system meets a kernel that holds nothing else.
package reader

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/line"
	"keenlodge/internal/mount"
	"keenlodge/internal/nbd"
)

const (
	// Port is the name of the guest's port to the host, Ready the byte that it sends when it has come up.
	Port  = "org.keenlodge.reader"
	Ready = 'k'
	// Command is that with which our program is the guest's first process.
	Command = "reader-guest"

	// memory is the guest's, in MiB: the kernel, our program, and what file systems keep of themselves; largeMemory that of one which can unlock disks: to
	// make a key of a passphrase may take a GiB.
	memory, largeMemory = 512, 1700
	// bootTime is how long a guest may take to come up, kvmTime where it has the host's own processor, openTime to open what lies on its disks:
	// journals may have to be played back.
	bootTime, kvmTime, openTime = 90 * time.Second, 20 * time.Second, 5 * time.Minute
	// mostDisks is how many disks a guest has room for.
	mostDisks = 24
)

// Serial is by what the guest finds the disk of a place among its disks.
func Serial(i int) string { return fmt.Sprintf("disk-%d", i) }

// ErrUnfit marks a host on which no reader guest can be started.
var ErrUnfit = errors.New("no reader guest can be started on this host")

// Disk is one of the disks that a guest opens.
type Disk struct {
	Name string // target
	disk.Disk
	// Overlay is the name of a file, which is made, in which what the guest writes to the disk stays, as qcow2 over the disk ([Guest.Finish]). Where it is
	// "", that is forgotten.
	Overlay string
}

// Guest is a reader guest that is up. It may be used by several goroutines at once. Close it.
type Guest struct {
	line   *line.Line
	folder string
	lock   *os.File // whoever holds it lives
	cmd    *exec.Cmd
	ended  chan struct{} // closed when QEMU has
	stop   context.CancelFunc
	once   sync.Once

	mu      sync.Mutex
	opened  Opened
	trouble error // the first with which a disk could not be read
}

// Starter starts a guest with some disks. A large one can unlock what is locked on them.
type Starter func(ctx context.Context, disks []Disk, large bool) (*Guest, error)

// In is [Start] with the folder where guests have what is theirs, and our program.
func In(folder, program string) Starter {
	return func(ctx context.Context, disks []Disk, large bool) (*Guest, error) {
		return Start(ctx, folder, program, disks, large)
	}
}

// Able reports why no guest can be started on this host, as far as that shows without starting one.
func Able() error {
	_, _, err := kernelOf()
	if _, missing := exec.LookPath(qemuName); err == nil && missing != nil {
		err = fmt.Errorf("%w: %w; install qemu-system-x86", ErrUnfit, missing)
	}
	return err
}

const qemuName = "qemu-system-x86_64"

// noKVM says that a guest with the host's own processor did not come up here, though the host has such.
var noKVM atomic.Bool

// Start starts a guest with some disks. folder is where it has what belongs to it while it is up, and where what all guests have in common is kept;
// program is ours.
func Start(ctx context.Context, folder, program string, disks []Disk, large bool) (*Guest, error) {
	mib := memory
	if large {
		mib = largeMemory
	}
	if kvm, err := os.OpenFile("/dev/kvm", os.O_RDWR, 0); err == nil {
		kvm.Close()
		if !noKVM.Load() {
			g, err := start(ctx, folder, program, "kvm", kvmTime, mib, disks)
			if err == nil || ctx.Err() != nil {
				return g, err
			}
			noKVM.Store(true) // /dev/kvm may be there, and guests hang all the same
		}
	}
	g, err := start(ctx, folder, program, "tcg", bootTime, mib, disks)
	if errors.Is(err, errEnded) && ctx.Err() == nil { // QEMU itself ends now and then by an assertion of its own (seen of msix_table_mmio_write, in 7.2)
		g, err = start(ctx, folder, program, "tcg", bootTime, mib, disks)
	}
	return g, err
}

// errEnded marks a guest that ended before it had come up.
var errEnded = errors.New("the reader guest ended before it had come up")

func start(ctx context.Context, folder, program, accel string, within time.Duration, mib int, disks []Disk) (_ *Guest, err error) {
	if len(disks) > mostDisks {
		return nil, fmt.Errorf("a reader guest has room for %d disks, not %d", mostDisks, len(disks))
	}
	kernel, initrd, err := system(ctx, folder, program)
	if err != nil {
		return nil, err
	}
	qemu, err := exec.LookPath(qemuName)
	if err != nil {
		return nil, fmt.Errorf("%w: %w; install qemu-system-x86", ErrUnfit, err)
	}
	own, err := os.MkdirTemp(folder, guestFolder)
	if err != nil {
		return nil, err
	}
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	g := &Guest{folder: own, stop: stop, ended: make(chan struct{})}
	if g.lock, err = lock(own); err != nil {
		return nil, errors.Join(err, g.Close())
	}
	defer func() {
		if err != nil {
			g.Close()
		}
	}()
	args := []string{"-nodefaults", "-no-user-config", "-display", "none", "-no-reboot", "-machine", "q35,accel=" + accel, "-cpu", "max", "-smp", "2", "-m", fmt.Sprint(mib), "-nic", "none",
		"-sandbox", "on,obsolete=deny,spawn=deny,resourcecontrol=deny",
		"-kernel", kernel, "-initrd", initrd, "-append", "console=ttyS0 quiet panic=-1 no_timer_check cryptomgr.notests audit=0 apparmor=0 rdinit=/keenlodge -- " + Command, "-serial", "file:" + g.path("console"),
		"-device", "virtio-serial-pci", "-chardev", "socket,id=host,path=" + g.path("port") + ",server=on,wait=off", "-device", "virtserialport,chardev=host,name=" + Port}
	for i, d := range disks {
		socket := g.path(Serial(i))
		if err := offer(serving, socket, Disk{Name: d.Name, Disk: noted{d.Disk, g}}); err != nil {
			return nil, err
		}
		// What the kernel writes to play a journal back goes into an overlay that has no name.
		drive := fmt.Sprintf("format=raw,snapshot=on,file.driver=nbd,file.server.type=unix,file.server.path=%s,file.export=%s", socket, d.Name)
		if d.Overlay != "" {
			if err := overlay(ctx, d, socket); err != nil {
				return nil, err
			}
			drive = "format=qcow2,discard=unmap,file=" + d.Overlay
		}
		args = append(args, "-drive", fmt.Sprintf("if=none,id=d%d,cache=unsafe,%s", i, drive), "-device", fmt.Sprintf("virtio-blk-pci,drive=d%d,serial=%s", i, Serial(i)))
	}
	if os.Geteuid() == 0 {
		args = append(args, "-runas", "nobody")
	}
	g.cmd = exec.Command(qemu, args...)
	g.cmd.Env = []string{"PATH=/usr/bin:/bin", "TMPDIR=" + own}
	said := &strings.Builder{}
	g.cmd.Stderr = said
	if err := g.cmd.Start(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnfit, err)
	}
	go func() { g.cmd.Wait(); close(g.ended) }()
	conn, err := g.meet(ctx, within)
	if err != nil {
		return nil, errors.Join(err, g.lastWord(said))
	}
	if g.line, err = line.Over(conn); err != nil {
		return nil, err
	}
	var names Disks
	for _, d := range disks {
		names.Names = append(names.Names, d.Name)
	}
	limit, end := context.WithTimeout(ctx, openTime)
	defer end()
	if err := g.line.Ask(limit, CallOpen, names, &g.opened); err != nil {
		return nil, errors.Join(fmt.Errorf("the reader guest could not open the disks: %w", err), g.lastWord(said))
	}
	clean(&g.opened)
	return g, nil
}

// overlay makes the file of a disk that is written to.
func overlay(ctx context.Context, d Disk, socket string) error {
	over, err := qcow2.Over(ctx, d.Size(), "nbd+unix:///"+d.Name+"?socket="+socket, "raw")
	if err != nil {
		return err
	}
	f, err := os.OpenFile(d.Overlay, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600) // a guest that did not come up may have been tried before
	if err != nil {
		return err
	}
	_, err = over.WriteTo(f)
	return errors.Join(err, f.Close())
}

const guestFolder = "guest-"

// lock takes the lock of a guest's folder, unless somebody has it who lives.
func lock(folder string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err == nil {
		if err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			f.Close()
		}
	}
	return f, err
}

// Clean removes what guests of dead processes left in a folder. They themselves ended when the process did to which they had a port.
func Clean(folder string) (found []string, err error) {
	left, err := filepath.Glob(filepath.Join(folder, guestFolder+"*"))
	errs := []error{err}
	for _, own := range left {
		f, err := lock(own)
		if err != nil {
			continue // it is up
		}
		found = append(found, own)
		errs = append(errs, os.RemoveAll(own), f.Close())
	}
	return found, errors.Join(errs...)
}

func (g *Guest) path(name string) string { return filepath.Join(g.folder, name) }

// clean makes what the guest says fit to be shown: a disk in it says what it likes.
func clean(o *Opened) {
	for i := range o.FileSystems {
		f := &o.FileSystems[i]
		for _, text := range []*string{&f.Name, &f.Format, &f.Label, &f.UUID, &f.Mounted, &f.Why} {
			*text = plain.Text(*text, 400)
		}
	}
}

// offer offers a disk at a socket.
func offer(ctx context.Context, socket string, d Disk) error {
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				nbd.Serve(ctx, conn, nbd.Export{Name: d.Name, Disk: d.Disk}) // QEMU tells the guest of what can't be read
			}()
		}
	}()
	return nil
}

// meet connects to the guest, once it has come up.
func (g *Guest) meet(ctx context.Context, within time.Duration) (net.Conn, error) {
	ctx, end := context.WithTimeout(ctx, within)
	defer end()
	late := func() error {
		select {
		case <-g.ended:
			return fmt.Errorf("%w: %w", ErrUnfit, errEnded)
		case <-ctx.Done():
			return fmt.Errorf("the reader guest did not come up: %w", context.Cause(ctx))
		case <-time.After(10 * time.Millisecond):
			return nil
		}
	}
	var conn net.Conn
	for conn == nil {
		var err error
		if conn, err = net.Dial("unix", g.path("port")); err != nil {
			if err := late(); err != nil {
				return nil, err
			}
		}
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	go func() {
		select {
		case <-g.ended:
			conn.Close()
		case <-ctx.Done():
		}
	}()
	var hello [1]byte
	if _, err := io.ReadFull(conn, hello[:]); err != nil || hello[0] != Ready {
		conn.Close()
		select { // QEMU ends a moment after its port
		case <-g.ended:
		case <-ctx.Done():
		case <-time.After(2 * time.Second):
		}
		if err := late(); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("the reader guest did not come up: %w", err)
	}
	if !stop() {
		return nil, context.Cause(ctx)
	}
	_, err := line.Answer(conn, line.Oldest, line.Newest)
	return conn, err
}

// lastWord is what the guest or QEMU said last.
func (g *Guest) lastWord(said *strings.Builder) error {
	g.cmd.Process.Kill()
	<-g.ended
	console, _ := os.ReadFile(g.path("console"))
	word := plain.LastLine(said.String(), 400)
	if word == "" {
		word = plain.LastLine(string(console), 400)
	}
	if word == "" {
		return nil
	}
	return errors.New("its last word: " + word)
}

// Ended is closed when the guest has ended, by [Guest.Close] or by itself: then it is of no use any more.
func (g *Guest) Ended() <-chan struct{} { return g.ended }

// Close ends the guest, and leaves nothing of it.
func (g *Guest) Close() (err error) {
	g.once.Do(func() {
		if g.line != nil {
			g.line.Close()
		}
		if g.cmd != nil && g.cmd.Process != nil {
			g.cmd.Process.Kill()
			<-g.ended
		}
		g.stop()
		err = os.RemoveAll(g.folder)
		if g.lock != nil {
			g.lock.Close()
		}
	})
	return err
}

// told is an error in words that say whose it is.
func (g *Guest) told(err error) error {
	if err != nil && errors.Is(err, line.ErrCut) {
		select {
		case <-g.ended:
		case <-time.After(time.Second):
		}
		if _, cut := os.Stat(g.folder); cut == nil {
			console, _ := os.ReadFile(g.path("console"))
			if word := plain.LastLine(string(console), 400); word != "" {
				err = fmt.Errorf("%w; its last word: %s", err, word)
			}
		}
		return fmt.Errorf("the reader guest ended, and nothing else did: what it opened may be damaged: %w", err)
	}
	return err
}

// List lists a folder, or one file. Close what is returned; [files.NewListReader] reads it.
func (g *Guest) List(ctx context.Context, w Where) (io.ReadCloser, error) {
	conn, err := g.line.Open(ctx, CallList, w, nil)
	return conn, g.told(err)
}

// Read reads a range of a file. Close what is returned, which has [Found.Length] bytes.
func (g *Guest) Read(ctx context.Context, r Read) (Found, io.ReadCloser, error) {
	var f Found
	conn, err := g.line.Open(ctx, CallRead, r, &f)
	return f, conn, g.told(err)
}

// Archive reads files with all that lies below them. Close what is returned; [files.NewReader] reads it.
func (g *Guest) Archive(ctx context.Context, w Where) (io.ReadCloser, error) {
	conn, err := g.line.Open(ctx, CallArchive, w, nil)
	return conn, g.told(err)
}

// Count reads a file system's files. An error that is a [*line.Refusal] is about what lies there, unless there was [Guest.Trouble].
func (g *Guest) Count(ctx context.Context, name string) (c mount.Count, err error) {
	err = g.told(g.line.Ask(ctx, CallCount, name, &c))
	c.Ledger = plain.Text(c.Ledger, 400)
	return c, err
}

// Check has a file system checked by its own tool, as it is once its journal was played back. Nobody else may be reading.
func (g *Guest) Check(ctx context.Context, name string) (c Checked, err error) {
	err = g.told(g.line.Ask(ctx, CallCheck, name, &c))
	c.Said = plain.Text(c.Said, 400)
	return c, err
}

// Execute runs a program of the machine's own in its tree. What it says is as it said it, to be cleaned before it is shown.
func (g *Guest) Execute(ctx context.Context, x Execute) (e Executed, err error) {
	err = g.told(g.line.Ask(ctx, CallExecute, x, &e))
	return e, err
}

// Locate finds which files lie in ranges of a file system's volume, for each range; paths are relative to its top.
func (g *Guest) Locate(ctx context.Context, l Locate) (found [][]string, err error) {
	err = g.told(g.line.Ask(ctx, CallLocate, l, &found))
	if err == nil && len(found) != len(l.Ranges) {
		err = fmt.Errorf("the reader guest answered for %d ranges, not %d", len(found), len(l.Ranges))
	}
	for _, paths := range found {
		for i := range paths {
			paths[i] = plain.Text(paths[i], 4096)
		}
	}
	return found, err
}

// Trouble is the first error with which a disk could not be read, nil if there was none. What a file system then did says nothing of itself.
func (g *Guest) Trouble() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.trouble
}

// noted is a disk whose errors are noted: the guest only hears that there was one.
type noted struct {
	disk.Disk
	g *Guest
}

func (n noted) ReadAt(p []byte, offset int64) (int, error) {
	done, err := n.Disk.ReadAt(p, offset)
	if err != nil && err != io.EOF {
		n.g.mu.Lock()
		if n.g.trouble == nil {
			n.g.trouble = err
		}
		n.g.mu.Unlock()
	}
	return done, err
}

// Unlock opens what is locked with a key, and all that lies in it. The guest has to be a large one.
func (g *Guest) Unlock(ctx context.Context, u Unlock) error {
	var o Opened
	if err := g.told(g.line.Ask(ctx, CallUnlock, u, &o)); err != nil {
		return err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.opened = o
	clean(&g.opened)
	return nil
}

// Opened is what was found on the disks so far.
func (g *Guest) Opened() Opened {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.opened
}

// Fit changes what lies on the disks, in the order of the fields, and says what it did.
func (g *Guest) Fit(ctx context.Context, f Fit) (done []string, err error) {
	err = g.told(g.line.Ask(ctx, CallFit, f, &done))
	for i := range done {
		done[i] = plain.Text(done[i], 400)
	}
	return done, errors.Join(err, g.Trouble())
}

// finishTime is how long a guest may take to put down what it wrote, and QEMU to end, each.
const finishTime = 5 * time.Minute

// Rest puts down all that the guest wrote in its overlays, which are whole until it writes again.
func (g *Guest) Rest(ctx context.Context) error {
	ctx, end := context.WithTimeout(ctx, finishTime)
	defer end()
	return errors.Join(g.told(g.line.Ask(ctx, CallRest, nil, nil)), g.Trouble())
}

// Finish ends the guest with all that it wrote in its overlays.
func (g *Guest) Finish(ctx context.Context) error {
	if err := g.Rest(ctx); err != nil {
		return err
	}
	ctx, end := context.WithTimeout(ctx, finishTime)
	defer end()
	if err := g.cmd.Process.Signal(unix.SIGTERM); err != nil {
		return err
	}
	select {
	case <-g.ended:
	case <-ctx.Done():
		return fmt.Errorf("the guest has finished, and QEMU did not end: %w", context.Cause(ctx))
	}
	if !g.cmd.ProcessState.Success() {
		return fmt.Errorf("QEMU ended with %s while what the guest wrote was put down", g.cmd.ProcessState)
	}
	return errors.Join(g.Trouble(), g.Close())
}

// Kill ends QEMU, as the guest's own kernel does when it can't go on. Tests do.
func (g *Guest) Kill() { g.cmd.Process.Kill() }
