package drills

import (
	"context"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/when"
	"keenlodge/internal/records/listing"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Parse(pageText))

// Find is one drill.
func (d *Drills) Find(ctx context.Context, run string) (drill.Result, error) {
	return d.rec.Drill(ctx, run)
}

// List reads a page of the drills, newest first, and the cursor of the next one.
func (d *Drills) List(ctx context.Context, p listing.Page) ([]drill.Listed, string, error) {
	return d.rec.DrillPage(ctx, p)
}

// WritePage writes a drill as a page of HTML that stands alone, with its pictures in it, and prints well. Times are shown in the site's zone.
func (d *Drills) WritePage(ctx context.Context, run string, w io.Writer) error {
	r, err := d.rec.Drill(ctx, run)
	if err != nil {
		return err
	}
	pictures, err := d.rec.DrillPictures(ctx, run)
	if err != nil {
		return err
	}
	s, err := d.rec.Site(ctx)
	if err != nil {
		return err
	}
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return err
	}
	return page.Execute(w, shown(r, pictures, zone))
}

// sheet is a drill as the page shows it.
type sheet struct {
	drill.Result
	Of, Began, WayWords, Answer, Tone string
	Machines                          []entry
}

// entry is a machine on it.
type entry struct {
	drill.Comeback
	Tone, Sign, Back, OwedBack, Old, OwedAge, TakenText, Timeline string
	Bars                                                          []bar
	OwedX                                                         float64
	Found                                                         []found
	Shots                                                         []shot
}

// bar is a part of the time that a machine took; the whole line is 600 wide.
type bar struct {
	X, Width   float64
	Fill, What string
}

// found is what was looked for.
type found struct{ Name, After, Tone, Text string }

// shot is a picture, with all of it in its address.
type shot struct {
	Source template.URL
	About  string
}

var tones = map[drill.Standing]string{drill.Back: "good", drill.Pending: "pending", drill.Old: "careful", drill.Late: "careful", drill.Impossible: "wrong", drill.Missing: "wrong"}

// pageTime is how a moment is written on a page that lives for years.
const pageTime = "Monday, 2 January 2006, 15:04 MST"

func shown(r drill.Result, pictures map[string][]byte, zone *time.Location) sheet {
	sum := r.Sum()
	out := sheet{Result: r, Of: r.Of(), Began: r.Began.In(zone).Format(pageTime), Answer: sum.String(), Tone: tones[sum.Standing],
		WayWords: map[drill.Way]string{drill.AtOnce: "started on disks that stay in the store", drill.Restored: "written out whole, then started"}[r.Way]}
	if r.Ended == nil {
		out.Tone, out.Answer = "careful", "It is not over, or was ended in the middle: "+out.Answer
	}
	var whole time.Duration
	for _, m := range r.Machines {
		whole = max(whole, m.Held, m.Answered, m.Begun)
	}
	for _, m := range r.Machines {
		out.Machines = append(out.Machines, entryOf(m, whole, pictures, zone))
	}
	return out
}

func entryOf(m drill.Comeback, whole time.Duration, pictures map[string][]byte, zone *time.Location) entry {
	e := entry{Comeback: m, Tone: tones[m.Standing], Sign: m.Standing.Sign(), Back: "–", Old: "–", OwedBack: "–", OwedAge: "–"}
	if m.Held > 0 {
		e.Back, e.Old = when.Short(m.Held), when.Short(m.Age)
	}
	if m.Owed.Back > 0 {
		e.OwedBack = when.Short(m.Owed.Back)
	}
	if m.Owed.Age > 0 {
		e.OwedAge = when.Short(m.Owed.Age)
	}
	if m.Taken != nil {
		e.TakenText = m.Taken.In(zone).Format("2 Jan 15:04")
	}
	if m.Begun > 0 {
		e.timeline(whole)
	}
	for _, f := range m.Steps {
		one := found{Name: f.Name, After: fmt.Sprintf("%.1f s", f.After.Seconds()), Text: f.Text}
		if !f.Passed {
			one.Tone, one.After = "wrong", "✗"
		}
		e.Found = append(e.Found, one)
	}
	for _, p := range m.Pictures {
		if body, ok := pictures[p.Name]; ok {
			e.Shots = append(e.Shots, shot{template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(body)), fmt.Sprintf("%s, %.0f s after the start", p.About, p.After.Seconds())})
		}
	}
	return e
}

// timeline draws where a machine's time went, on a line as long as the longest of the drill.
func (e *entry) timeline(whole time.Duration) {
	var words []string
	at := time.Duration(0)
	add := func(until time.Duration, fill, what string) {
		if until <= at {
			return
		}
		e.Bars = append(e.Bars, bar{X: x(at, whole), Width: x(until, whole) - x(at, whole), Fill: fill, What: what})
		words = append(words, fmt.Sprintf("%s %.1f s", what, (until-at).Seconds()))
		at = until
	}
	add(e.Begun-min(e.WrittenOut, e.Begun), "#dbd8cd", "waiting for its turn and being prepared")
	add(e.Begun, "#9dabac", "written out")
	add(e.Answered, "#0b6b63", "starting")
	add(e.Held, "#5cc9ba", "until all that is expected held")
	if e.Owed.Back > 0 && e.Owed.Back <= whole {
		e.OwedX = x(e.Owed.Back, whole)
	}
	e.Timeline = strings.Join(words, ", ")
}

// x is where a moment lies on a line of 600.
func x(at, whole time.Duration) float64 { return 600 * float64(at) / float64(max(1, whole)) }
