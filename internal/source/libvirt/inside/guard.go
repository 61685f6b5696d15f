package inside

import (
	"context"
	"errors"
	"fmt"
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
const guardScript = `PATH=$PATH:/usr/sbin:/sbin:/bin
sleep "$1"
while read -r what where rest; do case $what in /dev/*) fsfreeze --unfreeze "$(printf '%b' "$where")" 2>/dev/null;; esac; done </proc/mounts`

// Guard sets what ends a freeze of a guest on the far side of a line. Call end when the guest is thawed.
func (g Agent) Guard(ctx context.Context, d golibvirt.Domain) (end func(), err error) {
	end, inside := g.guard(ctx, d)
	if inside == nil {
		return end, nil
	}
	end, outside := g.ThawLater(ctx, d.Name, guardTime)
	if outside != nil {
		return nil, fmt.Errorf("neither in the guest (%w) nor on its host (%w)", inside, outside)
	}
	return end, nil
}

// guard starts a guard in the guest, by its agent.
func (g Agent) guard(ctx context.Context, d golibvirt.Domain) (end func(), err error) {
	var system struct {
		ID string `json:"id"`
	}
	if err := g.ask(ctx, d, "guest-get-osinfo", nil, &system); err == nil && system.ID == "mswindows" {
		return func() {}, nil // its shadow copies end a freeze by themselves within 10 s
	}
	code, _, err := g.Execute(ctx, d.Name, []string{"/bin/sh", "-c", "PATH=$PATH:/usr/sbin:/sbin:/bin; command -v fsfreeze && command -v sleep"}, freezeTime)
	if err == nil && code != 0 {
		err = errors.New("it has no fsfreeze, or no sleep")
	}
	if err != nil {
		return nil, err
	}
	var started struct {
		PID int64 `json:"pid"`
	}
	command := map[string]any{"path": "/bin/sh", "arg": []string{"-c", guardScript, "keenlodge", fmt.Sprint(int(guardTime / time.Second))}}
	if err := g.ask(ctx, d, "guest-exec", command, &started); err != nil {
		return nil, err
	}
	return func() {
		// One that is not ended thaws what is not frozen, which does nothing; a freeze of somebody else's would end early, and show it.
		end := map[string]any{"path": "/bin/sh", "arg": []string{"-c", `kill "$1"`, "keenlodge", fmt.Sprint(started.PID)}}
		_ = g.ask(context.WithoutCancel(ctx), d, "guest-exec", end, nil)
	}, nil
}
