// Package suggest finds the known word that somebody probably meant.
package suggest

import (
	"fmt"
	"strings"
)

// Match returns the known word nearest to word by edit distance, or "" if none is near: more than a third of the
// letters (at least two) would have to change.
func Match[W, K ~string](word W, known []K) K {
	best, found := max(2, len(word)/3)+1, K("")
	for _, k := range known {
		if d := distance(strings.ToLower(string(word)), strings.ToLower(string(k))); d < best {
			best, found = d, k
		}
	}
	return found
}

// Hint is the end of an error text: the nearest match, or the known words where they are few, or "".
func Hint[W, K ~string](word W, known []K) string {
	if m := Match(word, known); m != "" {
		return fmt.Sprintf("; did you mean %q?", m)
	}
	if len(known) == 0 || len(known) > 16 {
		return ""
	}
	return "; known are " + List(known)
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

// List writes known words in a row.
func List[K ~string](known []K) string {
	words := make([]string, len(known))
	for i, k := range known {
		words[i] = string(k)
	}
	return strings.Join(words, ", ")
}
