package when

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

var spanUnits = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour, "year": 365 * 24 * time.Hour}

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
