// Package event has the names of what can happen in a lodge outside of a policy's own hooks, with one list of them. Whatever happens is
// recorded together with what it changes (records.Happened), so that it is told of exactly when it is so; who wants to hear of it names
// it in the site (webhooks). One more event is one more name here, and one call where it happens.
package event

import (
	"fmt"
	"strings"

	"keenlodge/internal/core/run"
)

// Name is what happened.
type Name string

const (
	// RunDone, RunWarned and RunFailed are the ends of a run of any kind; one that was skipped or cancelled is told of to nobody.
	RunDone   Name = "run-done"
	RunWarned Name = "run-warned"
	RunFailed Name = "run-failed"
	// ImageDoubtful is an image in which a check or a proof found damage for the first time; ImageBroken one in which a second one, at another
	// time, found it again.
	ImageDoubtful Name = "image-doubtful"
	ImageBroken   Name = "image-broken"
	// ImageUnusual is an image in which something is out of the ordinary that may mean that data is lost.
	ImageUnusual Name = "image-unusual"
	// RotationHeld is a rotation that the guard holds back until a person confirms it.
	RotationHeld Name = "rotation-held"
	// FloorMissed is a store that rotation can't bring up to its floor.
	FloorMissed Name = "floor-missed"
	// LockTried are objects of a locked store that somebody deleted or overwrote as far as its place let him.
	LockTried Name = "lock-tried"
	// MachinesFound are machines that a source has and the lodge did not know.
	MachinesFound Name = "machines-found"
	// WrongTokens are many wrong tokens from one address.
	WrongTokens Name = "wrong-tokens"
)

// Names lists every name.
var Names = []Name{RunDone, RunWarned, RunFailed, ImageDoubtful, ImageBroken, ImageUnusual, RotationHeld, FloorMissed, LockTried, MachinesFound, WrongTokens}

// Event is what happened, to what. What does not apply is empty.
type Event struct {
	Name    Name   `json:"name"`
	Run     string `json:"run,omitempty"`
	Policy  string `json:"policy,omitempty"`
	Machine string `json:"machine,omitempty"`
	Image   string `json:"image,omitempty"`
	Store   string `json:"store,omitempty"`
	Source  string `json:"source,omitempty"`
	// Text says it in a sentence, for people.
	Text string `json:"text"`
}

// Subject is the narrowest of the things that it is about.
func (e Event) Subject() string {
	for _, s := range []string{e.Image, e.Machine, e.Store, e.Source, e.Policy, e.Run} {
		if s != "" {
			return s
		}
	}
	return ""
}

var ends = map[run.State]Name{run.Done: RunDone, run.Warned: RunWarned, run.Failed: RunFailed}

// Ended is the end of a run; ok is false for one that is told of to nobody.
func Ended(kind run.Kind, id, policy string, state run.State, why string) (e Event, ok bool) {
	name, ok := ends[state]
	text := fmt.Sprintf("%s %s", kind, id)
	switch {
	case kind == run.Copy:
		text += " of copy rule " + policy
	case policy != "":
		text += " of policy " + policy
	}
	text += " ended: " + string(state)
	if why != "" {
		text += ": " + why
	}
	return Event{Name: name, Run: id, Policy: policy, Text: text}, ok
}

// Unusual is an image in which something is out of the ordinary.
func Unusual(image, machine, policy, store, text string) Event {
	return Event{Name: ImageUnusual, Policy: policy, Machine: machine, Image: image, Store: store, Text: fmt.Sprintf("image %s of %s is unusual: %s", image, machine, text)}
}

// Doubtful is an image in which damage was found.
func Doubtful(image, machine, policy, store string) Event {
	return Event{Name: ImageDoubtful, Policy: policy, Machine: machine, Image: image, Store: store,
		Text: fmt.Sprintf("image %s of %s in store %s is doubtful: damage was found in it; it is read a second time, an hour later at the earliest, and stays until then", image, machine, store)}
}

// Broken is an image that can't be restored.
func Broken(image, machine, policy, store string) Event {
	return Event{Name: ImageBroken, Policy: policy, Machine: machine, Image: image, Store: store,
		Text: fmt.Sprintf("image %s of %s in store %s is broken: it can't be restored whole", image, machine, store)}
}

// Guessed are wrong tokens that an address showed since a moment.
func Guessed(address string, count int, since string) Event {
	return Event{Name: WrongTokens, Text: fmt.Sprintf("%d wrong tokens were shown from %s since %s", count, address, since)}
}

// mostNamed is how many new machines an event names.
const mostNamed = 20

// Found are machines of a source that were not known.
func Found(source string, machines []string) Event {
	text := fmt.Sprintf("new on %s: %s", source, strings.Join(machines[:min(mostNamed, len(machines))], ", "))
	if more := len(machines) - mostNamed; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	e := Event{Name: MachinesFound, Source: source, Text: text}
	if len(machines) == 1 {
		e.Machine = machines[0]
	}
	return e
}
