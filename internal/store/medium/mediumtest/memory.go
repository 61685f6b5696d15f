// Package mediumtest has what the tests of media and of what stands on them share.
package mediumtest

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/store/medium"
)

// Memory is a medium in memory. Several may share one [Shelf], as processes share a disk.
type Memory struct {
	*Shelf
	// Around, if not nil, is called instead of each call, and may do it by calling act, or fail.
	Around func(call, name string, act func() error) error
	// Space, if not nil, is how much room it says it has; otherwise it can't tell.
	Space func() medium.Room
}

// Shelf is what a Memory keeps.
type Shelf struct {
	mu      sync.Mutex
	objects map[string][]byte
	written map[string]time.Time
}

// NewShelf makes an empty one.
func NewShelf() *Shelf { return &Shelf{objects: map[string][]byte{}, written: map[string]time.Time{}} }

// Names lists what is there below a prefix.
func (s *Shelf) Names(prefix string) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var names []string
	for name := range s.objects {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Peek gives an object's content.
func (s *Shelf) Peek(name string) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.objects[name])
}

// Poke replaces an object, or with nil takes it away, as damage does.
func (s *Shelf) Poke(name string, content []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if content == nil {
		delete(s.objects, name)
		return
	}
	s.objects[name], s.written[name] = slices.Clone(content), time.Now()
}

// Copy makes a shelf with the same content.
func (s *Shelf) Copy() *Shelf {
	c := NewShelf()
	for _, name := range s.Names("") {
		c.objects[name] = s.Peek(name)
	}
	return c
}

func (m *Memory) around(call, name string, act func() error) error {
	if m.Around == nil {
		return act()
	}
	return m.Around(call, name, act)
}

// Put implements [medium.Medium].
func (m *Memory) Put(_ context.Context, name string, content []byte) error {
	return m.around("put", name, func() error { m.Poke(name, append([]byte{}, content...)); return nil })
}

func (m *Memory) look(name string) ([]byte, medium.Object, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	body, ok := m.objects[name]
	if !ok {
		return nil, medium.Object{}, fmt.Errorf("%s in memory: %w", name, medium.ErrNotFound)
	}
	return body, medium.Object{Name: name, Size: int64(len(body)), Modified: m.written[name]}, nil
}

// Get implements [medium.Medium].
func (m *Memory) Get(_ context.Context, name string, offset, length int64) (out []byte, err error) {
	return out, m.around("get", name, func() error {
		body, _, err := m.look(name)
		if err != nil {
			return err
		}
		end := offset + length
		if length < 0 {
			end = int64(len(body))
		}
		if offset > int64(len(body)) || end > int64(len(body)) {
			return fmt.Errorf("%s in memory: %w", name, io.ErrUnexpectedEOF)
		}
		if err := medium.CheckWhole(end - offset); err != nil {
			return fmt.Errorf("%s in memory: %w", name, err)
		}
		out = slices.Clone(body[offset:end])
		return nil
	})
}

// List implements [medium.Medium].
func (m *Memory) List(_ context.Context, prefix string, visit func(medium.Object) error) error {
	var found []medium.Object
	err := m.around("list", prefix, func() error {
		for _, name := range m.Names(prefix) {
			if _, o, err := m.look(name); err == nil {
				found = append(found, o)
			}
		}
		return nil
	})
	for i := 0; i < len(found) && err == nil; i++ {
		err = visit(found[i])
	}
	return err
}

// Stat implements [medium.Medium].
func (m *Memory) Stat(_ context.Context, name string) (o medium.Object, err error) {
	return o, m.around("stat", name, func() error {
		_, o, err = m.look(name)
		return err
	})
}

// Delete implements [medium.Medium].
func (m *Memory) Delete(_ context.Context, name string) error {
	return m.around("delete", name, func() error { m.Poke(name, nil); return nil })
}

// Room implements [medium.Medium].
func (m *Memory) Room(context.Context) (medium.Room, error) {
	if m.Space != nil {
		return m.Space(), nil
	}
	return medium.Room{FreeBytes: -1, TotalBytes: -1, FreeInodes: -1, TotalInodes: -1}, nil
}

// Close implements [medium.Medium].
func (m *Memory) Close() error { return nil }

func (m *Memory) String() string { return "memory" }
