// Package run has the words of runs: their kinds, causes and states, and the kinds of lines in their logs, with one list of each. The
// command line's choices, the OpenAPI schema and the database's constraints are compared with these lists by tests. A word that is not
// in its list was written by another version: it is kept and shown, and never acted on.
package run

import "slices"

// Kind is what a run does.
type Kind string

const (
	// Backup carries a policy out: it makes an image of each machine that the policy covers.
	Backup Kind = "backup"
	// Rehearsal does everything that a backup does but write.
	Rehearsal Kind = "rehearsal"
	// Proof shows that an image can be trusted, or that it can't.
	Proof Kind = "proof"
	// Restore makes a machine from an image.
	Restore Kind = "restore"
	// Files puts files of an image back, Undo takes that back.
	Files Kind = "files"
	Undo  Kind = "undo"
	// Check looks for damage in a store, and mends it where asked.
	Check Kind = "check"
	// Sweep gives back the space of dropped images.
	Sweep Kind = "sweep"
	// Fold makes an image stand alone.
	Fold Kind = "fold"
	// Trial starts machines from their images for a while, to see whether they come up.
	Trial Kind = "trial"
	// Drill brings machines back as if they were lost, by trials, and measures it.
	Drill Kind = "drill"
	// Copy carries a copy rule out: it keeps images of a store in another as well.
	Copy Kind = "copy"
	// Move brings a store to another place.
	Move Kind = "move"
	// Handback has an appliance take an export back.
	Handback Kind = "handback"
	// Snapshot takes a snapshot in place by hand, removes one, or goes back to one.
	Snapshot Kind = "snapshot"
)

// Kinds lists every kind.
var Kinds = []Kind{Backup, Rehearsal, Proof, Restore, Files, Undo, Check, Sweep, Fold, Trial, Drill, Copy, Move, Snapshot, Handback}

// Limited lists the kinds whose tasks count toward the limits of tasks at once: those that move a machine's data into a store. A restore goes before
// them, and waits for nobody.
var Limited = []Kind{Backup, Rehearsal}

// Cause is what started a run.
type Cause string

const (
	// Hand is a person.
	Hand Cause = "hand"
	// Schedule is a due moment.
	Schedule Cause = "schedule"
	// Chain is the end of another policy's run.
	Chain Cause = "chain"
	// Boot is the start of a host of the lodge.
	Boot Cause = "boot"
	// Upkeep is the lodge itself.
	Upkeep Cause = "upkeep"
)

// Causes lists every cause.
var Causes = []Cause{Hand, Schedule, Chain, Boot, Upkeep}

// State is how a run or a task stands.
type State string

const (
	Queued  State = "queued"
	Running State = "running"
	// Done ended well, Warned ended with something that a person should look at.
	Done   State = "done"
	Warned State = "warned"
	Failed State = "failed"
	// Skipped had nothing to do, or was not to be done; the reason is recorded.
	Skipped State = "skipped"
	// Cancelled was ended by a person. Runs only.
	Cancelled State = "cancelled"
)

// States lists every state of a run, TaskStates every state of a task.
var (
	States     = []State{Queued, Running, Done, Warned, Failed, Skipped, Cancelled}
	TaskStates = []State{Queued, Running, Done, Warned, Failed, Skipped}
)

// UnderWay lists the states of a run or a task that has not ended.
var UnderWay = []State{Queued, Running}

// Over reports whether it is a state in which nothing changes any more.
func (s State) Over() bool { return !slices.Contains(UnderWay, s) }

// Worst is a run's state from its tasks'. Skipped ones do not count, but where there are no others; no tasks at all are [Done].
func Worst(tasks ...State) State {
	for _, s := range []State{Failed, Warned, Done, Skipped} {
		if slices.Contains(tasks, s) {
			return s
		}
	}
	return Done
}

// Line is what a line of a run's log is.
type Line string

const (
	// Note says what is done.
	Note Line = "note"
	// Warning is something that a person should look at.
	Warning Line = "warning"
	// Failure says why a task or the run failed.
	Failure Line = "failure"
	// Evidence is what a proof, or a restored machine, showed.
	Evidence Line = "evidence"
)

// Lines lists every kind of line.
var Lines = []Line{Note, Warning, Failure, Evidence}

// Skip is the error of a task or run that has nothing to do. It is no failure.
type Skip struct{ Why string }

func (s Skip) Error() string { return s.Why }
