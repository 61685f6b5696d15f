package when

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

var spanUnits = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour, "year": 365 * 24 * time.Hour}

// FormatSpan writes a length of time in the largest unit that it is a multiple of: "90 days", "36 hours".
func FormatSpan(d time.Duration) string {
	for _, unit := range []string{"day", "hour", "minute"} {
		if length := spanUnits[unit]; d >= length && d%length == 0 {
			return plural(int64(d/length), unit)
		}
	}
	return plural(int64(d/time.Second), "second")
}

func plural(n int64, unit string) string {
	if n == 1 {
		return "1 " + unit
	}
	return fmt.Sprintf("%d %ss", n, unit)
}

// ParseSpan reads a length of time, such as "30 minutes", "1 hour", "3 days". A day is 24 hours, a year 365 days; the longest are
// 1000 of a unit, and 292 years.
func ParseSpan(text string) (time.Duration, error) {
	if words := strings.Fields(text); len(words) == 2 {
		n, err := strconv.Atoi(words[0])
		unit, ok := spanUnits[strings.TrimSuffix(words[1], "s")]
		if err == nil && ok && n > 0 && n <= 1000 && time.Duration(n) <= math.MaxInt64/unit {
			return time.Duration(n) * unit, nil
		}
	}
	return 0, fmt.Errorf(`%q is no length of time; write for example "30 minutes" or "4 hours"`, text)
}

// Short is a length of time as people say it: "41 s", "9 h", "3 days".
func Short(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d/time.Second))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d/time.Minute))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d/time.Hour))
	}
	return fmt.Sprintf("%d days", int(d/(24*time.Hour)))
}
