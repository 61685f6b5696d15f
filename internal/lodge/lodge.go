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

	"keenlodge/internal/source/libvirt"
	"keenlodge/internal/store"

	"filippo.io/age"

	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
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
	key     *age.X25519Identity // seals what the records must not tell
	hub     hub

	mu     sync.Mutex
	stores map[string]store.Store // open ones, by place
	// promised is what tasks under way are expected to add, in bytes, by store.
	promised map[string]int64
	// cancels end the runs under way in this process, by name.
	cancels map[string]context.CancelCauseFunc
	paces   paces
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
	key, err := readKeyFile(filepath.Join(state, "lodge-key"))
	if err != nil {
		return nil, err
	}
	return &Lodge{rec: rec, log: log, state: state, program: program, owner: n.Int64() + 1, key: key,
		stores: map[string]store.Store{}, promised: map[string]int64{}, cancels: map[string]context.CancelCauseFunc{}}, nil
}

// Records gives faces what only needs to be read.
func (l *Lodge) Records() *records.Records { return l.rec }

func (l *Lodge) mounts() string { return filepath.Join(l.state, "mounts") }

// newRunID draws a run's name: eight letters and digits.
func newRunID() string { return strings.ToLower(rand.Text()[:8]) }

// notFound words that a name is not known, with the nearest that is.
func notFound(kind, name string, known []string) error {
	return fmt.Errorf("%w: no %s is called %q%s", ErrNotFound, kind, name, suggest.Hint(name, known))
}

// hypervisor connects to one of the site's hypervisors.
func (l *Lodge) hypervisor(ctx context.Context, s site.Site, name string) (source.Hypervisor, error) {
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
