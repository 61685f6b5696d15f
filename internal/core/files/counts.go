package files

import (
	"encoding/hex"

	"github.com/zeebo/blake3"
)

// Counts sums entries up.
type Counts struct {
	Entries, Bytes, Unread, Changed int64
	Parts                           map[string]PartCounts
}

// PartCounts sums the entries of a part up.
type PartCounts struct{ Entries, Bytes int64 }

// Add counts an entry.
func (c *Counts) Add(e *Entry) {
	n := e.Stored()
	c.Entries++
	c.Bytes += n
	if e.Unread != "" {
		c.Unread++
	}
	if e.Changed {
		c.Changed++
	}
	if e.Part != "" {
		if c.Parts == nil {
			c.Parts = map[string]PartCounts{}
		}
		p := c.Parts[e.Part]
		c.Parts[e.Part] = PartCounts{p.Entries + 1, p.Bytes + n}
	}
}

// PathSum sums the paths of a list up in their order, so that two sides can tell whether they speak of the same one.
type PathSum struct{ h *blake3.Hasher }

// NewPathSum begins.
func NewPathSum() *PathSum { return &PathSum{blake3.New()} }

// Add adds a path.
func (s *PathSum) Add(path string) {
	s.h.WriteString(path)
	s.h.Write([]byte{0})
}

// String is the sum of what was added: BLAKE3 of all paths, each followed by a zero, in hexadecimal.
func (s *PathSum) String() string { return hex.EncodeToString(s.h.Sum(nil)) }
