package when

import (
	"time"

	"github.com/dustin/go-humanize"
)

// Pace is a limit of bytes in a second that changes with the hour.
type Pace struct {
	parts []paced
}

type paced struct {
	bytes  int64
	always bool
	window
}

// ParsePace reads phrases such as "40 MiB" and "10 MiB mon-fri 08:00-18:00"; "unlimited" stands for no limit. Where several hold, the
// last one counts. Errors are of type [*phrase.Error].
func ParsePace(phrases []string) (Pace, error) {
	var out Pace
	for _, text := range phrases {
		p := newParser(text)
		p.kind = "bandwidth"
		var v paced
		first := p.next()
		if first.text != "unlimited" {
			unit := p.next()
			n, err := humanize.ParseBytes(first.text + " " + unit.text)
			if err != nil || n == 0 || n > 1<<50 || unit.text == "" {
				return out, p.bad(first, `a length is expected here, such as 40 MiB, or "unlimited"`, "unlimited")
			}
			v.bytes = int64(n)
		}
		v.always = p.peek().text == ""
		if !v.always {
			p.words = append([]word{{"only", 0}}, p.words...)
			var err error
			if v.window, err = p.window(); err != nil {
				return out, err
			}
		}
		out.parts = append(out.parts, v)
	}
	return out, nil
}

// At is the limit at a moment of the zone that it carries, in bytes a second; 0 is none.
func (p Pace) At(at time.Time) (bytes int64) {
	for _, v := range p.parts {
		if v.always || v.has(at) {
			bytes = v.bytes
		}
	}
	return bytes
}

// Limits reports whether there ever is a limit.
func (p Pace) Limits() bool { return len(p.parts) > 0 }
