package libvirt

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
)

// A freeze over a line to another host must end even if that line is cut while it holds, and the watchdog is on this side of the line. So
// something on the other side is set to end it before it begins: a program in the guest, or else a command on its host.

// guardTime is after what time a freeze is ended on the far side, whatever becomes of the line. What qemu-ga knows of the freeze is not
// undone by it: the agent answers to little until it is told to thaw, which happens when the line is back.
const guardTime = 10 * time.Second

// guardScript thaws every file system of a disk that may be frozen (fsfreeze(8); on one that is not it does nothing). $1 is after how many
// seconds. Names in /proc/mounts are escaped as printf does (fstab(5)).
const guardScript = `PATH=$PATH:/usr/sbin:/sbin:/bin; command -v fsfreeze >/dev/null && command -v sleep >/dev/null || exit 9
sleep "$1"
while read -r what where rest; do case $what in /dev/*) fsfreeze -u "$(printf '%b' "$where")" 2>/dev/null;; esac; done </proc/mounts`

// guard ends a freeze on the far side of a line. Its end is called when the guest is thawed.
type guard struct{ end func() }

// setGuard sets what ends a freeze of a guest on the far side.
func (h *Host) setGuard(ctx context.Context, d golibvirt.Domain) (g guard, err error) {
	own, inside := h.guardInside(ctx, d)
	if inside == nil {
		return own, nil
	}
	w, ok := h.way.(*overSSH)
	if !ok {
		return g, inside
	}
	g, outside := w.guard(ctx, h.path, d.Name)
	if outside != nil {
		return g, fmt.Errorf("neither in the guest (%w) nor on its host (%w)", inside, outside)
	}
	return g, nil
}

// guardInside starts a guard in the guest, by its agent.
func (h *Host) guardInside(ctx context.Context, d golibvirt.Domain) (g guard, err error) {
	var system struct {
		ID string `json:"id"`
	}
	if err := h.ask(ctx, d, "guest-get-osinfo", nil, &system); err == nil && system.ID == "mswindows" {
		return guard{func() {}}, nil // its shadow copies end a freeze by themselves within 10 s
	}
	var started struct {
		PID int64 `json:"pid"`
	}
	command := map[string]any{"path": "/bin/sh", "arg": []string{"-c", guardScript, "keenlodge", fmt.Sprint(int(guardTime / time.Second))}}
	if err := h.ask(ctx, d, "guest-exec", command, &started); err != nil {
		return g, err
	}
	// What is missing there shows at once; asked twice, for the first answer may come before the program has looked.
	for range 2 {
		var now struct {
			Exited bool `json:"exited"`
			Code   int  `json:"exitcode"`
		}
		if err := h.ask(ctx, d, "guest-exec-status", map[string]any{"pid": started.PID}, &now); err != nil {
			return g, err
		}
		if now.Exited {
			return g, fmt.Errorf("it has no fsfreeze or no sleep (code %d)", now.Code)
		}
	}
	return guard{func() {
		// One that is not ended thaws what is not frozen, which does nothing; a freeze of somebody else's would end early, and show it.
		end := map[string]any{"path": "/bin/sh", "arg": []string{"-c", `kill "$1"`, "keenlodge", fmt.Sprint(started.PID)}}
		_ = h.ask(context.WithoutCancel(ctx), d, "guest-exec", end, nil)
	}}, nil
}

// hostGuard waits on a guest's host, and then thaws the guest by libvirt's own client. Only the word ends it: a line that is cut says nothing.
const hostGuard = `( sleep %d; exec virsh -q -c qemu://%s domfsthaw %s ) >/dev/null 2>&1 </dev/null & command -v virsh >/dev/null && echo waiting; read -r word; [ "$word" = thawed ] && kill $!`

// guard starts a guard on the host. It needs a shell there, and virsh.
func (w *overSSH) guard(ctx context.Context, path, name string) (g guard, err error) {
	w.mu.Lock()
	line := w.talking
	w.mu.Unlock()
	if line == nil {
		return g, errors.New("there is no line")
	}
	s, err := line.NewSession()
	if err != nil {
		return g, fmt.Errorf("it gives no session: %w", err)
	}
	in, err := s.StdinPipe()
	if err != nil {
		return g, err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return g, err
	}
	if w.socket != systemSocket {
		path += "?socket=" + w.socket
	}
	if err := s.Start(fmt.Sprintf(hostGuard, int(guardTime/time.Second), quoted(path), quoted(name))); err != nil {
		s.Close()
		return g, fmt.Errorf("it runs no command: %w", err)
	}
	said := make(chan bool, 1)
	go func() {
		var word [8]byte
		n, _ := out.Read(word[:])
		said <- string(word[:n]) == "waiting\n"
	}()
	select {
	case ok := <-said:
		if ok {
			return guard{func() { fmt.Fprintln(in, "thawed"); s.Close() }}, nil
		}
	case <-time.After(answerTime):
	case <-ctx.Done():
	}
	s.Close()
	return g, errors.New("it has no virsh, or no shell for this account")
}

// quoted is a word as a shell takes it (POSIX, section 2.2.2).
func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }
