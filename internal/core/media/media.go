// Package media knows what each medium needs to know of a store's place: its settings, which stand in the site file beside what all stores have. The
// packages of media register theirs.
package media

import (
	"fmt"
	"maps"
	"slices"

	"keenlodge/internal/core/suggest"
)

// Settings are what a medium needs to know of a store's place: a pointer to a struct whose fields have yaml, json and doc tags. In the
// site file they stand beside what all stores have in common.
type Settings interface {
	// Check finds what is wrong in them by themselves; a [SettingError] names the field.
	Check() error
	// Location is what tells one store's location from another's, in words.
	Location() string
}

// Remote is what settings of a medium implement that is signed in to: who signs in where.
type Remote interface {
	// Account tells one account on one host from others, in words. What signs in to one must go to no other.
	Account() string
}

// Removable is what settings implement of a medium whose places may lie on disks that come and go.
type Removable interface {
	Settings
	// OnRemovable reports whether this one does, LocalFolder is where it lay when its disk was plugged in first.
	OnRemovable() bool
	LocalFolder() string
	// At are the same settings for the folder in which it lies now.
	At(folder string) Settings
}

// IsRemovable reports whether a place lies on a disk that comes and goes.
func IsRemovable(s Settings) bool {
	r, ok := s.(Removable)
	return ok && r.OnRemovable()
}

// SettingError is a mistake in a setting. Field is its name in the site file.
type SettingError struct{ Field, Why string }

func (e *SettingError) Error() string { return e.Why }

// BadSetting is the error for a setting that can't be.
func BadSetting(field, format string, args ...any) error {
	return &SettingError{field, fmt.Sprintf(format, args...)}
}

// Missing is the error for a setting that a medium can't do without.
func Missing(medium, field string) error {
	return &SettingError{"", fmt.Sprintf("medium %s needs %s", medium, field)}
}

// known has how the settings of each known medium begin. Their packages register them.
var known = map[string]func() Settings{}

// Register makes a medium known to site files. empty makes its settings, with nothing set.
func Register(name string, empty func() Settings) { known[name] = empty }

// Known lists every known medium.
func Known() []string { return slices.Sorted(maps.Keys(known)) }

// Empty makes the settings of a medium, with nothing set.
func Empty(medium string) (Settings, error) {
	empty, ok := known[medium]
	if !ok {
		return nil, fmt.Errorf("medium %q is not known%s; known are %s", medium, suggest.Hint(medium, Known()), suggest.List(Known()))
	}
	return empty(), nil
}
