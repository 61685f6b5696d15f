package sourcetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"net"
	"os"
	"path"
	"slices"
	"strings"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/source"
)

// Trial is a throwaway guest of a fake host. What is to be seen of it says [Host.OnTrial].
type Trial struct {
	source.Throwaway
	source.Sight
	// Looks counts how often it was looked at.
	Looks int
	// Agent says that an agent answers in it, which Commands answer as in [Guest].
	Agent    bool
	Commands map[string]int
	// WentOn counts how often it was told to go on.
	WentOn int
}

// Folder is where its disks would lie; it is made when it is first asked for.
func (h *Host) Folder() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, err := os.Stat(h.folder); err != nil {
		h.folder, _ = os.MkdirTemp("", "kl")
	}
	return h.folder
}

// Trials lists the throwaway guests that there are.
func (h *Host) Trials() (out []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for name := range h.guests {
		if strings.HasPrefix(name, source.TrialMark) {
			out = append(out, name)
		}
	}
	return out
}

// PoolFolder implements [source.Borrower].
func (c *Conn) PoolFolder(context.Context, string) (string, bool, error) {
	return c.h.Folder(), false, c.h.fault("pool folder", "")
}

// ListenAt implements [source.Borrower].
func (c *Conn) ListenAt(context.Context, string, string) (net.Listener, error) {
	return nil, errors.New("a fake host is here")
}

// Outline implements [source.Trier].
func (c *Conn) Outline(t source.Throwaway) (memory int64, agent bool) {
	return 128 << 20, !strings.Contains(t.Definition, "timetable")
}

// CanTry implements [source.Trier].
func (c *Conn) CanTry(context.Context, source.Throwaway) ([]string, error) {
	return nil, c.h.fault("can try", "")
}

// Spare implements [source.Trier].
func (c *Conn) Spare(context.Context, string) (source.Spare, error) {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	if c.h.Spare != nil {
		return *c.h.Spare, nil
	}
	return source.Spare{Memory: 8 << 30, Room: 8 << 30, Idle: 1}, nil
}

// Try implements [source.Trier].
func (c *Conn) Try(_ context.Context, t source.Throwaway) (source.Trying, error) {
	name := source.TrialMark + t.ID
	if err := c.h.fault("try", name); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	c.h.guests[name] = &Guest{State: machine.Running, trial: &Trial{Throwaway: t, Sight: source.Sight{Standing: source.Up}, Commands: map[string]int{}}}
	if t.Plug != nil {
		if _, _, err := t.Plug(); err != nil {
			return nil, err
		}
	}
	return &trying{c, name}, nil
}

// ClearTrial implements [source.Trier].
func (c *Conn) ClearTrial(_ context.Context, id, pool string) (found []string, err error) {
	name := source.TrialMark + id
	if err := c.h.fault("clear trial", name); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	if _, there := c.h.guests[name]; there {
		delete(c.h.guests, name)
		found = append(found, "ended guest "+name)
	}
	for place := range c.h.disks {
		if strings.HasPrefix(path.Base(place), name+"-") {
			delete(c.h.disks, place)
			found = append(found, "removed volume "+path.Base(place))
		}
	}
	slices.Sort(found)
	return found, nil
}

// trying is a throwaway guest under way.
type trying struct {
	c    *Conn
	name string
}

func (t *trying) Name() string      { return t.name }
func (t *trying) Adapted() []string { return []string{"its processor is made up"} }

func (t *trying) Look(context.Context) (source.Sight, error) {
	if err := t.c.h.fault("look", t.name); err != nil {
		return source.Sight{}, err
	}
	t.c.h.mu.Lock()
	defer t.c.h.mu.Unlock()
	g, ok := t.c.h.guests[t.name]
	if !ok {
		return source.Sight{Standing: source.Gone}, nil
	}
	g.trial.Looks++
	if t.c.h.OnTrial != nil {
		t.c.h.OnTrial(g.trial)
	}
	g.Agent, g.Commands = g.trial.Agent, g.trial.Commands
	return g.trial.Sight, nil
}

func (t *trying) Picture(context.Context) ([]byte, error) {
	var out bytes.Buffer
	err := png.Encode(&out, image.NewGray(image.Rect(0, 0, 8, 8)))
	return out.Bytes(), err
}

func (t *trying) GoOn(context.Context) error {
	t.c.h.mu.Lock()
	defer t.c.h.mu.Unlock()
	g, ok := t.c.h.guests[t.name]
	if !ok {
		return fmt.Errorf("guest %s: %w", t.name, source.ErrNoMachine)
	}
	g.trial.WentOn++
	return nil
}

func (t *trying) Close(context.Context) error {
	t.c.h.mu.Lock()
	defer t.c.h.mu.Unlock()
	delete(t.c.h.guests, t.name)
	return nil
}
