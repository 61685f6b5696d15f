// Package cut divides what is stored into pieces at boundaries that the content itself decides, so that what two disks have in common is
// cut alike wherever it lies. A disk is looked at in units of 4 KiB, to which file systems align their files: a boundary may lie after
// every unit whose digest says so, and where exactly depends on nothing but the units of the piece before it.
package cut

import (
	"fmt"

	"github.com/zeebo/xxh3"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
)

// Unit is the length that a disk is cut in multiples of, in bytes.
const Unit = 4096

// Gap is how many units of zeros in a row end a piece. Zeros at a piece's begin and end are never part of it.
const Gap = 4

// MaxPiece is the longest piece that a store may hold, in bytes: it must fit into a frame.
const MaxPiece = chunk.MaxFrame

// Cuts are the sizes and the seed by which a store's pieces are cut. Stores of equal cuts have equal pieces of equal content. Sizes are in
// bytes, multiples of [Unit].
type Cuts struct {
	// Min and Max bound a piece, Mean is about its length on average. Only the last piece before a gap, or before the end of what is cut,
	// may be shorter.
	Min  int `json:"min"`
	Mean int `json:"mean"`
	Max  int `json:"max"`
	// Seed keeps who sees the lengths of pieces from telling what is in them.
	Seed uint64 `json:"seed"`
}

// Default are the sizes of new stores: decision 0022 says what they were chosen from.
func Default(seed uint64) Cuts {
	return Cuts{Min: 16 << 10, Mean: 64 << 10, Max: 256 << 10, Seed: seed}
}

// Check says what is wrong with cuts, or nil.
func (c Cuts) Check() error {
	for _, n := range []int{c.Min, c.Mean, c.Max} {
		if n < Unit || n%Unit != 0 || n > MaxPiece {
			return fmt.Errorf("pieces of %d bytes: from %d to %d in multiples of %[2]d are possible", n, Unit, MaxPiece)
		}
	}
	if c.Min > c.Mean || c.Mean > c.Max {
		return fmt.Errorf("pieces of at least %d, on average %d and at most %d bytes: out of order", c.Min, c.Mean, c.Max)
	}
	return nil
}

// threshold is below what digest a unit is a boundary: once in as many units as a piece has on average beyond its minimum.
func (c Cuts) threshold() uint64 {
	return ^uint64(0) / uint64((c.Mean-c.Min)/Unit+1)
}

// Mark is what a unit is.
type Mark uint8

const (
	// Inner is a unit after which no piece ends for its own sake.
	Inner Mark = iota
	// Boundary is one after which a piece may end.
	Boundary
	// Zero is a unit of zeros.
	Zero
)

// Marks looks at the units of a run of bytes, a multiple of [Unit], and writes what they are into marks. It costs little more than reading
// them, and may be done in any order.
func (c Cuts) Marks(content []byte, marks []Mark) {
	below := c.threshold()
	for i := range marks {
		unit := content[i*Unit:][:Unit]
		switch {
		case unit[0] == 0 && disk.IsZero(unit):
			marks[i] = Zero
		case xxh3.HashSeed(unit, c.Seed) < below:
			marks[i] = Boundary
		default:
			marks[i] = Inner
		}
	}
}

// Cutter finds the pieces of a run of units, one unit after the other. Units are counted from 0.
type Cutter struct {
	min, max int64 // in units
	at       int64 // the next unit
	first    int64 // of the piece under way
	end      int64 // after its last unit that is not zeros; first where there is none
}

// Cutter begins a run.
func (c Cuts) Cutter() *Cutter { return &Cutter{min: int64(c.Min / Unit), max: int64(c.Max / Unit)} }

// Next takes the next unit. It returns the piece that ends by it or before it, from and until in units; until 0 is none.
func (k *Cutter) Next(m Mark) (from, until int64) {
	k.at++
	switch {
	case m != Zero:
		k.end = k.at
		if n := k.at - k.first; n >= k.max || m == Boundary && n >= k.min {
			return k.take()
		}
	case k.end == k.first: // zeros before a piece are none of it
		k.first, k.end = k.at, k.at
	case k.at-k.end >= Gap || k.at-k.first >= k.max:
		return k.take()
	}
	return 0, 0
}

// Rest ends the run and returns its last piece, as [Cutter.Next] does.
func (k *Cutter) Rest() (from, until int64) {
	if k.end == k.first {
		return 0, 0
	}
	return k.take()
}

func (k *Cutter) take() (from, until int64) {
	from, until = k.first, k.end
	k.first, k.end = k.at, k.at
	return from, until
}

// First is the first unit that is not in a piece yet: what comes before it is not needed any more.
func (k *Cutter) First() int64 { return k.first }
