// Package guestagent asks a guest from inside by QEMU's guest agent (QEMU, docs/interop/qemu-ga-ref), whichever way its commands travel.
package guestagent

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/source"
)

// Ask sends a command to a guest's agent and decodes what it returns into answer, unless that is nil.
type Ask func(ctx context.Context, command string, arguments, answer any) error

// Frozen reports whether the agent holds the guest frozen.
func (a Ask) Frozen(ctx context.Context) (bool, error) {
	var status string
	err := a(ctx, "guest-fsfreeze-status", nil, &status)
	return status == "frozen", err
}

// FileSystems lists the file systems that are mounted, by their places.
func (a Ask) FileSystems(ctx context.Context) ([]source.FileSystem, error) {
	var found []struct {
		Mountpoint string `json:"mountpoint"`
		Type       string `json:"type"`
		Used       int64  `json:"used-bytes"`
		Total      int64  `json:"total-bytes"`
	}
	if err := a(ctx, "guest-get-fsinfo", nil, &found); err != nil {
		return nil, err
	}
	var out []source.FileSystem
	for _, f := range found {
		out = append(out, source.FileSystem{Mounted: f.Mountpoint, Kind: f.Type, Used: f.Used, Total: f.Total})
	}
	slices.SortFunc(out, func(a, b source.FileSystem) int { return strings.Compare(a.Mounted, b.Mounted) })
	return out, nil
}

// System is what system the guest runs, with its kernel, in words.
func (a Ask) System(ctx context.Context) (string, error) {
	var found struct {
		Name   string `json:"pretty-name"`
		ID     string `json:"id"`
		Kernel string `json:"kernel-release"`
	}
	if err := a(ctx, "guest-get-osinfo", nil, &found); err != nil {
		return "", err
	}
	return plain.Text(fmt.Sprintf("%s, kernel %s", cmp.Or(found.Name, found.ID, "unknown"), cmp.Or(found.Kernel, "unknown")), 200), nil
}

// Addresses are those of IPv4 that the guest has, without that of its own loopback.
func (a Ask) Addresses(ctx context.Context) (out []netip.Addr, err error) {
	var found []struct {
		Addresses []struct {
			Address string `json:"ip-address"`
		} `json:"ip-addresses"`
	}
	if err := a(ctx, "guest-network-get-interfaces", nil, &found); err != nil {
		return nil, err
	}
	for _, card := range found {
		for _, one := range card.Addresses {
			if at, err := netip.ParseAddr(one.Address); err == nil && at.Is4() && !at.IsLoopback() {
				out = append(out, at)
			}
		}
	}
	return out, nil
}

// Places are where file systems are mounted.
func Places(found []source.FileSystem) []string {
	var places []string
	for _, f := range found {
		places = append(places, f.Mounted)
	}
	return places
}

// mostSaid is how much of what a command says is kept, in bytes.
const mostSaid = 64 << 10

// Execute runs a command in guest name, as [source.Insider] says.
func (a Ask) Execute(ctx context.Context, machine string, command []string, limit time.Duration) (code int, output string, err error) {
	code, out, said, err := a.run(ctx, machine, command, limit)
	output = string(out) + string(said)
	return code, strings.ToValidUTF8(output[:min(len(output), mostSaid)], "?"), err
}

// run runs a command in guest name, and returns how it ended and what it said.
func (a Ask) run(ctx context.Context, machine string, command []string, limit time.Duration) (code int, out, said []byte, err error) {
	var started struct {
		PID int64 `json:"pid"`
	}
	err = a(ctx, "guest-exec", map[string]any{"path": command[0], "arg": append([]string{}, command[1:]...), "capture-output": true}, &started)
	if err != nil {
		return 0, nil, nil, fmt.Errorf("run %s in guest %s: %w", command[0], machine, err)
	}
	pause := 50 * time.Millisecond
	for end := time.Now().Add(limit); ; {
		var now struct {
			Exited bool   `json:"exited"`
			Code   int    `json:"exitcode"`
			Signal int    `json:"signal"`
			Out    []byte `json:"out-data"` // in base64, as all bytes in JSON are
			Err    []byte `json:"err-data"`
		}
		if err := a(ctx, "guest-exec-status", map[string]any{"pid": started.PID}, &now); err != nil {
			return 0, nil, nil, err
		}
		if now.Exited {
			if now.Signal != 0 {
				now.Code = 128 + now.Signal // as shells tell it
			}
			return now.Code, now.Out, now.Err, nil
		}
		if time.Now().After(end) {
			return 0, nil, nil, fmt.Errorf("%s in guest %s took longer than %s; it goes on there", command[0], machine, limit)
		}
		select {
		case <-ctx.Done():
			return 0, nil, nil, context.Cause(ctx)
		case <-time.After(pause):
			pause = min(2*pause, time.Second)
		}
	}
}

// ReadFile reads a file of guest name, up to limit bytes.
func (a Ask) ReadFile(ctx context.Context, machine, path string, limit int64) ([]byte, error) {
	var handle int64
	if err := a(ctx, "guest-file-open", map[string]any{"path": path, "mode": "r"}, &handle); err != nil {
		return nil, err
	}
	defer a(context.WithoutCancel(ctx), "guest-file-close", map[string]any{"handle": handle}, nil)
	var out []byte
	for {
		var piece struct {
			Count int64  `json:"count"`
			Body  string `json:"buf-b64"`
			EOF   bool   `json:"eof"`
		}
		if err := a(ctx, "guest-file-read", map[string]any{"handle": handle, "count": 1 << 20}, &piece); err != nil {
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
