// Package phrase is what the phrases that people write have in common: an error that points at the wrong word.
package phrase

import (
	"fmt"
	"strconv"
)

// Error says which word of a phrase is wrong, and why.
type Error struct {
	// Kind is what the phrase says, such as "rotation".
	Kind   string
	Phrase string
	// At is the word's offset in the phrase, in bytes.
	At   int
	Word string
	Why  string
}

func (e *Error) Error() string {
	return fmt.Sprintf("%s phrase %q: at %q (character %d): %s", e.Kind, e.Phrase, e.Word, e.At+1, e.Why)
}

// Ordinal writes 1 as "1st".
func Ordinal(n int) string {
	end := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			end = "st"
		case 2:
			end = "nd"
		case 3:
			end = "rd"
		}
	}
	return strconv.Itoa(n) + end
}
