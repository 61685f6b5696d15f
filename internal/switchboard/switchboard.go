// Package switchboard holds the lines on which servers' agents call: which agent has one, and through it what the agent is asked. An agent that
// is dismissed loses its line at once, and one that calls again takes the place of its older line. A line that another process of the lodge has
// is passed on by that one.
package switchboard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/source/agent"
	"keenlodge/internal/vault"
)

const (
	// lookEvery is how often it is looked for agents that were dismissed.
	lookEvery = 500 * time.Millisecond
	// aboutTime is how long an agent may take to say who it is, aboutAge how old that may be when somebody asks for machines.
	aboutTime, aboutAge = 20 * time.Second, 5 * time.Minute
	// patience is how long a line is waited for, waitEvery how often it is looked for meanwhile.
	patience, waitEvery = 10 * time.Second, 250 * time.Millisecond
	// mostClock is how wrong a server's clock may be before it is told.
	mostClock = 2 * time.Minute
)

// Board holds the lines of this process. It implements [agent.Lines].
type Board struct {
	rec     *records.Records
	vault   *vault.Vault
	log     *slog.Logger
	process int64 // what the records call this one
	// Patience is how long an agent's line is waited for: after a restart of the lodge or of its server it calls within seconds.
	Patience time.Duration
	// Changed is called with a source whose servers came, went, or were dismissed; several at once are told once.
	Changed func(ctx context.Context, source string) error

	mu      sync.Mutex
	lines   map[string]*held
	passed  map[string]*passed
	changed map[string]bool // sources
}

// held is an agent's line.
type held struct {
	*line.Line
	at    string // the address that the agent reached: other processes do, too
	about line.About
	told  time.Time // when it said so
}

// New makes a Board of the process of a number.
func New(rec *records.Records, v *vault.Vault, log *slog.Logger, process int64) *Board {
	return &Board{rec: rec, vault: v, log: log, process: process, Patience: patience, lines: map[string]*held{}, passed: map[string]*passed{}, changed: map[string]bool{},
		Changed: func(context.Context, string) error { return nil }}
}

// Take holds an agent's line, on a connection that the agent made, until it ends. The connection is closed then.
func (b *Board) Take(ctx context.Context, a records.Agent, conn net.Conn) error {
	defer conn.Close()
	if _, err := line.Answer(conn, line.Oldest, line.Newest); err != nil {
		return err
	}
	l, err := line.Over(conn)
	if err != nil {
		return err
	}
	defer l.Close()
	h := &held{Line: l, at: conn.LocalAddr().String()}
	if err := b.ask(ctx, a.Name, h); err != nil {
		return err
	}
	if off := time.Since(h.about.Now); off.Abs() > mostClock {
		b.log.Warn("a server's clock is wrong", "agent", a.Name, "by", -off.Round(time.Second))
	}
	b.mu.Lock()
	older := b.lines[a.Name]
	b.lines[a.Name] = h
	b.changed[a.Source] = true
	b.mu.Unlock()
	if older != nil {
		older.Close()
	}
	b.log.Info("an agent has a line", "agent", a.Name, "program", h.about.Program)
	select {
	case <-l.Closed():
	case <-ctx.Done():
	}
	b.mu.Lock()
	mine := b.lines[a.Name] == h
	if mine {
		delete(b.lines, a.Name)
	}
	b.mu.Unlock()
	if !mine {
		return nil
	}
	b.log.Info("an agent's line ended", "agent", a.Name)
	err = b.rec.Disconnect(records.Within(context.WithoutCancel(ctx), aboutTime), a.Name, b.process)
	b.mu.Lock()
	b.changed[a.Source] = true
	b.mu.Unlock()
	return err
}

// ask asks an agent who it is, and records the answer.
func (b *Board) ask(ctx context.Context, name string, h *held) error {
	limit, end := context.WithTimeout(ctx, aboutTime)
	defer end()
	var about line.About
	if err := h.Ask(limit, line.CallAbout, nil, &about); err != nil {
		return fmt.Errorf("agent %s did not say who it is: %w", name, err)
	}
	clean(&about)
	body, err := json.Marshal(about)
	if err != nil {
		return err
	}
	b.mu.Lock()
	h.about, h.told = about, time.Now()
	b.mu.Unlock()
	return b.rec.Connect(limit, name, b.process, h.at, body)
}

// mostDisks bounds how many disks of a server are shown.
const mostDisks = 1024

// clean makes what an agent says fit to be kept and shown: a server that somebody took over says what he likes.
func clean(a *line.About) {
	for _, text := range []*string{&a.Host, &a.Program, &a.System, &a.Kernel, &a.Arch} {
		*text = plain.Text(*text, 200)
	}
	a.Disks = slices.DeleteFunc(a.Disks[:min(len(a.Disks), mostDisks)], func(d line.Disk) bool { return !image.IsTarget(d.Target) || d.Size < 0 || d.Size > image.MaxDisk })
	for i := range a.Disks {
		a.Disks[i].Left = plain.Text(a.Disks[i].Left, 200)
	}
}

// Serve looks after the lines until ctx ends.
func (b *Board) Serve(ctx context.Context) error {
	defer b.endAll()
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-look.C:
		}
		b.tell(ctx)
		b.dropPassed()
		names := b.names()
		if len(names) == 0 {
			continue
		}
		barred, err := b.rec.Barred(ctx, names)
		for _, name := range barred {
			b.end(name)
		}
		if err != nil && ctx.Err() == nil && !records.Away(err) {
			b.log.Warn("agents' lines could not be looked after", "error", err)
		}
	}
}

// tell tells of sources whose servers changed.
func (b *Board) tell(ctx context.Context) {
	b.mu.Lock()
	sources := slices.Collect(maps.Keys(b.changed))
	clear(b.changed)
	b.mu.Unlock()
	for _, name := range sources {
		if err := b.Changed(ctx, name); err != nil && ctx.Err() == nil {
			b.log.Warn("what became of servers could not be recorded; the next look does it", "source", name, "error", err)
		}
	}
}

func (b *Board) names() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Collect(maps.Keys(b.lines))
}

func (b *Board) end(name string) {
	b.mu.Lock()
	h := b.lines[name]
	b.mu.Unlock()
	if h != nil {
		b.log.Info("an agent was dismissed", "agent", name)
		h.Close()
	}
}

func (b *Board) endAll() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, h := range b.lines {
		h.Close()
	}
	for _, p := range b.passed {
		p.Close()
	}
}

// Line implements [agent.Lines].
func (b *Board) Line(ctx context.Context, name string) (*line.Line, error) {
	tick := time.NewTicker(waitEvery)
	defer tick.Stop()
	for end := time.Now().Add(b.Patience); ; {
		if l := b.has(name); l != nil {
			return l, nil
		}
		l, missing, lasts := b.elsewhere(ctx, name)
		if l != nil {
			return l, nil
		}
		if lasts || time.Now().After(end) {
			return nil, missing
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("%w: %w", missing, context.Cause(ctx))
		case <-tick.C:
		}
	}
}

// has is an agent's line, if this process has it, or can use that of another one.
func (b *Board) has(name string) *line.Line {
	b.mu.Lock()
	defer b.mu.Unlock()
	if h := b.lines[name]; h != nil {
		return h.Line
	}
	if p := b.passed[name]; p != nil && !ended(p.Line) {
		p.used = time.Now()
		return p.Line
	}
	return nil
}

// elsewhere is an agent's line that another process has; or why there is none, and whether that lasts.
func (b *Board) elsewhere(ctx context.Context, name string) (l *line.Line, why error, lasts bool) {
	a, err := b.rec.Agent(ctx, name)
	switch {
	case errors.Is(err, fault.ErrNotFound) || err == nil && a.Revoked != nil:
		return nil, source.ErrNoMachine, true
	case err != nil:
		return nil, err, true
	case a.Key == "":
		return nil, fmt.Errorf("%w: it was never joined; have it enrolled again: keenlodge machine enroll %s", source.ErrUnreachable, name), true
	case !a.Connected || a.LineBy == b.process:
		return nil, fmt.Errorf("%w: its agent does not call; is it switched off, or keenlodge agent run not running there?", source.ErrUnreachable), false
	}
	if l, err = b.passedOn(ctx, name, a.LineAt); err != nil {
		err = fmt.Errorf("%w to this process, and the one at %s that has its agent's line did not pass it on: %w", source.ErrUnreachable, a.LineAt, err)
	}
	return l, err, false
}

// Servers implements [agent.Lines].
func (b *Board) Servers(ctx context.Context, name string) ([]agent.Server, error) {
	b.refresh(ctx)
	all, err := b.rec.Agents(ctx)
	var out []agent.Server
	for _, a := range all {
		if a.Source != name || a.Revoked != nil || a.Key == "" {
			continue
		}
		s := agent.Server{Name: a.Name, UUID: a.Machine, Connected: a.Connected}
		if len(a.About) > 0 {
			if err := json.Unmarshal(a.About, &s.About); err != nil {
				return nil, fmt.Errorf("what agent %s said of itself: %w", a.Name, err)
			}
		}
		out = append(out, s)
	}
	return out, err
}

// refresh asks those agents again who they are whose word is old.
func (b *Board) refresh(ctx context.Context) {
	b.mu.Lock()
	old := map[string]*held{}
	for name, h := range b.lines {
		if time.Since(h.told) > aboutAge {
			old[name] = h
		}
	}
	b.mu.Unlock()
	var all sync.WaitGroup
	for name, h := range old {
		all.Go(func() {
			if err := b.ask(ctx, name, h); err != nil {
				b.log.Warn("an agent was asked who it is", "agent", name, "error", err)
			}
		})
	}
	all.Wait()
}
