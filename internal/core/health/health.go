// Package health has the conditions that must hold in a guest before it is captured.
package health

import (
	"path"
	"time"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/suggest"
)

// Condition is one of them: a command that ends well, or file systems that are mounted and have room.
type Condition struct {
	Command []string `yaml:"command,omitempty" json:"command,omitempty" doc:"command in the guest, run by its agent; it must end with 0"`
	Within  string   `yaml:"within,omitempty" json:"within,omitempty" doc:"how long the command may take; default 30 seconds"`
	Mounted string   `yaml:"mounted,omitempty" json:"mounted,omitempty" doc:"mount point on which a file system must be mounted"`
	Free    int      `yaml:"free,omitempty" json:"free,omitempty" minimum:"0" maximum:"99" doc:"percent that must be free in it, or in all that are mounted"`
	Else    string   `yaml:"else,omitempty" json:"else,omitempty" enum:"stop,warn" doc:"what a failure does; default stop"`
}

// Stops reports whether a failed condition keeps the machine from being captured.
func (c Condition) Stops() bool { return c.Else != "warn" }

// Limit is how long the command may take.
func (c Condition) Limit() time.Duration { return field.SpanOf(c.Within, 30*time.Second) }

// Check refuses what makes no sense; name and here say whose it is, and where it stands.
func (c Condition) Check(name, here string) error {
	if (len(c.Command) > 0) == (c.Mounted != "" || c.Free > 0) {
		return field.At(name, here, "a check is either a command, or mounted, free or both")
	}
	if c.Else != "" && c.Else != "stop" && c.Else != "warn" {
		return field.At(name, here, "else %q is not known%s", c.Else, suggest.Hint(c.Else, []string{"stop", "warn"}))
	}
	if _, err := field.SpanOr(c.Within, 0); err != nil {
		return field.At(name, here, "within: %v", err)
	}
	if c.Free < 0 || c.Free > 99 || c.Mounted != "" && !path.IsAbs(c.Mounted) {
		return field.At(name, here, "free is a number of percent, and mounted an absolute path")
	}
	return nil
}
