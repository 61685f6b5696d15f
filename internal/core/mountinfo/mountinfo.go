// Package mountinfo reads the kernel's table of what is mounted (proc(5), /proc/PID/mountinfo), a line at a time.
package mountinfo

import (
	"strconv"
	"strings"
)

// Line is a mount. Device is the number of what it lies on, as major:minor; Root is which folder of it is seen at Point.
type Line struct {
	ID, Device, Root, Point, Options string
	Kind, Source                     string
}

// Parse reads a line; ok is false for one that is none.
func Parse(text string) (l Line, ok bool) {
	before, after, ok := strings.Cut(text, " - ")
	f, of := strings.Fields(before), strings.Fields(after)
	if !ok || len(f) < 6 || len(of) < 2 {
		return l, false
	}
	return Line{ID: f[0], Device: f[2], Root: unescape(f[3]), Point: unescape(f[4]), Options: f[5], Kind: of[0], Source: unescape(of[1])}, true
}

// unescape undoes what the kernel does to blanks: \040 and the like.
func unescape(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				out.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		out.WriteByte(s[i])
	}
	return out.String()
}
