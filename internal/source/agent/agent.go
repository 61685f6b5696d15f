// Package agent is the source of servers that run our agent. Their agents call the lodge, so it is reached through the lines that the service
// holds, and not by an address.
package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
	"keenlodge/internal/line"
	"keenlodge/internal/source"
)

// Kind is what a site calls a source of servers.
const Kind = site.Agents

func init() {
	refuse := errors.New("servers are reached by the service that their agents call, and by nobody else")
	source.Register(Kind, func(context.Context, site.Hypervisor) (source.Source, error) { return nil, refuse },
		func(context.Context, site.Hypervisor) []probe.Step {
			var steps probe.Steps
			steps.Tell("reach", probe.OK, "servers call the lodge; enroll one: keenlodge machine enroll NAME")
			return steps
		})
}

// Server is one that was enrolled.
type Server struct {
	Name, UUID string
	// Connected says that a process of the lodge has its line; About is what it said of itself last.
	Connected bool
	About     line.About
}

// Lines are the lines that agents have to the lodge.
type Lines interface {
	// Servers lists the servers of a source, by name.
	Servers(ctx context.Context, source string) ([]Server, error)
	// Line is an agent's. One that has none is [source.ErrUnreachable], one that is not known [source.ErrNoMachine].
	Line(ctx context.Context, name string) (*line.Line, error)
}

// Source is the servers of a source of the site. It implements [source.Source] and what servers can do of the rest.
type Source struct {
	name  string
	lines Lines
	// patience is how long a capture waits for a line that was cut.
	patience time.Duration
}

// Patience is how long a capture waits for a line that was cut: shorter than the time for which an agent keeps one that nobody asks for. Tests
// shorten it.
var Patience = 9 * time.Minute

// Of is the source of a name.
func Of(name string, lines Lines) *Source { return &Source{name, lines, Patience} }

// Close implements [source.Source]. The lines are the service's.
func (s *Source) Close() error { return nil }

// Machines implements [source.Source].
func (s *Source) Machines(ctx context.Context) ([]source.Machine, error) {
	servers, err := s.lines.Servers(ctx, s.name)
	out := []source.Machine{}
	for _, v := range servers {
		m := source.Machine{Name: v.Name, UUID: v.UUID, State: machine.Silent, Tags: map[string]string{}}
		if v.Connected {
			m.State = machine.Running
		}
		for _, d := range v.About.Disks {
			if d.Left == "" {
				m.Disks = append(m.Disks, source.Disk{Target: d.Target, Format: format, Size: d.Size})
			}
		}
		out = append(out, m)
	}
	return out, err
}

// ask calls an agent.
func (s *Source) ask(ctx context.Context, name, call string, args, result any) error {
	l, err := s.lines.Line(ctx, name)
	if err == nil {
		err = l.Ask(ctx, call, args, result)
	}
	return told(name, err)
}

// open calls an agent for something that goes on.
func (s *Source) open(ctx context.Context, name, call string, args, result any) (net.Conn, error) {
	l, err := s.lines.Line(ctx, name)
	if err != nil {
		return nil, told(name, err)
	}
	conn, err := l.Open(ctx, call, args, result)
	return conn, told(name, err)
}

// told is an agent's error in the words of sources.
func told(name string, err error) error {
	if err == nil {
		return nil
	}
	var refused *line.Refusal
	switch {
	case errors.Is(err, line.ErrCut):
		return fmt.Errorf("server %s: %w: %w", name, source.ErrUnreachable, err)
	case errors.As(err, &refused) && refused.Kind == line.Busy:
		return fmt.Errorf("server %s: %w: %w", name, source.ErrBusy, err)
	}
	return fmt.Errorf("server %s: %w", name, err)
}

// Ping implements [source.Insider].
func (s *Source) Ping(ctx context.Context, name string) error {
	return s.ask(ctx, name, line.CallOpen, nil, nil)
}

// Execute implements [source.Insider]: a server runs what lies in its folder of commands, by its name, and nothing else.
func (s *Source) Execute(ctx context.Context, name string, command []string, limit time.Duration) (int, string, error) {
	if len(command) != 1 || !field.IsName(command[0]) {
		return 0, "", fmt.Errorf("server %s runs only what lies in its folder %s, by its name and without arguments, such as [ledger-idle], and not %q", name, site.CommandFolder, command)
	}
	var ended line.CommandEnded
	err := s.ask(ctx, name, line.CallCommand, line.Command{Name: command[0], Within: limit}, &ended)
	return ended.Code, plain.Text(ended.Output, 64<<10), err
}

// GuestMounts implements [source.Insider].
func (s *Source) GuestMounts(ctx context.Context, name string) (places []string, err error) {
	found, err := s.FileSystems(ctx, name)
	for _, f := range found {
		places = append(places, f.Mounted)
	}
	return places, err
}

// ReadGuestFile implements [source.Insider]. Files of servers come in images of files.
func (s *Source) ReadGuestFile(_ context.Context, name, _ string, _ int64) ([]byte, error) {
	return nil, fmt.Errorf("server %s: single files are not read from a server; have a policy with the scope files cover it, and take them out of its image", name)
}

// FileSystems implements [source.Insider].
func (s *Source) FileSystems(ctx context.Context, name string) ([]source.FileSystem, error) {
	var m line.Mounts
	err := s.ask(ctx, name, line.CallMounts, nil, &m)
	out := make([]source.FileSystem, len(m.Mounts))
	for i, f := range m.Mounts {
		out[i] = source.FileSystem(f)
	}
	return out, err
}
