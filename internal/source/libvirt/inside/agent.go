// Package inside asks guests by the agents in them (QEMU's guest agent protocol), and freezes and thaws their file systems.
package inside

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"

	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// Agent asks the guests of a daemon.
type Agent struct{ *daemon.Conn }

// freezeTime is how long the guest agent may take to answer.
const freezeTime = 8 * time.Second

// Freeze stops the guest's file systems, all of them.
func (g Agent) Freeze(ctx context.Context, d golibvirt.Domain) error {
	return g.Within(ctx, freezeTime+2*time.Second, "freeze guest "+d.Name, func() error {
		if _, err := g.L.DomainAgentSetResponseTimeout(d, int32(freezeTime/time.Second), 0); err != nil {
			return err
		}
		n, err := g.L.DomainFsfreeze(d, nil, 0)
		if err == nil && n == 0 {
			err = errors.New("no file system was frozen")
		}
		return err
	})
}

// ThawDomain ends a freeze. It tells how many file systems stood still.
func (g Agent) ThawDomain(ctx context.Context, d golibvirt.Domain) (n int32, err error) {
	err = g.Within(ctx, freezeTime+2*time.Second, "thaw guest "+d.Name, func() (err error) {
		n, err = g.L.DomainFsthaw(d, nil, 0)
		return err
	})
	return n, err
}

// Thaw implements [source.Source].
func (g Agent) Thaw(ctx context.Context, machine string) error {
	d, err := g.Domain(ctx, machine)
	if err != nil {
		return err
	}
	_, err = g.ThawDomain(ctx, d)
	return err
}

// ask sends a command to the guest agent (QEMU's guest agent protocol) and decodes what it returns.
func (g Agent) ask(ctx context.Context, d golibvirt.Domain, command string, arguments, answer any) error {
	request := map[string]any{"execute": command}
	if arguments != nil {
		request["arguments"] = arguments
	}
	body, err := json.Marshal(request)
	if err != nil {
		return err
	}
	var text golibvirt.OptString
	err = g.Within(ctx, daemon.AnswerTime, command+" in guest "+d.Name, func() (err error) {
		text, err = g.L.QEMUDomainAgentCommand(d, string(body), int32(freezeTime/time.Second), 0)
		return err
	})
	if err != nil || answer == nil {
		return err
	}
	if len(text) == 0 {
		return fmt.Errorf("%s in guest %s: no answer", command, d.Name)
	}
	return json.Unmarshal([]byte(text[0]), &struct {
		Return any `json:"return"`
	}{answer})
}

// IsFrozen reports whether the agent holds a guest frozen.
func (g Agent) IsFrozen(ctx context.Context, d golibvirt.Domain) (bool, error) {
	var status string
	err := g.ask(ctx, d, "guest-fsfreeze-status", nil, &status)
	return status == "frozen", err
}

// Ping implements [source.Source].
func (g Agent) Ping(ctx context.Context, machine string) error {
	d, err := g.Domain(ctx, machine)
	if err != nil {
		return err
	}
	return g.ask(ctx, d, "guest-ping", nil, nil)
}

// FileSystems implements [source.Source].
func (g Agent) FileSystems(ctx context.Context, machine string) ([]source.FileSystem, error) {
	d, err := g.Domain(ctx, machine)
	if err != nil {
		return nil, err
	}
	var found []struct {
		Mountpoint string `json:"mountpoint"`
		Type       string `json:"type"`
		Used       int64  `json:"used-bytes"`
		Total      int64  `json:"total-bytes"`
	}
	if err := g.ask(ctx, d, "guest-get-fsinfo", nil, &found); err != nil {
		return nil, err
	}
	var out []source.FileSystem
	for _, f := range found {
		out = append(out, source.FileSystem{Mounted: f.Mountpoint, Kind: f.Type, Used: f.Used, Total: f.Total})
	}
	slices.SortFunc(out, func(a, b source.FileSystem) int { return strings.Compare(a.Mounted, b.Mounted) })
	return out, nil
}

// GuestMounts implements [source.Source].
func (g Agent) GuestMounts(ctx context.Context, machine string) ([]string, error) {
	found, err := g.FileSystems(ctx, machine)
	var points []string
	for _, f := range found {
		points = append(points, f.Mounted)
	}
	return points, err
}

// mostSaid is how much of what a command says is kept, in bytes.
const mostSaid = 64 << 10

// Execute implements [source.Source].
func (g Agent) Execute(ctx context.Context, machine string, command []string, limit time.Duration) (code int, output string, err error) {
	d, err := g.Domain(ctx, machine)
	if err != nil {
		return 0, "", err
	}
	var started struct {
		PID int64 `json:"pid"`
	}
	err = g.ask(ctx, d, "guest-exec", map[string]any{"path": command[0], "arg": append([]string{}, command[1:]...), "capture-output": true}, &started)
	if err != nil {
		return 0, "", fmt.Errorf("run %s in guest %s: %w", command[0], machine, err)
	}
	pause := 50 * time.Millisecond
	for end := time.Now().Add(limit); ; {
		var now struct {
			Exited bool   `json:"exited"`
			Code   int    `json:"exitcode"`
			Signal int    `json:"signal"`
			Out    string `json:"out-data"`
			Err    string `json:"err-data"`
		}
		if err := g.ask(ctx, d, "guest-exec-status", map[string]any{"pid": started.PID}, &now); err != nil {
			return 0, "", err
		}
		if now.Exited {
			for _, part := range []string{now.Out, now.Err} {
				text, err := base64.StdEncoding.DecodeString(part)
				if err != nil {
					return 0, "", fmt.Errorf("what %s said in guest %s: %w", command[0], machine, err)
				}
				output += string(text)
			}
			if now.Signal != 0 {
				now.Code = 128 + now.Signal // as shells tell it
			}
			return now.Code, strings.ToValidUTF8(output[:min(len(output), mostSaid)], "?"), nil
		}
		if time.Now().After(end) {
			return 0, "", fmt.Errorf("%s in guest %s took longer than %s; it goes on there", command[0], machine, limit)
		}
		select {
		case <-ctx.Done():
			return 0, "", context.Cause(ctx)
		case <-time.After(pause):
			pause = min(2*pause, time.Second)
		}
	}
}

// ReadGuestFile implements [source.Source].
func (g Agent) ReadGuestFile(ctx context.Context, machine, path string, limit int64) ([]byte, error) {
	d, err := g.Domain(ctx, machine)
	if err != nil {
		return nil, err
	}
	var handle int64
	if err := g.ask(ctx, d, "guest-file-open", map[string]any{"path": path, "mode": "r"}, &handle); err != nil {
		return nil, err
	}
	defer g.ask(context.WithoutCancel(ctx), d, "guest-file-close", map[string]any{"handle": handle}, nil)
	var out []byte
	for {
		var piece struct {
			Count int64  `json:"count"`
			Body  string `json:"buf-b64"`
			EOF   bool   `json:"eof"`
		}
		if err := g.ask(ctx, d, "guest-file-read", map[string]any{"handle": handle, "count": 1 << 20}, &piece); err != nil {
			return nil, err
		}
		body, err := base64.StdEncoding.DecodeString(piece.Body)
		if err != nil {
			return nil, fmt.Errorf("read %s in guest %s: %w", path, machine, err)
		}
		out = append(out, body...)
		if int64(len(out)) > limit {
			return nil, fmt.Errorf("read %s in guest %s: it has more than %d bytes", path, machine, limit)
		}
		if piece.EOF || piece.Count == 0 {
			return out, nil
		}
	}
}
