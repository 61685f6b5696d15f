// Package lodge has the use cases, one file a verb: find, backup, rotate, prove, restore, check, apply; and the loops that
// keep a lodge going: scheduler, keeper, worker. Any number of processes may run them on one database.
package lodge

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/near"
	"keenlodge/internal/core/site"
	"keenlodge/internal/hypervisor"
	"keenlodge/internal/hypervisor/libvirt"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
)

// Version is the program's, as records and manifests name it.
const Version = "keenlodge 0.1"

// Errors that faces decide on. Their texts say what was meant.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("conflict")
	ErrInvalid  = errors.New("invalid")
)

// Lodge is a process's part of a lodge.
type Lodge struct {
	rec *records.Records
	log *slog.Logger
	// state is a folder for what belongs to this host: mounts, the first token.
	state string
	// program is the path of the keenlodge program, which a freeze's watchdog runs.
	program string
	owner   int64
	hub     hub

	mu     sync.Mutex
	stores map[string]*store.Store // open ones, by folder
}

// New readies a process's part; Serve starts it.
func New(rec *records.Records, state string, log *slog.Logger) (*Lodge, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	n, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		return nil, err
	}
	return &Lodge{rec: rec, log: log, state: state, program: program, owner: n.Int64() + 1, stores: map[string]*store.Store{}}, nil
}

// Records gives faces what only needs to be read.
func (l *Lodge) Records() *records.Records { return l.rec }

func (l *Lodge) mounts() string { return filepath.Join(l.state, "mounts") }

// newRunID draws a run's name: eight letters and digits.
func newRunID() string { return strings.ToLower(rand.Text()[:8]) }

// notFound words that a name is not known, with the nearest that is.
func notFound(kind, name string, known []string) error {
	return fmt.Errorf("%w: no %s is called %q%s", ErrNotFound, kind, name, near.Hint(name, known))
}

// hypervisor connects to one of the site's hypervisors.
func (l *Lodge) hypervisor(ctx context.Context, s site.Site, name string) (hypervisor.Hypervisor, error) {
	spec, ok := s.Hypervisors[name]
	if !ok {
		return nil, notFound("hypervisor", name, keys(s.Hypervisors))
	}
	h, err := libvirt.Dial(ctx, spec.URI)
	if err != nil {
		return nil, fmt.Errorf("hypervisor %s: %w", name, err)
	}
	return h, nil
}

func keys[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// store opens one of the site's stores, or brings it up to date if it is open.
func (l *Lodge) store(ctx context.Context, s site.Site, name string) (*store.Store, error) {
	spec, ok := s.Stores[name]
	if !ok {
		return nil, notFound("store", name, keys(s.Stores))
	}
	id, err := l.rec.StoreID(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	opened, err := l.openStore(ctx, spec, id, false)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	return opened, nil
}

// openStore opens the store in a folder. id is the one that it must have, or "" for any; mayMake allows an empty folder to
// become a store.
func (l *Lodge) openStore(ctx context.Context, spec site.Store, id string, mayMake bool) (*store.Store, error) {
	m, err := dir.Open(spec.Folder)
	if err != nil {
		l.forgetStore(spec.Folder)
		return nil, err
	}
	l.mu.Lock()
	s := l.stores[spec.Folder]
	l.mu.Unlock()
	if s != nil && s.Header().ID == id {
		if ok, err := s.Present(ctx); err != nil || ok {
			return s, errors.Join(err, s.Refresh(ctx))
		}
		l.forgetStore(spec.Folder)
	}
	m.RemoveParts()
	s, err = store.Open(ctx, m)
	if errors.Is(err, store.ErrNoStore) && mayMake && id == "" {
		empty, looked := m.Empty()
		if looked != nil {
			return nil, looked
		}
		if !empty {
			return nil, fmt.Errorf("%s is not empty and holds no store; name an empty folder", m)
		}
		s, err = store.Make(ctx, m, time.Now())
	} else if errors.Is(err, store.ErrNoStore) && id != "" {
		err = fmt.Errorf("%w; it did before: is its disk mounted?", err)
	}
	if err != nil {
		return nil, err
	}
	if id != "" && s.Header().ID != id {
		return nil, fmt.Errorf("%s holds another store (%s) than before (%s); is the right disk mounted?", m, s.Header().ID, id)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.stores[spec.Folder] = s
	return s, nil
}

func (l *Lodge) forgetStore(folder string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.stores, folder)
}
