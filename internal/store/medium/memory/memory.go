// Package memory is the medium of tests: a named shelf in this process's memory. The program does not register it.
package memory

import (
	"context"
	"sync"

	"keenlodge/internal/core/media"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// Settings say which shelf it is.
type Settings struct {
	Shelf string `yaml:"shelf,omitempty" json:"shelf,omitempty" doc:"name of a shelf"`
}

// Check implements [media.Settings].
func (s *Settings) Check() error {
	if s.Shelf == "" {
		return media.Missing("memory", "shelf")
	}
	return nil
}

// Location implements [media.Settings].
func (s *Settings) Location() string { return "memory:" + s.Shelf }

var (
	mu      sync.Mutex
	shelves = map[string]*mediumtest.Memory{}
)

// Shelf is the shelf of a name, which is made if need be.
func Shelf(name string) *mediumtest.Memory {
	mu.Lock()
	defer mu.Unlock()
	if shelves[name] == nil {
		shelves[name] = &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
	}
	return shelves[name]
}

func init() {
	medium.Register("memory", medium.Driver{
		Doc:      "this process's memory",
		Settings: func() media.Settings { return &Settings{} },
		Open: func(_ context.Context, s media.Settings, _ medium.Secrets) (medium.Medium, error) {
			return Shelf(s.(*Settings).Shelf), nil
		},
	})
}
