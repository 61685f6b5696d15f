// Package probe has the words in which trying a place or a host is told, step by step.
package probe

import "fmt"

// Verdict is how a step went.
type Verdict string

// What has a step with a warning can be used; what has one that failed can't, as it is.
const (
	OK      Verdict = "ok"
	Warning Verdict = "warning"
	Failed  Verdict = "failed"
)

// Verdicts lists every verdict.
var Verdicts = []Verdict{OK, Warning, Failed}

// Step is one step.
type Step struct {
	Name  string  `json:"name"`
	State Verdict `json:"state"`
	Text  string  `json:"text"`
}

// Steps are the steps of a trial so far.
type Steps []Step

// Tell adds a step.
func (s *Steps) Tell(name string, state Verdict, format string, args ...any) {
	*s = append(*s, Step{name, state, fmt.Sprintf(format, args...)})
}

// Worst is the worst verdict, [OK] where there is no step.
func Worst(steps []Step) Verdict {
	worst := OK
	for _, s := range steps {
		if s.State == Failed || worst == OK && s.State == Warning {
			worst = s.State
		}
	}
	return worst
}
