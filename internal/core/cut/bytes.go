package cut

import "github.com/zeebo/xxh3"

// ByteCutter finds pieces of files, whose boundaries may lie at any byte: what was put into the middle of a file moves the rest, and the rest is
// cut as before all the same. Whether a piece may end after a byte is decided by the 64 bytes up to it, by a rolling hash (a gear hash: each
// byte shifts the sum by one bit and adds a random number of its own).
type ByteCutter struct {
	gear     [256]uint64
	below    uint64
	min, max int
}

// window is how many bytes the hash looks at.
const window = 64

// Bytes is the cutter of files by these cuts.
func (c Cuts) Bytes() *ByteCutter {
	k := &ByteCutter{below: ^uint64(0) / uint64(c.Mean-c.Min+1), min: c.Min, max: c.Max}
	for i := range k.gear {
		k.gear[i] = xxh3.HashSeed([]byte{byte(i)}, c.Seed)
	}
	return k
}

// First is the length of the first piece of what b begins with: b holds all that is left of a file, or at least the longest piece.
func (k *ByteCutter) First(b []byte) int {
	end := min(len(b), k.max)
	if end <= k.min {
		return end
	}
	h := uint64(0)
	for _, c := range b[k.min-window : k.min-1] {
		h = h<<1 + k.gear[c]
	}
	for i := k.min - 1; i < end; i++ {
		if h = h<<1 + k.gear[b[i]]; h < k.below {
			return i + 1
		}
	}
	return end
}
