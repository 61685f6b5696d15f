package promise

import (
	"fmt"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/core/when"
)

// Shown is what a proof showed, as a person wants to know it.
type Shown struct {
	Level  image.Level
	Passed bool
	Ended  time.Time
	Why    string
	Report *trial.Report
}

// Status is one line on how far an image can be trusted, from its proofs, newest first: "boots in 41 s, 6 s behind, proven 9 h ago". A proof that failed
// outranks all.
func Status(proofs []Shown, now time.Time) string {
	if len(proofs) == 0 {
		return "not proven"
	}
	if p := proofs[0]; !p.Passed {
		since := p.Ended
		for _, o := range proofs { // since when
			if o.Passed {
				break
			}
			since = o.Ended
		}
		return fmt.Sprintf("✗ has failed by %s for %s: %s", p.Level, when.Short(now.Sub(since)), p.Why)
	}
	best := proofs[0]
	for _, p := range proofs {
		if !p.Passed {
			break
		}
		if p.Level != best.Level && p.Level.AtLeast(best.Level) {
			best = p
		}
	}
	words := map[image.Level]string{image.ByRead: "every piece was read and matched", image.ByMount: "its file systems open and its files can be read",
		image.ByBoot: "boots", image.ByRestore: "written out whole and compared"}[best.Level]
	out := []string{words}
	if r := best.Report; r != nil {
		if r.Up > 0 {
			out[0] = "boots in " + when.Short(r.Up)
		}
		for _, f := range r.Steps {
			if f.Passed && f.Kind == trial.OfCommand {
				out = append(out, firstWord(f.Name)+" holds")
			}
		}
		if r.Lag != nil {
			out = append(out, "its data "+when.Short(*r.Lag)+" behind")
		}
	}
	return strings.Join(append(out, "proven "+when.Short(now.Sub(best.Ended))+" ago"), ", ")
}

// firstWord is a command's name without its place.
func firstWord(command string) string {
	word, _, _ := strings.Cut(command, " ")
	return word[strings.LastIndexByte(word, '/')+1:]
}
