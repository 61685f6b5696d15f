// Package drill judges what it took to bring machines back, as if they had all been lost at one moment, against what is owed to them. It does no I/O and
// knows no clock.
package drill

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/trial"
	"keenlodge/internal/core/when"
)

// Way is how machines are brought back.
type Way string

const (
	// AtOnce starts them on disks that stay in the store.
	AtOnce Way = "at once"
	// Restored writes their disks out whole before they start.
	Restored Way = "restored"
)

// Standing is what became of a machine.
type Standing string

const (
	// Back is back: all that is expected of it holds, in time and with data as fresh as owed, where something is owed.
	Back Standing = "back"
	// Late took longer than is owed, Old is back with data that is older.
	Late Standing = "late"
	Old  Standing = "old data"
	// Missing did not come back, Impossible has nothing to come back from. Pending is not over.
	Missing    Standing = "not back"
	Impossible Standing = "impossible"
	Pending    Standing = "pending"
)

// Standings lists every standing, from the best to the worst.
var Standings = []Standing{Back, Pending, Old, Late, Impossible, Missing}

// Sign is a standing in one character.
func (s Standing) Sign() string {
	return map[Standing]string{Back: "✓", Pending: "…", Old: "!", Late: "!", Impossible: "–", Missing: "✗"}[s]
}

// Allowance is what is owed to a machine; 0 is nothing.
type Allowance struct {
	// Back is how long it may take until it is back, Age how old its data may be then. In nanoseconds.
	Back time.Duration `json:"back"`
	Age  time.Duration `json:"age"`
}

// Comeback is what became of a machine. Durations are in nanoseconds and, where nothing else is said, counted from when the drill began.
type Comeback struct {
	Machine   string `json:"machine"`
	MachineID string `json:"machineId"`
	// Party counts what is brought back together, in one closed network; Group is its name, where the site has one for it.
	Party int    `json:"party"`
	Group string `json:"group,omitempty"`
	Image string `json:"image,omitempty"`
	Store string `json:"store,omitempty"`
	// Taken is when its image was.
	Taken *time.Time `json:"taken,omitempty"`
	// Trial is the run that started it.
	Trial    string      `json:"trial,omitempty"`
	Standing Standing    `json:"standing"`
	Why      string      `json:"why,omitempty"`
	Cause    trial.Cause `json:"cause,omitempty"`
	// Begun is when it was switched on, WrittenOut how long its disks took before that, Answered when it was up, Held when all that is expected of it held:
	// its recovery time.
	Begun      time.Duration `json:"begun"`
	WrittenOut time.Duration `json:"writtenOut"`
	Answered   time.Duration `json:"answered"`
	Held       time.Duration `json:"held"`
	// Age is how old the data is that it came back with, when the drill began: what would have been lost, its recovery point.
	Age  time.Duration `json:"age"`
	Owed Allowance     `json:"owed"`
	// Host is the hypervisor on which it ran; Steps are what was looked for.
	Host     string          `json:"host,omitempty"`
	Steps    []trial.Finding `json:"steps,omitempty"`
	Pictures []trial.Exhibit `json:"pictures,omitempty"`
}

// Result is a drill's.
type Result struct {
	Run  string `json:"run"`
	Who  string `json:"who,omitempty"`
	Note string `json:"note,omitempty"`
	Way  Way    `json:"way"`
	// Whole says that it was of the whole site.
	Whole   bool      `json:"whole"`
	Program string    `json:"program"`
	Began   time.Time `json:"began"`
	// Ended is nil while it goes, and where it was ended in the middle.
	Ended    *time.Time `json:"ended,omitempty"`
	Machines []Comeback `json:"machines"`
}

// Of names the groups and machines that it is of.
func (r Result) Of() string {
	if r.Whole {
		return "the whole site"
	}
	var names []string
	for _, m := range r.Machines {
		if name := cmp.Or(m.Group, m.Machine); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names, ", ")
}

// Listed is a drill in a list: without its machines, but with what they came to.
type Listed struct {
	Result
	Of  string
	Sum Sum
}

// Seen is what a trial showed of a machine, nil Report for one that came to nothing.
type Seen struct {
	Passed bool
	Why    string
	Report *trial.Report
}

// Judge notes what was seen of a machine in a drill that began at a moment.
func (m *Comeback) Judge(began time.Time, s Seen) {
	if m.Taken != nil {
		m.Age = max(0, began.Sub(*m.Taken))
	}
	if r := s.Report; r != nil {
		m.Host, m.Steps, m.Cause, m.WrittenOut = r.Host, r.Steps, r.Cause, r.WrittenOut
		if r.Lag != nil {
			m.Age += *r.Lag
		}
		m.Begun = max(0, r.Begun.Sub(began))
		if r.Up > 0 {
			m.Answered = m.Begun + r.Up
			m.Held = m.Answered
		}
		for _, f := range r.Steps {
			if f.Passed {
				m.Held = max(m.Held, m.Begun+f.After)
			}
		}
		m.Pictures = pictures(r.Exhibits)
	}
	if !s.Passed {
		m.Standing, m.Why, m.Held = Missing, s.Why, 0
		return
	}
	m.Standing = Back
	var whys []string
	if m.Owed.Age > 0 && m.Age > m.Owed.Age {
		m.Standing = Old
		whys = append(whys, fmt.Sprintf("its data was %s old, %s older than is owed", when.Short(m.Age), when.Short(m.Age-m.Owed.Age)))
	}
	if m.Owed.Back > 0 && m.Held > m.Owed.Back {
		m.Standing = Late
		whys = append(whys, fmt.Sprintf("it took %s, %s longer than is owed", when.Short(m.Held), when.Short(m.Held-m.Owed.Back)))
	}
	m.Why = strings.Join(whys, "; ")
}

// mostPictures is how many pictures are kept of a machine: the newest.
const mostPictures = 2

func pictures(all []trial.Exhibit) (out []trial.Exhibit) {
	for _, e := range slices.Backward(all) {
		if e.Kind == "image/png" && len(out) < mostPictures {
			out = append([]trial.Exhibit{e}, out...)
		}
	}
	return out
}

// Sum is a drill in figures.
type Sum struct {
	Machines int              `json:"machines"`
	By       map[Standing]int `json:"by"`
	// Longest is the longest recovery time, Oldest the oldest data, of the machines that came back.
	Longest time.Duration `json:"longest"`
	Oldest  time.Duration `json:"oldest"`
	// Standing is the worst of all.
	Standing Standing `json:"standing"`
}

// Sum counts.
func (r Result) Sum() Sum {
	s := Sum{Machines: len(r.Machines), By: map[Standing]int{}, Standing: Back}
	for _, m := range r.Machines {
		s.By[m.Standing]++
		if slices.Index(Standings, m.Standing) > slices.Index(Standings, s.Standing) {
			s.Standing = m.Standing
		}
		if m.Held > 0 {
			s.Longest, s.Oldest = max(s.Longest, m.Held), max(s.Oldest, m.Age)
		}
	}
	return s
}

// String is it in one line.
func (s Sum) String() string {
	var parts []string
	for _, st := range Standings {
		if n := s.By[st]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, st))
		}
	}
	text := strings.Join(parts, ", ")
	if s.Longest > 0 {
		text += fmt.Sprintf("; the last of them was back after %s, with data up to %s old", when.Short(s.Longest), when.Short(s.Oldest))
	}
	return text
}
