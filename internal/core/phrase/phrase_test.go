package phrase

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOrdinal(t *testing.T) {
	for n, want := range map[int]string{0: "0th", 1: "1st", 2: "2nd", 3: "3rd", 4: "4th", 10: "10th", 11: "11th", 12: "12th", 13: "13th", 14: "14th",
		21: "21st", 22: "22nd", 23: "23rd", 100: "100th", 101: "101st", 111: "111th", 112: "112th", 113: "113th", 121: "121st", 200: "200th", 201: "201st"} {
		require.Equal(t, want, Ordinal(n))
	}
}

// The place is counted as people count, from one.
func TestTheWrongWord(t *testing.T) {
	e := &Error{Kind: "schedule", Phrase: "every dya", At: 6, Word: "dya", Why: "it is no day"}
	require.EqualError(t, e, `schedule phrase "every dya": at "dya" (character 7): it is no day`)
}
