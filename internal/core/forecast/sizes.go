package forecast

import "slices"

// Seen is what is known of the images of a set, newest first, by kind: bytes that each added to its store.
type Seen struct {
	Full, Between []int64
	// Disks is how many bytes the machine's disks hold at most.
	Disks int64
}

const (
	// lastSeen is how many images a kind's size is taken from: enough for a range, few enough to follow a change.
	lastSeen = 10
	// guessedChange is the share of a machine that changes between two images where none was seen: 5 %, between 1 and 30.
	guessedChange, leastChange, mostChange = 20, 100, 3
)

// Sizes tells what coming images are likely to add. guessed says that there is too little experience: then a full image is taken for
// half of the disks, and a change for 5 % of a full image.
func (s Seen) Sizes() (full, between Range, guessed bool) {
	full, known := rangeOf(s.Full)
	if !known {
		full, guessed = Range{0, s.Disks / 2, s.Disks}, true
	}
	between, known = rangeOf(s.Between)
	if !known {
		between, guessed = Range{full.Low / leastChange, full.Likely / guessedChange, full.High / mostChange}, true
	}
	return full, between, guessed
}

// rangeOf is the least, the middle and the largest of the last sizes. The very first is left out where there are others: it is not
// repeated by the next ones.
func rangeOf(sizes []int64) (r Range, ok bool) {
	if len(sizes) == 0 {
		return r, false
	}
	sizes = slices.Clone(sizes[:min(lastSeen, len(sizes))])
	if len(sizes) > 2 && len(sizes) < lastSeen {
		sizes = sizes[:len(sizes)-1]
	}
	slices.Sort(sizes)
	return Range{sizes[0], sizes[len(sizes)/2], sizes[len(sizes)-1]}, true
}
