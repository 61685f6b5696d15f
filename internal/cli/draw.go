package cli

import (
	"fmt"
	"html"
	"strings"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
)

// Measures of a drawing, in pixels.
const (
	cell   = 22
	margin = 84
	top    = 62
)

// drawSimulation draws a simulated rotation as SVG: a row for each image, a column for each night. A cell is filled while the image is there.
func drawSimulation(p rotation.Scenario) string {
	nights := rotation.Simulate(p)
	n := len(nights)
	width, height := margin+n*cell+24, top+n*cell+64
	var b strings.Builder
	put := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	put(`<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %[1]d %[2]d" font-family="system-ui, sans-serif" font-size="11" fill="#1f2a30">`, max(width, 620), height)
	put(`<rect width="100%%" height="100%%" fill="#fbfaf6"/>`)
	layout := "in a pooled store"
	if p.Leans {
		layout = "in an open store"
	}
	if p.Fold {
		layout += ", folding"
	}
	kind := "full images"
	if !p.Cycle.AlwaysFull() {
		kind = fmt.Sprintf("%s between, %q", p.Capture, p.Cycle)
	}
	put(`<text x="12" y="22" font-size="14" font-weight="600">%s · %s, %s</text>`, html.EscapeString(p.Rule.String()), html.EscapeString(kind), layout)
	put(`<text x="12" y="%d" fill="#5d6b72">image of</text><text x="%d" y="40" fill="#5d6b72">after the night of</text>`, top-6, margin)
	for i, night := range nights {
		x, y := margin+i*cell, top+i*cell
		if i%7 == 0 {
			put(`<text x="%d" y="%d" fill="#5d6b72">%s</text><line x1="%d" y1="%d" x2="%[1]d" y2="%d" stroke="#d9d5c8"/>`, x, top-6, night.At.Format("2 Jan"), x, top, top+n*cell)
		}
		put(`<text x="%d" y="%d" text-anchor="end">%s</text>`, margin-8, y+15, night.At.Format("Mon 2 Jan"))
		for k, m := range night.Images {
			drawCell(put, x, top+k*cell, k == i, m)
		}
	}
	y := top + n*cell + 24
	for i, l := range []struct{ fill, text string }{{"#12626e", "new"}, {"#5fa8a0", "kept by the rule"}, {"#e3b04b", "held: a staying image leans on it"}} {
		x := 12 + []int{0, 60, 178}[i]
		put(`<rect x="%d" y="%d" width="14" height="14" rx="3" fill="%s" stroke="#8b979c"/><text x="%d" y="%d">%s</text>`, x, y, l.fill, x+20, y+11, l.text)
	}
	put(`<text x="12" y="%d" fill="#5d6b72">F full · i incremental · d differential</text>`, y+32)
	put(`</svg>`)
	return b.String()
}

func drawCell(put func(string, ...any), x, y int, isNew bool, m rotation.NightImage) {
	fill, ink := "#5fa8a0", "#0c2f33"
	switch {
	case m.Verdict == "" || m.Verdict == rotation.Drop:
		return
	case isNew:
		fill, ink = "#12626e", "#ffffff"
	case m.Verdict == rotation.Held:
		fill, ink = "#e3b04b", "#3d2c05"
	}
	letter := map[image.Capture]string{image.Full: "F", image.Incremental: "i", image.Differential: "d"}[m.Capture]
	put(`<rect x="%d" y="%d" width="%d" height="%[3]d" rx="3" fill="%s"/><text x="%d" y="%d" text-anchor="middle" fill="%s">%s</text>`,
		x+1, y+1, cell-2, fill, x+cell/2, y+15, ink, letter)
}
