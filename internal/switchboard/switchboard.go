// Package switchboard holds the lines on which servers' agents call: which agent has one, and through it what the agent is asked. An agent that
// is dismissed loses its line at once, and one that calls again takes the place of its older line.
package switchboard

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"keenlodge/internal/line"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/source/agent"
)

const (
	// lookEvery is how often it is looked for agents that were dismissed.
	lookEvery = 500 * time.Millisecond
	// keepEvery is how often it is recorded that agents have their lines still: well within the time after which nobody is taken to have one.
	keepEvery = 30 * time.Second
	// aboutTime is how long an agent may take to say who it is, aboutAge how old that may be when somebody asks for machines.
	aboutTime, aboutAge = 20 * time.Second, 5 * time.Minute
	// mostClock is how wrong a server's clock may be before it is told.
	mostClock = 2 * time.Minute
)

// Board holds the lines of this process. It implements [agent.Lines].
type Board struct {
	rec *records.Records
	log *slog.Logger
	// process is what the records call this one.
	process string

	mu    sync.Mutex
	lines map[string]*held
}

// held is an agent's line.
type held struct {
	*line.Line
	about line.About
	told  time.Time // when it said so
}

// New makes a Board.
func New(rec *records.Records, log *slog.Logger) *Board {
	return &Board{rec: rec, log: log, process: uuid.NewString(), lines: map[string]*held{}}
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
	h := &held{Line: l}
	if err := b.ask(ctx, a.Name, h); err != nil {
		return err
	}
	if off := time.Since(h.about.Now); off.Abs() > mostClock {
		b.log.Warn("a server's clock is wrong", "agent", a.Name, "by", -off.Round(time.Second))
	}
	b.mu.Lock()
	older := b.lines[a.Name]
	b.lines[a.Name] = h
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
	return b.rec.Disconnect(records.Within(context.WithoutCancel(ctx), aboutTime), a.Name, b.process)
}

// ask asks an agent who it is, and records the answer.
func (b *Board) ask(ctx context.Context, name string, h *held) error {
	limit, end := context.WithTimeout(ctx, aboutTime)
	defer end()
	var about line.About
	if err := h.Ask(limit, line.CallAbout, nil, &about); err != nil {
		return fmt.Errorf("agent %s did not say who it is: %w", name, err)
	}
	body, err := json.Marshal(about)
	if err != nil {
		return err
	}
	b.mu.Lock()
	h.about, h.told = about, time.Now()
	b.mu.Unlock()
	return b.rec.Connect(limit, name, b.process, body)
}

// Serve looks after the lines until ctx ends.
func (b *Board) Serve(ctx context.Context) error {
	defer b.endAll()
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	kept := time.Now()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-look.C:
		}
		names := b.names()
		if len(names) == 0 {
			continue
		}
		barred, err := b.rec.Barred(ctx, names)
		for _, name := range barred {
			b.end(name)
		}
		if err == nil && time.Since(kept) > keepEvery {
			kept = time.Now()
			err = b.rec.KeepLines(ctx, b.process, names)
		}
		if err != nil && ctx.Err() == nil && !records.Away(err) {
			b.log.Warn("agents' lines could not be looked after", "error", err)
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
}

// Line implements [agent.Lines].
func (b *Board) Line(ctx context.Context, name string) (*line.Line, error) {
	b.mu.Lock()
	h := b.lines[name]
	b.mu.Unlock()
	if h != nil {
		return h.Line, nil
	}
	all, err := b.rec.Agents(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(a records.Agent) bool { return a.Name == name && a.Revoked == nil })
	switch {
	case i < 0:
		return nil, source.ErrNoMachine
	case all[i].Connected:
		return nil, fmt.Errorf("%w to this process: another one of the lodge has its agent's line", source.ErrUnreachable)
	case all[i].Key == "":
		return nil, fmt.Errorf("%w: it was never joined; have it enrolled again: keenlodge machine enroll %s", source.ErrUnreachable, name)
	}
	return nil, fmt.Errorf("%w: its agent does not call; is it switched off, or keenlodge agent run not running there?", source.ErrUnreachable)
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
