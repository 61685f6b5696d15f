package store

import (
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
)

// Summary is a store's description of itself. Lengths are in bytes.
type Summary struct {
	Header Header `json:"header"`
	Images int    `json:"images"`
	// MinPiece, MeanPiece and MaxPiece are by which lengths a pooled store cuts.
	MinPiece  int `json:"min_piece,omitempty"`
	MeanPiece int `json:"mean_piece,omitempty"`
	MaxPiece  int `json:"max_piece,omitempty"`
	// Unreadable are images whose manifest is damaged.
	Unreadable int `json:"unreadable"`
	Machines   int `json:"machines"`
	// Disks is the length of all disks of all images. Zeros, Dedup and Compression are what was saved of it, step by step,
	// and Blocks is what remains: Disks = Zeros + Dedup + Compression + Blocks.
	Disks       int64 `json:"disks"`
	Zeros       int64 `json:"zeros"`
	Dedup       int64 `json:"dedup"`
	Compression int64 `json:"compression"`
	Blocks      int64 `json:"blocks"`
	// Unneeded is how much of Blocks no image needs; a sweep gives it back.
	Unneeded int64 `json:"unneeded"`
	// Taken is what all objects take on the medium, Objects and Packs are how many there are, MeanPack is a pack's length.
	Taken     int64       `json:"taken"`
	Objects   int         `json:"objects"`
	Packs     int         `json:"packs"`
	MeanPack  int64       `json:"mean_pack"`
	Condemned int         `json:"condemned"` // packs that will go
	Visits    int         `json:"visits"`    // runs, proofs and restores that are under way here
	Oldest    *time.Time  `json:"oldest"`
	Newest    *time.Time  `json:"newest"`
	Days      []DayGrowth `json:"days"` // oldest first
	Room      medium.Room `json:"room"`
	// Locked is how long what comes in is locked, as the site says it; Locks says by what its place locks, "" where it can't.
	Locked string `json:"locked,omitempty"`
	Locks  string `json:"locks,omitempty"`

	machines map[string]bool
}

// DayGrowth is what a day's images, as far as they still exist, added.
type DayGrowth struct {
	Day    string `json:"day"` // 2006-01-02, in the zone asked for
	Images int    `json:"images"`
	Stored int64  `json:"stored"`
}

// Add counts an image. Days are told in zone, and kept in order.
func (out *Summary) Add(m *image.Manifest, zone *time.Location) {
	out.Images++
	out.Disks += m.Sizes.Disks
	if out.machines == nil {
		out.machines = map[string]bool{}
	}
	out.machines[m.Machine] = true
	out.Machines = len(out.machines)
	taken := m.Taken
	if out.Oldest == nil || taken.Before(*out.Oldest) {
		out.Oldest = &taken
	}
	if out.Newest == nil || taken.After(*out.Newest) {
		out.Newest = &taken
	}
	day := taken.In(zone).Format(time.DateOnly)
	i, found := slices.BinarySearchFunc(out.Days, day, func(d DayGrowth, day string) int { return strings.Compare(d.Day, day) })
	if !found {
		out.Days = slices.Insert(out.Days, i, DayGrowth{Day: day})
	}
	out.Days[i].Images++
	out.Days[i].Stored += m.Sizes.Stored
}
