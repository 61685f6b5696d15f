package cycle

import (
	"cmp"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func ExampleRule_Due() {
	rule, err := Parse("full every 3rd")
	if err != nil {
		panic(err)
	}
	night := time.Date(2026, 2, 1, 23, 0, 0, 0, time.UTC)
	var made []Image
	for n := range 5 {
		why := rule.Due(made, night.AddDate(0, 0, n))
		fmt.Println(why != "")
		made = append(made, Image{night.AddDate(0, 0, n), why != ""})
	}
	// Output:
	// true
	// false
	// false
	// true
	// false
}

func TestAFullOneOnItsWeekday(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	rule, err := Parse("full on sun")
	require.NoError(t, err)
	sunday := time.Date(2026, 3, 29, 0, 0, 0, 0, lisbon) // the clock goes forward in it
	at := func(h int) time.Time { return sunday.Add(time.Duration(h) * time.Hour) }
	for _, c := range []struct {
		last, now time.Time
		due       bool
	}{
		{at(-100), at(-1), false},
		{at(-100), at(0), true},
		{at(0), at(1), false},
		{at(0), at(22), false},
		{at(-1), at(5 * 24), true}, // that Sunday was missed, so it is made up for
		{at(3), at(6*24 + 20), false},
		{at(3), at(7*24 - 1), true}, // the day had 23 hours
		{at(400), at(3), false},     // the clock was set back
	} {
		require.Equal(t, c.due, rule.Due([]Image{{c.last, true}, {c.last.Add(time.Minute), false}}, c.now) != "", "%s at %s", c.last, c.now)
	}
	require.NotEmpty(t, rule.Due([]Image{{at(0), false}}, at(1)), "a set without a full one")
	once, err := Parse("full once")
	require.NoError(t, err)
	require.Empty(t, once.Due([]Image{{at(0), true}}, at(99999)))
	require.False(t, once.AlwaysFull())
	none, err := Parse("")
	require.NoError(t, err)
	require.True(t, none.AlwaysFull())
	require.NotEmpty(t, none.Due([]Image{{at(0), true}}, at(1)))
}

func TestBadPhrasesPointAtTheWord(t *testing.T) {
	for text, want := range map[string]string{
		"ful once":        `at "ful" (character 1)`,
		"full":            `"once", "every" or "on" is expected here`,
		"full evry 7th":   `at "evry" (character 6): "once", "every" or "on" is expected here; did you mean "every"?`,
		"full every 7":    `at "7" (character 12)`,
		"full every 3th":  `at "3th"`,
		"full every 0th":  `at "0th"`,
		"full on sunny":   `at "sunny"`,
		"full on sun,mom": `at "mom" (character 13)`,
		"full once more":  `at "more" (character 11)`,
		"always":          `"full" is expected here`,
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, want, text)
	}
}

// Only a cycle without anything between its full images builds on none.
func TestAlwaysFull(t *testing.T) {
	for text, want := range map[string]bool{"": true, "full every 1st": true, "full every 2nd": false, "full every 1000th": false, "full once": false, "full on sun": false} {
		rule, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, rule.AlwaysFull(), text)
		require.Equal(t, cmp.Or(text, "always full"), rule.String())
	}
	_, err := Parse("full every 1001st")
	require.ErrorContains(t, err, `at "1001st"`)
	night := time.Date(2026, 2, 1, 23, 0, 0, 0, time.UTC)
	thousand, err := Parse("full every 1000th")
	require.NoError(t, err)
	made := []Image{{night, true}}
	for range 998 {
		made = append(made, Image{night, false})
	}
	require.Empty(t, thousand.Due(made, night))
	require.NotEmpty(t, thousand.Due(append(made, Image{night, false}), night))
}

// Every form at its limits, and how each is due to the image and the day.
func TestForms(t *testing.T) {
	night := time.Date(2026, 3, 2, 23, 0, 0, 0, time.UTC) // a Monday
	for text, want := range map[string]string{            // of fourteen nights, F for a full one
		"":                "FFFFFFFFFFFFFF",
		"always full":     "FFFFFFFFFFFFFF",
		"full once":       "F-------------",
		"full every 1st":  "FFFFFFFFFFFFFF",
		"full every 2nd":  "F-F-F-F-F-F-F-",
		"full every 14th": "F-------------",
		"full every 13th": "F------------F",
		"full on mon":     "F------F------",
		"full on sun,tue": "FF----F-F----F",
	} {
		rule, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, cmp.Or(text, "always full"), rule.String())
		require.Equal(t, want == "FFFFFFFFFFFFFF", rule.AlwaysFull(), text)
		var made []Image
		got := ""
		for n := range 14 {
			due := rule.Due(made, night.AddDate(0, 0, n)) != ""
			got += map[bool]string{true: "F", false: "-"}[due]
			made = append(made, Image{night.AddDate(0, 0, n), due})
		}
		require.Equal(t, want, got, text)
	}
	for text, want := range map[string]string{
		"always full now": `at "now" (character 13)`, "full every 1001st": `at "1001st" (character 12)`, "full every": `at "" (character 11)`, "full on": `at "" (character 8)`,
		"full every 7th day": `at "day" (character 16)`, "full on sun mon": `at "mon" (character 13)`, "always fun": `at "fun" (character 8): "full" is expected here`, "full on ,": `a weekday is expected here`,
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, want, text)
	}
	for _, text := range []string{"full every 1000th", "full every 21st", "full every 102nd"} {
		_, err := Parse(text)
		require.NoError(t, err)
	}
	every, err := Parse("full every 3rd")
	require.NoError(t, err)
	require.Equal(t, `the cycle is "full every 3rd", and 3 came since the last full one began`, every.Due([]Image{{night, false}, {night, true}, {night, false}, {night, false}}, night))
	on, err := Parse("full on sun")
	require.NoError(t, err)
	require.Equal(t, `the cycle is "full on sun", and there is no full one since Sun 2026-03-01 began`, on.Due([]Image{{night.AddDate(0, 0, -2), true}}, night))
}
