package medium

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"keenlodge/internal/core/media"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
)

// Driver is how a kind of medium is described and opened. A medium's package registers one.
type Driver struct {
	// Doc says in a few words what it is.
	Doc string
	// Settings makes its settings, with nothing set.
	Settings func() media.Settings
	// Far says that its places are reached over a line, so that it pays to keep on this host what is read again and again.
	Far bool
	// Secrets are what it may need to sign in. They are never part of the settings.
	Secrets []Secret
	// Open reaches a place; settings are of the type that Settings makes.
	Open func(ctx context.Context, settings media.Settings, secrets Secrets) (Medium, error)
}

// Secret is one that a medium may need.
type Secret struct {
	// Name is its key in [Secrets], Doc what it is.
	Name, Doc string
	// Public says that it is a name rather than a secret: it may stand in arguments.
	Public bool
	// File says that it is read from a file, for it has several lines.
	File bool
	// Instead names a secret in place of which it is given.
	Instead string
}

// Secrets are what signs in to a place, by their names.
type Secrets map[string]string

var drivers = map[string]Driver{}

// Register makes a kind of medium known, to site files too.
func Register(name string, d Driver) {
	drivers[name] = d
	media.Register(name, d.Settings)
}

// Drivers lists the names of the media that this program knows.
func Drivers() []string { return slices.Sorted(maps.Keys(drivers)) }

// Lookup finds a driver.
func Lookup(name string) (Driver, error) {
	d, ok := drivers[name]
	if !ok {
		return d, fmt.Errorf("medium %q is not known to this program%s", name, suggest.Hint(name, Drivers()))
	}
	return d, nil
}

// SecretNames lists the names of the secrets of all media.
func SecretNames() (names []string) {
	for _, d := range drivers {
		for _, s := range d.Secrets {
			names = append(names, s.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Open reaches the place of a store's entry.
func Open(ctx context.Context, spec site.Store, secrets Secrets) (Medium, error) {
	d, err := Lookup(spec.Medium)
	if err != nil {
		return nil, err
	}
	return d.Open(ctx, spec.Settings, secrets)
}
