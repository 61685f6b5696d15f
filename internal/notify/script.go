// Package notify tells others what happens: it calls scripts on this host, and sends events to webhooks.
package notify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
)

// mostSaid is how much of what a script says is kept, in bytes.
const mostSaid = 64 << 10

// CheckScript tells why a script would not be run: it is not there, not executable, or others than the service's account and root could put
// something else in its place, who could so run anything as the service.
func CheckScript(path string) error {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return fmt.Errorf("script %s: %w", path, err)
	}
	info, err := os.Stat(real)
	switch {
	case err != nil:
		return fmt.Errorf("script %s: %w", path, err)
	case !ours(info):
		return fmt.Errorf("script %s belongs to another account than the service's, which could so run anything as the service; run: chown root %s", path, real)
	case info.IsDir() || info.Mode()&0o111 == 0:
		return fmt.Errorf("script %s is not executable; run: chmod +x %s", path, path)
	case info.Mode()&0o022 != 0:
		return fmt.Errorf("script %s may be changed by others than its owner, who could so run anything as the service; run: chmod go-w %s", path, path)
	}
	if real, err = filepath.Abs(real); err != nil {
		return err
	}
	for folder := filepath.Dir(real); ; folder = filepath.Dir(folder) {
		info, err := os.Stat(folder)
		if err != nil {
			return fmt.Errorf("script %s: %w", path, err)
		}
		// In a folder with the sticky bit nobody takes away what is another's.
		if shared := info.Mode()&0o022 != 0 && info.Mode()&os.ModeSticky == 0; shared || !ours(info) {
			return fmt.Errorf("script %s lies below %s, where others than the service's account could put another in its place; move it, or run: chown root %[2]s; chmod go-w %[2]s", path, folder)
		}
		if folder == filepath.Dir(folder) {
			return nil
		}
	}
}

// ours reports whether a file belongs to root or to the service's account.
func ours(info os.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && (st.Uid == 0 || int(st.Uid) == os.Geteuid())
}

// Script runs a program with nothing but these variables and PATH in its environment. When limit is over it is killed, with all that
// it started in its process group. output is the first 64 KiB of what it said on both its streams.
func Script(ctx context.Context, path string, variables map[string]string, limit time.Duration) (output string, err error) {
	if err := CheckScript(path); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("it took longer than %s and was killed", limit))
	defer cancel()
	var said capped
	cmd := exec.CommandContext(ctx, path)
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"}
	for name, value := range variables {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	cmd.Stdout, cmd.Stderr = &said, &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second // a child that left the group may hold the streams open
	err = cmd.Run()
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	} else if errors.Is(err, exec.ErrWaitDelay) {
		err = nil // it ended well; what it left running is its own affair
	}
	if err != nil {
		err = fmt.Errorf("script %s: %w", path, err)
	}
	return said.String(), err
}

// capped keeps the beginning of what is written to it.
type capped struct {
	mu   sync.Mutex
	kept bytes.Buffer
}

func (c *capped) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.kept.Write(p[:min(len(p), mostSaid-c.kept.Len())])
	return len(p), nil
}

func (c *capped) String() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return strings.ReplaceAll(strings.ToValidUTF8(c.kept.String(), "?"), "\x00", "?")
}
