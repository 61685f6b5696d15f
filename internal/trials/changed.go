package trials

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"
)

// telling is what of a guest's definition says how it boots: its machine, firmware, processor and disks. What is drawn anew at each start says nothing.
var telling = regexp.MustCompile(`(?s)<(type|loader|nvram template|cpu|target|model)\b[^>]*>`)

// Changed says what of how a machine boots is another in one definition than in an earlier one, "" for nothing.
func Changed(was, is string) string {
	if was == is {
		return ""
	}
	var old, now struct{ System, Kernel, Boot string }
	if json.Unmarshal([]byte(was), &old) == nil && json.Unmarshal([]byte(is), &now) == nil {
		switch {
		case old.Kernel != now.Kernel:
			return "its kernel: " + now.Kernel
		case old.Boot != now.Boot:
			return "how it boots: " + now.Boot
		case old.System != now.System:
			return "its system: " + now.System
		}
		return ""
	}
	parts := func(text string) []string {
		found := telling.FindAllString(text, -1)
		for i, f := range found {
			found[i] = strings.Join(strings.Fields(f), " ")
		}
		return found
	}
	if !slices.Equal(parts(was), parts(is)) {
		return "its definition"
	}
	return ""
}
