// Package inside asks guests by the agents in them (QEMU's guest agent protocol), and freezes and thaws their file systems.
package inside

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"

	"keenlodge/internal/core/back"
	"keenlodge/internal/source"
	"keenlodge/internal/source/guestagent"
	"keenlodge/internal/source/libvirt/daemon"
)

// Agent asks the guests of a daemon.
type Agent struct {
	*daemon.Conn
	files *guestagent.Files
}

// Of is the Agent of a connection.
func Of(c *daemon.Conn) Agent { return Agent{c, &guestagent.Files{}} }

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

// to is the way to a guest's agent.
func (g Agent) to(d golibvirt.Domain) guestagent.Ask {
	return func(ctx context.Context, command string, arguments, answer any) error {
		return g.ask(ctx, d, command, arguments, answer)
	}
}

// of is the way to the agent of a guest of a name.
func (g Agent) of(ctx context.Context, machine string) (guestagent.Ask, error) {
	d, err := g.Domain(ctx, machine)
	return g.to(d), err
}

// IsFrozen reports whether the agent holds a guest frozen.
func (g Agent) IsFrozen(ctx context.Context, d golibvirt.Domain) (bool, error) {
	return g.to(d).Frozen(ctx)
}

// Ping implements [source.Insider].
func (g Agent) Ping(ctx context.Context, machine string) error {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return err
	}
	return ask(ctx, "guest-ping", nil, nil)
}

// FileSystems implements [source.Insider].
func (g Agent) FileSystems(ctx context.Context, machine string) ([]source.FileSystem, error) {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return nil, err
	}
	return ask.FileSystems(ctx)
}

// GuestMounts implements [source.Insider].
func (g Agent) GuestMounts(ctx context.Context, machine string) ([]string, error) {
	found, err := g.FileSystems(ctx, machine)
	return guestagent.Places(found), err
}

// System implements [source.SystemTeller].
func (g Agent) System(ctx context.Context, machine string) (string, error) {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return "", err
	}
	return ask.System(ctx)
}

// Addresses implements [source.Addresser].
func (g Agent) Addresses(ctx context.Context, machine string) ([]netip.Addr, error) {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return nil, err
	}
	return ask.Addresses(ctx)
}

// Execute implements [source.Insider].
func (g Agent) Execute(ctx context.Context, machine string, command []string, limit time.Duration) (code int, output string, err error) {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return 0, "", err
	}
	return ask.Execute(ctx, machine, command, limit)
}

// ReadGuestFile implements [source.Insider].
func (g Agent) ReadGuestFile(ctx context.Context, machine, path string, limit int64) ([]byte, error) {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return nil, err
	}
	return ask.ReadFile(ctx, machine, path, limit)
}

// PlanFiles implements [source.Unpacker].
func (g Agent) PlanFiles(ctx context.Context, machine string, o back.Order, list io.Reader, visit func(back.Step) error) (source.PlanSum, error) {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return source.PlanSum{}, err
	}
	return g.files.Plan(ctx, ask, machine, o, list, visit)
}

// PutFiles implements [source.Unpacker].
func (g Agent) PutFiles(ctx context.Context, machine, id, digest string, archive io.Reader, progress func(back.Progress)) (back.Done, error) {
	ask, err := g.of(ctx, machine)
	if err != nil {
		return back.Done{}, err
	}
	return g.files.Put(ctx, ask, machine, id, digest, archive, progress)
}

// UndoFiles implements [source.Unpacker].
func (g Agent) UndoFiles(_ context.Context, machine, id string, _ func(back.Progress)) (back.Done, error) {
	return guestagent.Undo(machine, id)
}
