// Package inside is the only program in a reader guest: its first process, which opens the file systems on the guest's disks for reading, and
// answers what the host asks of them. Whatever a disk does to the kernel that opens it, there is nothing else there.
package inside

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/line"
	"keenlodge/internal/mount"
	"keenlodge/internal/reader"
)

// Guest is what this process has found.
type Guest struct {
	mu     sync.Mutex
	opened reader.Opened
	done   bool
	// devices are those of the file systems by name, systems where these are mounted, seen the kernel's names of all that were looked at.
	devices, systems map[string]string
	// disks are the kernel's names of the disks, names ours.
	disks, names []string
	seen         map[string]bool
	// examined are members of arrays that were looked at, explained what it was said of why it can't be opened.
	examined, explained map[string]bool
	// called are other names that the machine's own tables have for a file system.
	called map[string]string
	// users and groups are the machine's, by number.
	users, groups map[uint32]string
	// lively says that programs may run in the tree.
	lively bool
}

// Ground makes a first process one that has what a kernel tells of itself.
func Ground() error {
	for _, m := range [][3]string{{"proc", "/proc", "proc"}, {"sys", "/sys", "sysfs"}, {"dev", "/dev", "devtmpfs"}, {"run", "/run", "tmpfs"}} {
		if err := os.MkdirAll(m[1], 0o755); err != nil {
			return err
		}
		if err := unix.Mount(m[0], m[1], m[2], unix.MS_NOSUID|unix.MS_NOEXEC, ""); err != nil && !errors.Is(err, unix.EBUSY) {
			return fmt.Errorf("mount %s: %w", m[1], err)
		}
	}
	return load("base")
}

// Run is the guest's first process. It returns only when there is nothing left to do, and the guest ends with it.
func Run(ctx context.Context) error {
	if err := Ground(); err != nil {
		return err
	}
	port, err := openPort()
	if err != nil {
		return err
	}
	defer port.Close()
	// Who started the guest may have died before it had come up. Then nobody answers, and it is to end.
	unwanted := time.AfterFunc(answerTime, func() { os.Exit(1) })
	if _, err := port.Write([]byte{reader.Ready}); err != nil {
		return err
	}
	if _, err := line.Offer(port, line.Oldest, line.Newest); err != nil {
		return err
	}
	unwanted.Stop()
	g := empty()
	return line.Serve(ctx, port, g.reply, func(call string, err error) { fmt.Fprintln(os.Stderr, call, err) })
}

func empty() *Guest {
	return &Guest{devices: map[string]string{}, systems: map[string]string{}, seen: map[string]bool{}, examined: map[string]bool{}, explained: map[string]bool{}, called: map[string]string{}}
}

// Open opens what lies on disks of this machine, by the kernel's names of these. It is for a machine on which nothing else is at work.
func Open(disks []string) (*Guest, error) {
	g := empty()
	for _, d := range disks {
		if err := g.add(d, d, d); err != nil {
			return nil, err
		}
	}
	g.disks, g.names = disks, disks
	g.settle()
	return g, nil
}

// Beside makes a file system known that is mounted at a place already, to copy from ([reader.Copies]); d is what it lies on.
func (g *Guest) Beside(name string, d disk.Disk, place string) {
	f := reader.FileSystem{Name: name, Size: d.Size()}
	describeIn(d, &f)
	g.opened.FileSystems, g.systems[name] = append(g.opened.FileSystems, f), place
}

// Opened is what was found.
func (g *Guest) Opened() reader.Opened { return g.opened }

// Place is where a file system of a name is mounted, "" where it is not.
func (g *Guest) Place(name string) string { return g.systems[name] }

// Fit changes what lies on the disks, and says what it did.
func (g *Guest) Fit(ctx context.Context, f reader.Fit) ([]string, error) { return g.fit(ctx, f) }

// Rest puts down all that was written, and takes everything apart.
func (g *Guest) Rest() error { return g.rest() }

// answerTime is how long the host may take to answer, which waits for nothing else.
const answerTime = 30 * time.Second

// portTime is how long the port to the host may take to be there.
const portTime = 20 * time.Second

// openPort opens the port to the host.
func openPort() (net.Conn, error) {
	for end := time.Now().Add(portTime); ; time.Sleep(10 * time.Millisecond) {
		names, _ := filepath.Glob("/sys/class/virtio-ports/*/name")
		for _, file := range names {
			if body, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(body)) == reader.Port {
				f, err := os.OpenFile("/dev/"+filepath.Base(filepath.Dir(file)), os.O_RDWR, 0)
				return port{f}, err
			}
		}
		if time.Now().After(end) {
			return nil, errors.New("there is no port to the host")
		}
	}
}

// port is a port to the host as a connection.
type port struct{ *os.File }

func (p port) LocalAddr() net.Addr  { return &net.UnixAddr{Name: p.Name()} }
func (p port) RemoteAddr() net.Addr { return &net.UnixAddr{Name: p.Name()} }

// SetDeadline implements [net.Conn]; a port has none, and the host ends a guest that does not answer.
func (p port) SetDeadline(time.Time) error      { return nil }
func (p port) SetReadDeadline(time.Time) error  { return nil }
func (p port) SetWriteDeadline(time.Time) error { return nil }

// load loads the kernel's drivers that something needs, if they are not loaded; what this kernel has built in needs none.
func load(what string) error {
	needs, err := os.ReadFile("/modules/" + what)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	for name := range strings.FieldsSeq(string(needs)) {
		f, err := os.Open("/modules/" + name)
		if err != nil {
			return err
		}
		err = unix.FinitModule(int(f.Fd()), "", 0)
		f.Close()
		if err != nil && !errors.Is(err, unix.EEXIST) && !errors.Is(err, unix.ENODEV) {
			return fmt.Errorf("load %s for %s: %w", name, what, err)
		}
	}
	return err
}

// reply implements [line.Reply].
func (g *Guest) reply(ctx context.Context, call string, args json.RawMessage) (any, func(net.Conn) error, error) {
	switch call {
	case reader.CallOpen:
		return answer(args, g.open)
	case reader.CallList:
		var w reader.Where
		if err := json.Unmarshal(args, &w); err != nil {
			return nil, nil, err
		}
		return g.list(w)
	case reader.CallRead:
		var r reader.Read
		if err := json.Unmarshal(args, &r); err != nil {
			return nil, nil, err
		}
		return g.read(r)
	case reader.CallArchive:
		var w reader.Where
		if err := json.Unmarshal(args, &w); err != nil {
			return nil, nil, err
		}
		return g.archive(ctx, w)
	case reader.CallUnlock:
		return answer(args, g.unlock)
	case reader.CallCount:
		return answer(args, func(name string) (mount.Count, error) {
			root, err := g.rootOf(reader.Where{FileSystem: name})
			if err != nil {
				return mount.Count{}, err
			}
			return mount.ReadFiles(ctx, root)
		})
	case reader.CallCheck:
		return answer(args, func(name string) (reader.Checked, error) { return g.check(ctx, name) })
	case reader.CallExecute:
		return answer(args, func(x reader.Execute) (reader.Executed, error) { return g.execute(ctx, x) })
	case reader.CallFit:
		return answer(args, func(f reader.Fit) ([]string, error) { return g.fit(ctx, f) })
	case reader.CallRest:
		return nil, nil, g.rest()
	case reader.CallLocate:
		return answer(args, func(l reader.Locate) ([][]string, error) {
			root, err := g.rootOf(reader.Where{FileSystem: l.FileSystem})
			if err != nil {
				return nil, err
			}
			return mount.FilesIn(ctx, root, l.Ranges)
		})
	}
	return nil, nil, line.Refuse(line.Unknown, "%q is no call", call)
}

func answer[A, R any](args json.RawMessage, do func(A) (R, error)) (any, func(net.Conn) error, error) {
	var a A
	if err := json.Unmarshal(args, &a); err != nil {
		return nil, nil, err
	}
	r, err := do(a)
	return r, nil, err
}
