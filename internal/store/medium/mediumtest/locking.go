package mediumtest

import (
	"context"
	"fmt"
	"maps"
	"sync"
	"time"

	"keenlodge/internal/store/medium"
)

// Locking is a [Memory] that locks objects. It implements [medium.Locker].
type Locking struct {
	*Memory
	guard sync.Mutex
	until map[string]time.Time
	// Calls counts what was asked of it: how often each object's lock was set.
	Calls map[string]int
}

// NewLocking makes an empty one.
func NewLocking() *Locking {
	return &Locking{Memory: &Memory{Shelf: NewShelf()}, until: map[string]time.Time{}, Calls: map[string]int{}}
}

// Until tells until when each object is locked that is.
func (l *Locking) Until() map[string]time.Time {
	l.guard.Lock()
	defer l.guard.Unlock()
	return maps.Clone(l.until)
}

func (l *Locking) lock(name string, until time.Time) {
	l.guard.Lock()
	defer l.guard.Unlock()
	l.Calls[name]++
	if until.After(l.until[name]) {
		l.until[name] = until
	}
}

// PutUntil implements [medium.Locker].
func (l *Locking) PutUntil(ctx context.Context, name string, content []byte, until time.Time) error {
	if err := l.Put(ctx, name, content); err != nil {
		return err
	}
	l.lock(name, until)
	return nil
}

// Extend implements [medium.Locker].
func (l *Locking) Extend(ctx context.Context, name string, until time.Time) error {
	if _, err := l.Stat(ctx, name); err != nil {
		return err
	}
	l.lock(name, until)
	return nil
}

// Delete implements [medium.Medium].
func (l *Locking) Delete(ctx context.Context, name string) error {
	l.guard.Lock()
	until, locked := l.until[name]
	if locked && !until.After(time.Now()) {
		delete(l.until, name)
		locked = false
	}
	l.guard.Unlock()
	if locked {
		return fmt.Errorf("delete %s in memory: %w until %s", name, medium.ErrLocked, until)
	}
	return l.Memory.Delete(ctx, name)
}

// MendHidden implements [medium.Locker].
func (l *Locking) MendHidden(context.Context) ([]string, error) { return nil, nil }

// Locks implements [medium.Locker].
func (l *Locking) Locks() string { return "in memory" }
