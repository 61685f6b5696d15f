package inside

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/inode"
	"keenlodge/internal/line"
	"keenlodge/internal/reader"
)

// mostSaid is how much of what a program says is told, in bytes: the last.
const mostSaid = 64 << 10

// execute runs a program of the machine's own in its tree, which is made fit for that first: what the program writes goes into the guest's overlay.
func (g *Guest) execute(ctx context.Context, x reader.Execute) (reader.Executed, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if err := g.enliven(); err != nil {
		return reader.Executed{}, err
	}
	ctx, end := context.WithTimeout(ctx, x.Limit)
	defer end()
	// /bin/sh looks the program up where the machine has its own, and is the first process of a namespace: all that it leaves ends with it.
	cmd := exec.CommandContext(ctx, "/bin/sh", append([]string{"-c", `"$@"; exit $?`, "sh"}, x.Command...)...)
	cmd.Path, cmd.Err = "/bin/sh", nil
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "LC_ALL=C", "TERM=dumb"}
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Chroot: treeFolder, Cloneflags: syscall.CLONE_NEWPID}
	cmd.WaitDelay = time.Second
	said := &tail{}
	cmd.Stdout, cmd.Stderr = said, said
	err := cmd.Run()
	var ended *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return reader.Executed{Code: -1, Said: string(said.last), Late: true}, nil
	case err != nil && !errors.As(err, &ended) && !errors.Is(err, exec.ErrWaitDelay):
		return reader.Executed{}, fmt.Errorf("run %s in the machine's tree: %w", x.Command[0], err)
	}
	return reader.Executed{Code: cmd.ProcessState.ExitCode(), Said: string(said.last)}, nil
}

// enliven makes the machine's tree one in which programs run.
func (g *Guest) enliven() error {
	if !g.opened.Tree {
		return line.Refuse(line.Unknown, "the disks have no mount table, so there is no tree in which a program of the machine's could run")
	}
	if g.lively {
		return nil
	}
	if err := g.writable(0); err != nil {
		return err
	}
	for _, m := range [][3]string{{"proc", "proc", "proc"}, {"sys", "sys", "sysfs"}, {"dev", "dev", "devtmpfs"}, {"shm", "dev/shm", "tmpfs"}, {"run", "run", "tmpfs"}, {"tmp", "tmp", "tmpfs"}} {
		fd, err := inode.OpenIn(treeFolder, m[1], unix.O_PATH|unix.O_DIRECTORY)
		if errors.Is(err, unix.ENOENT) && m[1] == "dev/shm" {
			if err = os.Mkdir(filepath.Join("/dev", "shm"), 0o1777); err == nil {
				fd, err = inode.OpenIn(treeFolder, m[1], unix.O_PATH|unix.O_DIRECTORY)
			}
		}
		if errors.Is(err, unix.ENOENT) {
			continue // it has no such folder, and gets none
		}
		if err == nil {
			err = unix.Mount(m[0], fmt.Sprintf("/proc/self/fd/%d", fd), m[2], unix.MS_NOSUID, "")
			unix.Close(fd)
		}
		if err != nil {
			return fmt.Errorf("mount /%s in the machine's tree: %w", m[1], err)
		}
	}
	g.lively = true
	return loopback()
}

// loopback brings the guest's own network up, which is all that it has: servers are asked over it.
func loopback() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil // a kernel without a network has none to bring up
	}
	defer unix.Close(fd)
	lo, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	lo.SetUint16(unix.IFF_UP)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, lo)
}

// tail keeps the last of what is written to it.
type tail struct{ last []byte }

func (t *tail) Write(p []byte) (int, error) {
	t.last = append(t.last, p...)
	t.last = t.last[max(0, len(t.last)-mostSaid):]
	return len(p), nil
}
