package site

import (
	"keenlodge/internal/core/field"
	"time"
)

// Application is something on a machine that is brought to rest before its file systems stand still, and told to go on after. Its name is that of a
// file in the machine's folder of commands, which is called with the word "before", and then with "after".
type Application struct {
	Name string `yaml:"name" json:"name" doc:"of a file in /etc/keenlodge/commands on the machine, which is called with before and after"`
	// Within is how long each call may take.
	Within string `yaml:"within,omitempty" json:"within,omitempty" doc:"how long each call may take; default 30 seconds"`
}

// Limit is how long each call may take.
func (a Application) Limit() time.Duration { return field.SpanOf(a.Within, 30*time.Second) }

type plainApplication Application

// UnmarshalYAML takes a name alone, too.
func (a *Application) UnmarshalYAML(read func(any) error) error {
	if read(&a.Name) == nil {
		return nil
	}
	return read((*plainApplication)(a))
}

// MarshalYAML writes a name alone where there is no more to say.
func (a Application) MarshalYAML() (any, error) {
	if a.Within == "" {
		return a.Name, nil
	}
	return plainApplication(a), nil
}

// What the command of an application is called with.
const (
	Before = "before"
	After  = "after"
)

// CommandFolder is where a machine keeps what may be run on it.
const CommandFolder = "/etc/keenlodge/commands"

func (v Policy) checkApplications(name, p string) error {
	here := p + ".applications"
	seen := map[string]bool{}
	for _, a := range v.Applications {
		if !field.IsName(a.Name) {
			return field.At(name, here, "%q is no command's name: it is a file in %s on the machine, such as postgresql", a.Name, CommandFolder)
		}
		if seen[a.Name] {
			return field.At(name, here, "%s is there twice", a.Name)
		}
		seen[a.Name] = true
		if d, err := field.SpanOr(a.Within, 0); err != nil || d > mostRest {
			return field.At(name, here, "within: %q is not a time up to 1 hour, such as \"30 seconds\"", a.Within)
		}
	}
	if len(v.Applications) > 0 && v.Quiesce == "off" {
		return field.At(name, here, "with quiesce off nothing stands still, so there is nothing that applications could be brought to rest for")
	}
	if len(v.Applications) > 0 && v.Covers().OfFiles() {
		return field.At(name, here, "images of files are of no one moment; have a part of the system state hold a dump: its output")
	}
	return nil
}

// mostRest bounds how long a call may take.
const mostRest = time.Hour
