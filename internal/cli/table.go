package cli

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"keenlodge/internal/core/when"
	"keenlodge/internal/wire"
)

// table prints rows in columns; a heading that ends with ">" aligns its column to the right.
func table(w io.Writer, headings []string, rows [][]string) {
	widths := make([]int, len(headings))
	right := make([]bool, len(headings))
	for i, h := range headings {
		headings[i], right[i] = strings.CutSuffix(h, ">")
		widths[i] = utf8.RuneCountInString(headings[i])
	}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for _, row := range append([][]string{headings}, rows...) {
		var line strings.Builder
		for i, cell := range row {
			pad := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell))
			if right[i] {
				line.WriteString(pad + cell + "  ")
			} else {
				line.WriteString(cell + pad + "  ")
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

func size(n int64) string {
	if n < 0 {
		return "unknown"
	}
	return humanize.IBytes(uint64(n))
}

// momentFrom reads a day or a moment, and where past also how long ago; "" is the zero time. Days are of this computer's zone.
func momentFrom(name, text string, past bool) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	if at, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return at, nil
	}
	if ago, err := when.ParseSpan(text); past && err == nil {
		return time.Now().Add(-ago), nil
	}
	return time.Time{}, wrongUse("%s %q is neither a day nor a moment; write for example 2026-12-01 or 2026-12-01T06:00:00Z", name, text)
}

// moment is a time in this computer's zone, to the second.
func moment(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

func elapsed(from, to *time.Time) string {
	switch {
	case from == nil:
		return "–"
	case to == nil:
		return time.Since(*from).Round(time.Second).String()
	case to.Sub(*from) < 10*time.Second:
		return to.Sub(*from).Round(100 * time.Millisecond).String()
	}
	return to.Sub(*from).Round(time.Second).String()
}

func orDash[T ~string](s T) string {
	if s == "" {
		return "–"
	}
	return string(s)
}

func tagList(tags map[string]string) string {
	var out []string
	for _, k := range sorted(tags) {
		out = append(out, k+"="+tags[k])
	}
	return orDash(strings.Join(out, " "))
}

// pageFlags ask for a part of a list, so many rows unless told otherwise.
func pageFlags(rows int) []cli.Flag {
	return []cli.Flag{&cli.IntFlag{Name: "limit", Value: rows, Usage: "how many rows"}, &cli.BoolFlag{Name: "all", Usage: "all rows"},
		&cli.StringFlag{Name: "sort", Usage: "column to sort by, with a dash before it for the largest first"}}
}

func pageFrom(c *cli.Command) wire.Page {
	p := wire.Page{Sort: c.String("sort"), Limit: max(1, c.Int("limit"))}
	if c.Bool("all") {
		p.Limit = 0
	}
	return p
}

// moreLine says that a list goes on.
func moreLine(w io.Writer, more bool, rows int) {
	if more {
		fmt.Fprintf(w, "… these are the first %d; see the rest with --all, or narrow the list\n", rows)
	}
}
