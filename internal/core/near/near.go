// Package near finds the known word that somebody probably meant.
package near

import (
	"fmt"
	"strings"
)

// Match returns the known word nearest to word by edit distance, or "" if none is near: more than a third of the
// letters (at least two) would have to change.
func Match(word string, known []string) string {
	best, found := max(2, len(word)/3)+1, ""
	for _, k := range known {
		if d := distance(strings.ToLower(word), strings.ToLower(k)); d < best {
			best, found = d, k
		}
	}
	return found
}

// Hint is the end of an error text: the nearest match, or the known words where they are few, or "".
func Hint(word string, known []string) string {
	if m := Match(word, known); m != "" {
		return fmt.Sprintf("; did you mean %q?", m)
	}
	if len(known) == 0 || len(known) > 16 {
		return ""
	}
	return "; known are " + strings.Join(known, ", ")
}

// distance is the Levenshtein distance.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		left := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := left
			if a[i] != b[j] {
				cost = 1 + min(left, row[j], row[j+1])
			}
			left, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}
