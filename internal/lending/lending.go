// Package lending lends the disks of an image to a guest that runs on them already, while they are only in a store: over NBD at Unix sockets, by a
// process of its own that outlives the service. What the guest writes goes into files that lie over the lent disks; once these need nothing of them any
// more, or are gone, the process ends by itself.
package lending

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/site"
	"keenlodge/internal/stores"
)

// Command is the hidden command under which our program lends disks.
const Command = "lend-disks"

// Disk is a disk that is lent. Overlay is the file that lies over it.
type Disk struct {
	Target  string `json:"target"`
	Overlay string `json:"overlay"`
}

// Socket is where a disk is to be had whose overlay is a file: beside that, for whoever may use the one may use the other.
func Socket(overlay string) string { return overlay + SocketEnd }

// SocketEnd ends the name of a socket at which a disk is lent.
const SocketEnd = ".nbd"

// plainPath is a path that is the same in an address, whether that is decoded or not: libvirt takes it as it stands.
var plainPath = regexp.MustCompile(`^/[A-Za-z0-9/._+-]*$`)

// Address is that of a lent disk, as QEMU and libvirt take it (NBD's URI specification).
func Address(target, overlay string) (string, error) {
	socket := Socket(overlay)
	if !plainPath.MatchString(socket) || len(socket) > longestSocket {
		return "", fmt.Errorf("a disk can't be lent at %s: a socket's path has at most %d bytes, and only letters, digits, dots, dashes, underscores and plus signs; use a pool in another folder", socket, longestSocket)
	}
	return "nbd+unix:///" + target + "?socket=" + socket, nil
}

// longestSocket is how long a Unix socket's path may be, in bytes (unix(7)).
const longestSocket = 107

// Loan is what is lent to a guest. It is known by the run that made it.
type Loan struct {
	Run        string `json:"run"`
	Image      string `json:"image"`
	Store      string `json:"store"`
	Guest      string `json:"guest"`
	Hypervisor string `json:"hypervisor"`
	Pool       string `json:"pool"`
	Disks      []Disk `json:"disks"`
	// Far says that the hypervisor is on another host, where its source listens and looks: see [source.Puller].
	Far bool `json:"far,omitempty"`
	// Pull says that the rest of the disks is to come over, so that the guest stays. Otherwise all of it goes when the guest is off.
	Pull bool `json:"pull"`
	// Started says that the guest was powered on, Up that it has come up, so that pulling is in nobody's way.
	Started bool `json:"started"`
	Up      bool `json:"up"`
}

// Settled reports whether the guest needs nothing of the store any more, where that shows on this host.
func (l Loan) Settled() bool {
	return !l.Far && !slices.ContainsFunc(l.Disks, func(d Disk) bool { return !Settled(Below(d.Overlay)) })
}

// Below says over what a file of this host lies, "" for nothing. One that is not there is [fs.ErrNotExist].
func Below(overlay string) (string, error) {
	f, err := os.Open(overlay)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return qcow2.Backing(f)
}

// Settled reports whether a file lies over nothing, or is gone, by what was told of it.
func Settled(below string, err error) bool {
	return err == nil && below == "" || errors.Is(err, fs.ErrNotExist)
}

// order is what a process is told to lend, through its standard input. Hypervisor is how the far one is reached, nil for one of this host.
type order struct {
	Loan       Loan             `json:"loan"`
	Key        stores.Key       `json:"key"`
	Folder     string           `json:"folder"`
	Hypervisor *site.Hypervisor `json:"hypervisor,omitempty"`
}

// Lender has processes lend disks. A loan is a file of its folder, and what is in that is no secret.
type Lender struct {
	folder, executable string
}

// New makes a Lender.
func New(folder, executable string) *Lender { return &Lender{folder, executable} }

func (l *Lender) file(run, end string) string { return filepath.Join(l.folder, run+end) }

// Lend has a process lend the disks of a loan that is kept, or go on with one whose own died. spec is how its hypervisor is reached.
func (l *Lender) Lend(ctx context.Context, loan Loan, key stores.Key, spec site.Hypervisor) error {
	o := order{Loan: loan, Key: key, Folder: l.folder}
	if loan.Far {
		o.Hypervisor = &spec
	}
	log, err := os.OpenFile(l.file(loan.Run, ".log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(l.executable, Command)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	for _, name := range []string{"PATH", "HOME", "SSH_AUTH_SOCK"} { // the latter for who signs in to another host
		cmd.Env = append(cmd.Env, name+"="+os.Getenv(name))
	}
	cmd.Stderr = log // the service's own may end before it does
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start what lends disks: %w", err)
	}
	defer context.AfterFunc(ctx, func() { cmd.Process.Kill() })()
	told := json.NewEncoder(in).Encode(o)
	in.Close()
	line, err := bufio.NewReader(out).ReadString('\n')
	go cmd.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if line != ready {
		said, _ := os.ReadFile(log.Name())
		return fmt.Errorf("the disks of image %s can't be lent: %w: %s", loan.Image, errors.Join(told, err), strings.TrimSpace(string(said[max(0, len(said)-2000):])))
	}
	return nil
}

// Keep writes a loan down as it is now.
func (l *Lender) Keep(loan Loan) error {
	body, err := json.Marshal(loan)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(l.folder, 0o700); err != nil {
		return err
	}
	part := l.file(loan.Run, ".part")
	if err := os.WriteFile(part, body, 0o600); err != nil {
		return err
	}
	return os.Rename(part, l.file(loan.Run, ".json"))
}

// Loans lists the loans of this host.
func (l *Lender) Loans() (out []Loan, err error) {
	found, err := filepath.Glob(filepath.Join(l.folder, "*.json"))
	for _, f := range found {
		loan, failed := read(f)
		if errors.Is(failed, fs.ErrNotExist) {
			continue
		}
		if err = errors.Join(err, failed); failed == nil {
			out = append(out, loan)
		}
	}
	return out, err
}

func read(file string) (loan Loan, err error) {
	body, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(body, &loan)
	}
	return loan, err
}

// Loan is that of a run; one that is over is [fs.ErrNotExist].
func (l *Lender) Loan(run string) (Loan, error) { return read(l.file(run, ".json")) }

// Alive reports whether a process lends.
func (l *Lender) Alive(run string) bool {
	f, err := os.Open(l.file(run, ".lock"))
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB), unix.EWOULDBLOCK)
}

// Read is how many bytes were read of the lent disks so far, all together.
func (l *Lender) Read(run string) int64 {
	body, _ := os.ReadFile(l.file(run, ".read"))
	n, _ := strconv.ParseInt(string(body), 10, 64)
	return n
}

// End ends a loan: its process ends by itself, within a second or two.
func (l *Lender) End(loan Loan) error {
	var errs []error
	for _, d := range loan.Disks {
		if loan.Far {
			break // it goes with the line to that host
		}
		if err := os.Remove(Socket(d.Overlay)); !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	for _, end := range []string{".json", ".read", ".log", ".part"} {
		if err := os.Remove(l.file(loan.Run, end)); !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	for limit := time.Now().Add(10 * time.Second); l.Alive(loan.Run) && time.Now().Before(limit); {
		time.Sleep(lookEvery / 4)
	}
	if err := os.Remove(l.file(loan.Run, ".lock")); !errors.Is(err, fs.ErrNotExist) {
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}
