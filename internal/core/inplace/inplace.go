// Package inplace has what is computed about snapshots in place: their states, how they rotate, and which of them a person has to hear of.
package inplace

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
)

// State is how a snapshot stands.
type State string

const (
	// Making may be there or not: it is recorded before it is asked for.
	Making State = "making"
	// Kept is there.
	Kept State = "kept"
	// Leaving is to be removed, and may be there still.
	Leaving State = "leaving"
	// Gone is removed, or was found to be.
	Gone State = "gone"
)

// States lists every state.
var States = []State{Making, Kept, Leaving, Gone}

const (
	// LeavingLong is for how long a snapshot is tried to be removed before a person hears of it.
	LeavingLong = 24 * time.Hour
	// ByHand is for how long a snapshot that was taken by hand is kept before a person is asked, where nobody said for how long.
	ByHand = 7 * 24 * time.Hour
	// BeforeRestore is for how long one is kept that was taken before files went back onto a machine.
	BeforeRestore = 2 * 24 * time.Hour
	// MostPassing is how many of a machine are kept that go by themselves.
	MostPassing = 3
	// UnusedLong is for how long something that a restore made may be used by nothing before a person hears of it.
	UnusedLong = 24 * time.Hour
	// overdue is how much longer than its policy's runs are apart a snapshot may be there that its rotation lets go.
	overdue = 24 * time.Hour
)

// Snapshot is what is known of one. Bytes is what it takes or what was written since, -1 where that is not known. Until is when a person is asked
// about one that was taken by hand, or when one goes by itself that is Passing; Troubled since when it can't be removed.
type Snapshot struct {
	ID       string
	Policy   string
	Taken    time.Time
	State    State
	Pinned   bool
	Bytes    int64
	Until    time.Time
	Passing  bool
	Trouble  string
	Troubled time.Time
}

// Rotated is a snapshot as rotation looks at it: each stands alone, and takes what it takes.
func (s Snapshot) Rotated() rotation.Image {
	state := image.Usable
	if s.State == Making {
		state = image.Writing
	}
	return rotation.Image{ID: s.ID, Taken: s.Taken, Capture: image.Full, State: state, Pinned: s.Pinned, Bytes: max(s.Bytes, 0)}
}

// Over reports whether a snapshot has to go by itself: it was to be kept for a while only.
func (s Snapshot) Over(now time.Time) bool {
	return s.Passing && s.State == Kept && !s.Pinned && now.After(s.Until)
}

// Headline is what a person has to hear of a snapshot at a moment, "" for nothing. known says that its policy is one of the site still, lets that its
// rotation lets it go.
func (s Snapshot) Headline(now time.Time, known, lets bool) string {
	about := fmt.Sprintf("its snapshot %s of %s%s", s.ID, s.Taken.In(now.Location()).Format("Mon 2 Jan 15:04"), s.size())
	switch {
	case s.State == Leaving && !s.Troubled.IsZero() && now.Sub(s.Troubled) >= LeavingLong:
		return fmt.Sprintf("%s can't be removed since %s, and grows: %s", about, s.Troubled.In(now.Location()).Format("Mon 2 Jan 15:04"), s.Trouble)
	case s.State != Kept || s.Pinned || s.Passing:
		return ""
	case s.Policy == "" && !s.Until.IsZero() && now.After(s.Until):
		return fmt.Sprintf("%s was taken by hand and is past its time: go back to it, pin it, or let it go: keenlodge snapshot drop %s", about, s.ID)
	case s.Policy != "" && !known:
		return fmt.Sprintf("%s is of policy %s, which is no more, so nothing rotates it: keenlodge snapshot drop %s", about, s.Policy, s.ID)
	case s.Policy != "" && lets && now.Sub(s.Taken) > overdue:
		return fmt.Sprintf("%s is older than policy %s allows; the policy has not run since, or its rotation is held back", about, s.Policy)
	}
	return ""
}

// size says how large it is, where that is known.
func (s Snapshot) size() string {
	if s.Bytes < 0 {
		return ""
	}
	return " (" + humanize.IBytes(uint64(s.Bytes)) + ")"
}
