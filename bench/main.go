// Command bench measures whole processes against general tools on the same bytes, in one run, as ratios. It writes what it found into
// bench/results.json and makes docs/benchmarks.md of it; see there, and run it with "make bench".
//
//	go run ./bench [SECTION…]
//
// measures some sections and leaves the others' last results as they are; "page" measures nothing and makes the page anew.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"syscall"
	"time"

	"keenlodge/bench/copying"
	"keenlodge/bench/door"
	"keenlodge/bench/kinds"
	"keenlodge/bench/report"
	"keenlodge/bench/servers"
	"keenlodge/demo"
)

const (
	// rounds of each measurement: what is compared takes turns, and each round gives a ratio of its own.
	rounds = 5
	folder = "/var/tmp/brindle-b"
)

// section is a part of the page. It adds its rows to the report.
type section struct {
	name    string
	measure func(ctx context.Context, p *demo.Place, r *report.Report) error
}

var sections = []section{
	{"whole", whole}, {"ladder", ladderSteps}, {"changes", changes}, {"many", many}, {"guest", guest}, {"inside", inside},
	{"far", far}, {"scale", scale}, {"schedules", schedules}, {"door", adding(door.Measure)}, {"servers", adding(servers.Measure)}, {"back", adding(servers.MeasureBack)},
	{"at once", atOnce}, {"exports", exports}, {"clones", clones}, {"rescue", rescued}, {"copies", adding(copying.Measure)}, {"files", adding(servers.MeasureFiles)},
	{"kinds", adding(kinds.Measure)},
}

// adding is a section whose measuring knows of the report only how rows are added.
func adding[A ~func(what, unit string, asked float64, samples ...float64)](measure func(context.Context, *demo.Place, A) error) func(context.Context, *demo.Place, *report.Report) error {
	return func(ctx context.Context, p *demo.Place, r *report.Report) error { return measure(ctx, p, r.Add) }
}

func main() {
	// Who stops it midway does not find its disks there afterwards.
	ctx, end := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer end()
	if err := bench(ctx, os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// named are the sections that words name, of which some have two.
func named(words []string) (names []string, err error) {
	is := func(name string) bool {
		return name == "page" || slices.ContainsFunc(sections, func(s section) bool { return s.name == name })
	}
	for i := 0; i < len(words); i++ {
		name := words[i]
		if i+1 < len(words) && is(name+" "+words[i+1]) {
			i++
			name += " " + words[i]
		}
		if !is(name) {
			return nil, fmt.Errorf("there is no section %q", name)
		}
		names = append(names, name)
	}
	return names, nil
}

func bench(ctx context.Context, words []string) error {
	only, err := named(words)
	if err != nil {
		return err
	}
	r, err := report.Open()
	if err != nil {
		return err
	}
	if err := r.Save(); err != nil {
		return err
	}
	begun := time.Now()
	for _, s := range sections {
		if len(only) > 0 && !slices.Contains(only, s.name) {
			continue
		}
		fmt.Printf("── %s, after %s\n", s.name, time.Since(begun).Round(time.Second))
		r.Begin(s.name)
		if err := place(ctx, s, r); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := r.Save(); err != nil {
			return err
		}
	}
	fmt.Printf("── done in %s\n", time.Since(begun).Round(time.Second))
	r.TellSlower()
	return nil
}

// place gives a section a site of its own, of which nothing stays.
func place(ctx context.Context, s section, r *report.Report) error {
	p, err := demo.Open(folder, os.Getenv("KEENLODGE_PROGRAM"))
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	defer p.Close()
	return s.measure(ctx, p, r)
}
