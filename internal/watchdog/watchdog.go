// Package watchdog ends the freeze of a guest that nobody else ends: it is a process of its own, which outlives whoever began it.
package watchdog

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"syscall"
	"time"

	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

// Command is the hidden command under which the program runs as a freeze's watchdog.
const Command = "thaw-watch"

const (
	// freezingTime is how long a freeze may take to come about, and watchTime how long it may then last before the
	// watchdog ends it; with the thaw that is below 10 s.
	freezingTime = 12 * time.Second
	watchTime    = 8 * time.Second
	// watchTries is how long the watchdog goes on when the guest does not answer.
	watchTries = 10 * time.Minute
)

// watchdog is a process of its own, so that it outlives this one. It implements [source.Watchdog].
type watchdog struct{ in io.WriteCloser }

// Frozen implements [source.Watchdog]. A watchdog that is gone has ended the freeze; the thaw will show it.
func (w watchdog) Frozen() { io.WriteString(w.in, "frozen\n") }

// Thawed implements [source.Watchdog].
func (w watchdog) Thawed() { io.WriteString(w.in, "thawed\n"); w.in.Close() }

// watched is what a watchdog is told first: the source, with what reaches it, never passes through arguments.
type watched struct {
	Source  site.Hypervisor `json:"source"`
	Machine string          `json:"machine"`
}

// watchdogEnv is what a watchdog needs of the service's environment to reach a source, by SSH too, and nothing else of it.
func watchdogEnv() (env []string) {
	for _, name := range []string{"PATH", "HOME", "USER", "SSH_AUTH_SOCK", "TZ"} {
		if value, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+value)
		}
	}
	return env
}

// Start starts a watchdog for a machine that is about to be frozen.
func Start(program string, spec site.Hypervisor, name string) (source.Watchdog, error) {
	cmd := exec.Command(program, Command)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // a signal to our group is not for it
	cmd.Env = watchdogEnv()
	cmd.Stderr = os.Stderr // its last words belong into the service's log
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the watchdog: %w", err)
	}
	told := json.NewEncoder(in).Encode(watched{spec, name})
	// It speaks when it has reached the source: a freeze without a watchdog is not begun.
	line, err := bufio.NewReader(out).ReadString('\n')
	go cmd.Wait()
	if err = errors.Join(told, err); err != nil || line != "watching\n" {
		in.Close()
		return nil, fmt.Errorf("the watchdog of guest %s did not start: %q, %v", name, line, err)
	}
	return watchdog{in}, nil
}

// Thaw is the watchdog. It thaws the machine that in names first when in ends without "thawed" (its parent died), or when the time
// is up after in said "frozen" (its parent hangs).
func Thaw(ctx context.Context, in io.Reader, out io.Writer) error {
	lines := bufio.NewScanner(in)
	var w watched
	if !lines.Scan() {
		return errors.New("nothing was said of what to watch")
	}
	if err := json.Unmarshal(lines.Bytes(), &w); err != nil {
		return fmt.Errorf("what to watch: %w", err)
	}
	h, capturer, err := dial(ctx, w.Source)
	if err != nil {
		return err
	}
	defer func() { h.Close() }()
	if _, err := fmt.Fprintln(out, "watching"); err != nil {
		return err
	}
	told := make(chan string, 2)
	go func() {
		defer close(told)
		for lines.Scan() {
			told <- lines.Text()
		}
	}()
	limit := time.After(freezingTime)
	for waiting := true; waiting; {
		select {
		case line, open := <-told:
			switch {
			case line == "thawed":
				return nil
			case line == "frozen":
				limit = time.After(watchTime)
			case !open:
				waiting = false
			}
		case <-limit:
			waiting = false
		}
	}
	for end := time.Now().Add(watchTries); ; {
		if err = capturer.Thaw(ctx, w.Machine); err == nil {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("gave up: %w", err)
		}
		time.Sleep(500 * time.Millisecond)
		again, capturing, dialed := dial(ctx, w.Source)
		if dialed != nil {
			continue // the thaw over the old connection tells why
		}
		h.Close()
		h, capturer = again, capturing
	}
}

// dial connects to a source that captures machines.
func dial(ctx context.Context, spec site.Hypervisor) (source.Source, source.Capturer, error) {
	h, err := source.Dial(ctx, spec)
	if err != nil {
		return nil, nil, err
	}
	capturer, err := source.As[source.Capturer](h, "capture machines")
	if err != nil {
		h.Close()
	}
	return h, capturer, err
}
