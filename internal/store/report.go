package store

import (
	"slices"
)

// Problem is damage found in a store, with what it hits.
type Problem struct {
	// Object is what is damaged or missing; empty where it can't be told.
	Object string `json:"object,omitempty"`
	Image  string `json:"image,omitempty"`
	Disk   string `json:"disk,omitempty"`
	// Offset and Length are the bytes of the disk that can't be had.
	Offset int64 `json:"offset,omitempty"`
	Length int64 `json:"length,omitempty"`
	// Files are those of the image's file systems that lie there, where that could be found out.
	Files []string `json:"files,omitempty"`
	What  string   `json:"what"`
}

// Report is the outcome of a check.
type Report struct {
	Images   int       `json:"images"`
	Packs    int       `json:"packs"`
	Blocks   int       `json:"blocks"`
	Read     int64     `json:"read"` // bytes of packs that were read
	Problems []Problem `json:"problems"`
	// More is how many problems there are beyond those listed.
	More int `json:"more,omitempty"`
	// Broken are the images that can't be restored whole.
	Broken []string `json:"broken"`
	// Unknown are images that lie in the store and are not recorded.
	Unknown []string `json:"unknown,omitempty"`
	// Mended says what a repair did.
	Mended []string `json:"mended,omitempty"`
}

// maxProblems bounds a report; after so many the rest is counted only.
const maxProblems = 1000

// Add notes a problem, and the image that it breaks.
func (r *Report) Add(p Problem) {
	if p.Image != "" && !slices.Contains(r.Broken, p.Image) {
		r.Broken = append(r.Broken, p.Image)
	}
	if len(r.Problems) > 0 { // neighbours on a disk are one
		if last := &r.Problems[len(r.Problems)-1]; p.Disk != "" && last.Image == p.Image && last.Disk == p.Disk && last.Object == p.Object && last.Offset+last.Length == p.Offset {
			last.Length += p.Length
			return
		}
	}
	if len(r.Problems) >= maxProblems {
		r.More++
		return
	}
	r.Problems = append(r.Problems, p)
}

// BrokenError says which image of a chain is to blame.
type BrokenError struct {
	Image string
	Err   error
}

func (e *BrokenError) Error() string { return "image " + e.Image + ": " + e.Err.Error() }

func (e *BrokenError) Unwrap() error { return e.Err }
