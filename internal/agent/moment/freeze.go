package moment

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/private"
)

// WatchCommand is the hidden command under which the program runs as the watchdog of a freeze.
const WatchCommand = "freeze-watch"

const (
	// ioctls of linux/fs.h.
	fiFreeze, fiThaw = 0xc0045877, 0xc0045878
	// afterlife is how long the watchdog of a dead agent goes on thawing: a freeze that the agent had asked for may come about only after its death.
	afterlife, thawEvery = 20 * time.Second, 50 * time.Millisecond
	// slack is how much longer than a freeze may last its watchdog waits.
	slack = 500 * time.Millisecond
	// frozenFile notes what is about to be frozen, for the next agent.
	frozenFile = "frozen.json"
)

// standing are file systems that are made to stand still. All that is needed for that is open before: from freeze to thaw nothing is opened,
// logged or paged in, for the root may be among them.
type standing struct {
	mounts []block.Mount
	open   []*os.File
	frozen []bool
	dog    io.WriteCloser
	note   string
	begun  time.Time
}

// errNotFrozen marks a freeze that somebody else ended, or that never was.
var errNotFrozen = errors.New("the freeze did not hold")

// prepare opens the file systems and starts their watchdog, which thaws them after longest whatever becomes of this process. folder is one
// of the agent's.
func prepare(folder string, mounts []block.Mount, longest time.Duration) (*standing, error) {
	s := &standing{mounts: mounts, frozen: make([]bool, len(mounts)), note: filepath.Join(folder, frozenFile)}
	for _, m := range mounts {
		f, err := os.Open(m.Path)
		if err != nil {
			s.end()
			return nil, fmt.Errorf("freeze %s: %w", m.Path, err)
		}
		s.open = append(s.open, f)
	}
	paths := make([]string, len(mounts))
	for i, m := range mounts {
		paths[i] = m.Path
	}
	body, err := json.Marshal(paths)
	if err == nil {
		// It is for the day on which both the agent and its watchdog are killed. A server whose disk is full is captured without.
		if err = private.Write(s.note, string(body)); isFull(err) {
			err = nil
		}
	}
	if err == nil {
		err = s.watch(longest)
	}
	if err == nil {
		err = unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT)
	}
	if err != nil {
		s.end()
		return nil, fmt.Errorf("nothing was frozen, for it could not be made safe: %w", err)
	}
	return s, nil
}

// watch starts the watchdog.
func (s *standing) watch(longest time.Duration) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, WatchCommand)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // a signal to our group is not for it
	cmd.ExtraFiles = s.open
	cmd.Env = []string{}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the watchdog: %w", err)
	}
	_, told := fmt.Fprintln(in, (longest + slack).Milliseconds())
	line, err := bufio.NewReader(out).ReadString('\n')
	err = errors.Join(told, err)
	go cmd.Wait()
	if line != "watching\n" {
		in.Close()
		return fmt.Errorf("the watchdog did not start: %q, %v", line, err)
	}
	s.dog = in
	return nil
}

// freeze makes all file systems stand still. It is an error if one can't that should; of those of kinds that never can, all is written out, and
// who reads them looks whether something is written meanwhile.
func (s *standing) freeze() error {
	s.begun = time.Now()
	if _, err := io.WriteString(s.dog, "frozen\n"); err != nil {
		return fmt.Errorf("the watchdog is gone: %w", err)
	}
	for i, f := range s.open {
		err := ioctl(f, fiFreeze)
		s.frozen[i] = err == nil
		if errors.Is(err, unix.EOPNOTSUPP) {
			err = unix.Syncfs(int(f.Fd()))
		}
		if err != nil {
			return fmt.Errorf("freeze %s: %w", s.mounts[i].Path, err)
		}
	}
	return nil
}

// thaw lets them go on, and tells for how long they stood still. [errNotFrozen] says that one of them did not until now.
func (s *standing) thaw() (stood time.Duration, err error) {
	for i := len(s.open) - 1; i >= 0; i-- {
		if !s.frozen[i] {
			continue
		}
		switch failed := ioctl(s.open[i], fiThaw); {
		case errors.Is(failed, unix.EINVAL):
			err = fmt.Errorf("%w: something else thawed %s", errNotFrozen, s.mounts[i].Path)
			fallthrough
		case failed == nil:
			s.frozen[i] = false
		default:
			err = errors.Join(err, fmt.Errorf("thaw %s: %w", s.mounts[i].Path, failed))
		}
	}
	return time.Since(s.begun), err
}

// end releases all, thawed as it is.
func (s *standing) end() {
	_, left := s.thaw()
	unix.Munlockall()
	if s.dog != nil {
		if left == nil || errors.Is(left, errNotFrozen) {
			io.WriteString(s.dog, "thawed\n")
		}
		s.dog.Close() // otherwise it goes on thawing
	}
	for _, f := range s.open {
		f.Close()
	}
	os.Remove(s.note)
}

func ioctl(f *os.File, request uintptr) error {
	for {
		_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), request, 0)
		if errno == unix.EINTR {
			continue
		}
		if errno != 0 {
			return errno
		}
		return nil
	}
}

// WatchFreeze is the watchdog. It has file systems open from descriptor 3 on. in first says how many milliseconds a freeze may last: they are thawed
// when those are over after in said "frozen", or in ends without "thawed": then the agent is dead, and what it had asked for may still come about.
func WatchFreeze(in io.Reader, out io.Writer) error {
	lines := bufio.NewScanner(in)
	lines.Scan()
	milliseconds, err := strconv.Atoi(lines.Text())
	if err != nil {
		return fmt.Errorf("how long a freeze may last: %w", err)
	}
	limit := time.Duration(milliseconds) * time.Millisecond
	var open []*os.File
	for fd := uintptr(3); ; fd++ {
		var stat unix.Stat_t
		if unix.Fstat(int(fd), &stat) != nil || stat.Mode&unix.S_IFMT != unix.S_IFDIR && stat.Mode&unix.S_IFMT != unix.S_IFREG {
			break
		}
		open = append(open, os.NewFile(fd, strconv.Itoa(int(fd))))
	}
	if len(open) == 0 {
		return errors.New("it was given nothing to watch")
	}
	if err := unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT); err != nil {
		return fmt.Errorf("lock the watchdog in memory: %w", err)
	}
	if _, err := fmt.Fprintln(out, "watching"); err != nil {
		return err
	}
	told := make(chan string, 4)
	go func() {
		defer close(told)
		for lines.Scan() {
			told <- lines.Text()
		}
	}()
	thaw := func() {
		for i := len(open) - 1; i >= 0; i-- {
			_ = ioctl(open[i], fiThaw) // one that is not frozen says so
		}
	}
	var over <-chan time.Time
	for {
		select {
		case line, alive := <-told:
			switch {
			case line == "thawed":
				return nil
			case line == "frozen":
				over = time.After(limit)
			case !alive:
				for end := time.Now().Add(afterlife); time.Now().Before(end); time.Sleep(thawEvery) {
					thaw()
				}
				return nil
			}
		case <-over:
			thaw()
			over = time.After(thawEvery)
		}
	}
}

// ThawLeft thaws what a dead agent had frozen, or was about to, and returns what it found.
func ThawLeft(folder string) (found []string, err error) {
	note := filepath.Join(folder, frozenFile)
	body, err := os.ReadFile(note)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var paths []string
	if err == nil {
		err = json.Unmarshal(body, &paths)
	}
	if err != nil {
		return nil, fmt.Errorf("what a dead agent had frozen: %s: %w; look with findmnt, and thaw with fsfreeze -u", note, err)
	}
	var errs []error
	for _, path := range paths {
		f, err := os.Open(path)
		if err == nil {
			err = ioctl(f, fiThaw)
			f.Close()
			if err == nil {
				found = append(found, "thawed "+path)
			}
		}
		if err != nil && !errors.Is(err, unix.EINVAL) && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, unix.EOPNOTSUPP) {
			errs = append(errs, fmt.Errorf("thaw %s: %w", path, err))
		}
	}
	if len(errs) == 0 {
		err = os.Remove(note)
	}
	return found, errors.Join(append(errs, err)...)
}
