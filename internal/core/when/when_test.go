package when

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/phrase"
)

func TestVectors(t *testing.T) {
	files, err := filepath.Glob("testdata/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			var v struct {
				Phrase, Zone string
				From         time.Time
				Count        int
				Times        []string
				Error        bool
			}
			body, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(body, &v))
			zone, err := time.LoadLocation(v.Zone)
			require.NoError(t, err)
			s, err := Parse(v.Phrase, zone)
			if v.Error {
				var bad *phrase.Error
				require.ErrorAs(t, err, &bad)
				require.Contains(t, v.Phrase[bad.At:], bad.Word)
				return
			}
			require.NoError(t, err)
			var got []string
			for at := v.From; len(got) < v.Count; {
				at = s.Next(at)
				got = append(got, at.Format(time.RFC3339))
			}
			require.Equal(t, v.Times, got)
		})
	}
}

// Every day has its moment once, whatever the zone's clock does.
func TestOneMomentADay(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	for _, name := range []string{"Europe/Lisbon", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca", "Asia/Kathmandu", "UTC"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		for range 20 {
			hour, minute := rng.IntN(24), rng.IntN(60)
			text := time.Date(2026, 1, 1, hour, minute, 0, 0, time.UTC).Format("every day at 15:04")
			s, err := Parse(text, zone)
			require.NoError(t, err)
			at := time.Date(2026, 1, 1, 0, 0, 0, 0, zone).Add(-time.Second)
			for day := range 365 {
				next := s.Next(at)
				require.True(t, next.After(at))
				require.Equal(t, day+1, next.YearDay(), "%s in %s: %s after %s", text, name, next, at)
				at = next
			}
		}
	}
}

func TestBadPhrasesPointAtTheWord(t *testing.T) {
	for text, want := range map[string]string{
		"":                           `"every" is expected here`,
		"evry day at 23:00":          `at "evry" (character 1): "every" is expected here; did you mean "every"?`,
		"every day at 25:00":         `at "25:00" (character 14): a time from 00:00 to 23:59`,
		"every day at 23:00 24:00":   `at "24:00" (character 20): "and" with another time`,
		"every day at 23:00 and":     `a time from 00:00 to 23:59`,
		"every day at 1e1:00":        `a time from`,
		"every day at 23:00 and 7:5": `at "7:5"`,
	} {
		_, err := Parse(text, time.UTC)
		require.ErrorContains(t, err, want, text)
	}
}
