package libvirt

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
)

// freezeTime is how long the guest agent may take to answer.
const freezeTime = 8 * time.Second

// freeze stops the guest's file systems, all of them.
func (h *Host) freeze(ctx context.Context, d golibvirt.Domain) error {
	return h.within(ctx, freezeTime+2*time.Second, "freeze guest "+d.Name, func() error {
		if _, err := h.l.DomainAgentSetResponseTimeout(d, int32(freezeTime/time.Second), 0); err != nil {
			return err
		}
		n, err := h.l.DomainFsfreeze(d, nil, 0)
		if err == nil && n == 0 {
			err = errors.New("no file system was frozen")
		}
		return err
	})
}

// thaw tells how many file systems stood still.
func (h *Host) thaw(ctx context.Context, d golibvirt.Domain) (n int32, err error) {
	err = h.within(ctx, freezeTime+2*time.Second, "thaw guest "+d.Name, func() (err error) {
		n, err = h.l.DomainFsthaw(d, nil, 0)
		return err
	})
	return n, err
}

// Thaw implements [hypervisor.Hypervisor].
func (h *Host) Thaw(ctx context.Context, machine string) error {
	d, err := h.domain(ctx, machine)
	if err != nil {
		return err
	}
	_, err = h.thaw(ctx, d)
	return err
}

// ask sends a command to the guest agent (QEMU's guest agent protocol) and decodes what it returns.
func (h *Host) ask(ctx context.Context, d golibvirt.Domain, command string, arguments, answer any) error {
	request := map[string]any{"execute": command}
	if arguments != nil {
		request["arguments"] = arguments
	}
	body, err := json.Marshal(request)
	if err != nil {
		return err
	}
	var text golibvirt.OptString
	err = h.within(ctx, answerTime, command+" in guest "+d.Name, func() (err error) {
		text, err = h.l.QEMUDomainAgentCommand(d, string(body), int32(freezeTime/time.Second), 0)
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

func (h *Host) isFrozen(ctx context.Context, d golibvirt.Domain) (bool, error) {
	var status string
	err := h.ask(ctx, d, "guest-fsfreeze-status", nil, &status)
	return status == "frozen", err
}

// Ping implements [hypervisor.Hypervisor].
func (h *Host) Ping(ctx context.Context, machine string) error {
	d, err := h.domain(ctx, machine)
	if err != nil {
		return err
	}
	return h.ask(ctx, d, "guest-ping", nil, nil)
}

// GuestMounts implements [hypervisor.Hypervisor].
func (h *Host) GuestMounts(ctx context.Context, machine string) ([]string, error) {
	d, err := h.domain(ctx, machine)
	if err != nil {
		return nil, err
	}
	var found []struct {
		Mountpoint string `json:"mountpoint"`
	}
	if err := h.ask(ctx, d, "guest-get-fsinfo", nil, &found); err != nil {
		return nil, err
	}
	var points []string
	for _, f := range found {
		points = append(points, f.Mountpoint)
	}
	slices.Sort(points)
	return points, nil
}

// ReadGuestFile implements [hypervisor.Hypervisor].
func (h *Host) ReadGuestFile(ctx context.Context, machine, path string, limit int64) ([]byte, error) {
	d, err := h.domain(ctx, machine)
	if err != nil {
		return nil, err
	}
	var handle int64
	if err := h.ask(ctx, d, "guest-file-open", map[string]any{"path": path, "mode": "r"}, &handle); err != nil {
		return nil, err
	}
	defer h.ask(context.WithoutCancel(ctx), d, "guest-file-close", map[string]any{"handle": handle}, nil)
	var out []byte
	for {
		var piece struct {
			Count int64  `json:"count"`
			Body  string `json:"buf-b64"`
			EOF   bool   `json:"eof"`
		}
		if err := h.ask(ctx, d, "guest-file-read", map[string]any{"handle": handle, "count": 1 << 20}, &piece); err != nil {
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
