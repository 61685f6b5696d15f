package parts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"syscall"
	"time"

	"keenlodge/internal/core/plain"
)

// mostSaid bounds what is kept of a command's complaints, in bytes.
const mostSaid = 4 << 10

// killTime is how long a command that was told to end may take before it is killed, with all that it started.
const killTime = 5 * time.Second

// Run runs a command of the folder and writes its output to out. One that fails, or takes longer than limit, is an error with what it said last.
func Run(ctx context.Context, folder, name string, limit time.Duration, out io.Writer, args ...string) error {
	place, err := Command(folder, name)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := exec.CommandContext(limited, place, args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8", "HOME=/root"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error {
		// To it and to all that it started.
		err := syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		if errors.Is(err, syscall.ESRCH) {
			return os.ErrProcessDone
		}
		return err
	}
	cmd.WaitDelay = killTime
	said := &tail{}
	cmd.Stdout, cmd.Stderr = out, said
	err = cmd.Run()
	if cmd.Process != nil { // what it left behind goes with it
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	}
	switch {
	case err == nil:
		return nil
	case ctx.Err() == nil && limited.Err() != nil:
		err = fmt.Errorf("it took longer than %s and was ended", limit)
	}
	if ended := new(exec.ExitError); errors.As(err, &ended) && ended.Exited() {
		err = &Ended{ended.ExitCode(), ended.Error()}
	}
	if text := plain.LastLine(string(said.b), 400); text != "" {
		return fmt.Errorf("command %s: %w: %s", name, err, text)
	}
	return fmt.Errorf("command %s: %w", name, err)
}

// Ended marks a command that ended by itself, and not with 0.
type Ended struct {
	Code int
	says string
}

func (e *Ended) Error() string { return e.says }

// tail keeps the end of what is written to it.
type tail struct{ b []byte }

func (t *tail) Write(p []byte) (int, error) {
	t.b = append(t.b, p...)
	if len(t.b) > mostSaid {
		t.b = append(t.b[:0], t.b[len(t.b)-mostSaid:]...)
	}
	return len(p), nil
}
