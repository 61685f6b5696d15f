// Package report keeps the figures of a bench, with those of the time before, and makes the page of them.
package report

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"text/template"
	"time"
)

const (
	resultsFile = "bench/results.json"
	pageFile    = "docs/benchmarks.md"
)

//go:embed page.md
var page string

// row is a figure of the page: what was measured, in each round.
type row struct {
	What    string    `json:"what"`
	Unit    string    `json:"unit"`
	Asked   float64   `json:"asked,omitempty"` // at the most; 0 where nothing is asked for
	Samples []float64 `json:"samples"`
}

// results are those of a section.
type results struct {
	On   string `json:"on"`
	Rows []row  `json:"rows"`
}

// Report gathers figures, and knows those of the time before.
type Report struct {
	now, before map[string]results
	section     string
}

// Open reads the figures of the time before.
func Open() (*Report, error) {
	r := &Report{now: map[string]results{}, before: map[string]results{}}
	body, err := os.ReadFile(resultsFile)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err == nil {
		err = errors.Join(json.Unmarshal(body, &r.now), json.Unmarshal(body, &r.before))
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", resultsFile, err)
	}
	return r, nil
}

func (r *Report) Begin(section string) {
	r.section = section
	r.now[section] = results{On: time.Now().Format(time.DateOnly)}
}

// Add adds a figure. asked is the most that it should be, 0 if nothing is asked.
func (r *Report) Add(what, unit string, asked float64, samples ...float64) {
	s := r.now[r.section]
	v := row{what, unit, asked, samples}
	s.Rows = append(s.Rows, v)
	r.now[r.section] = s
	fmt.Printf("%s: %s (%s)%s\n", what, v.median(), v.spread(), v.verdict())
}

func Middle(samples []float64) float64 {
	if len(samples) == 0 {
		return 0
	}
	s := slices.Sorted(slices.Values(samples))
	return (s[(len(s)-1)/2] + s[len(s)/2]) / 2
}

func (v row) number(n float64) string {
	switch {
	case v.Unit == "MiB" || n >= 100:
		return fmt.Sprintf("%.0f", n)
	case n < 0.1:
		return fmt.Sprintf("%.3f", n)
	}
	return fmt.Sprintf("%.2f", n)
}

func (v row) median() string { return v.number(Middle(v.Samples)) + " " + v.Unit }

func (v row) spread() string {
	if len(v.Samples) < 2 {
		return "once"
	}
	return v.number(slices.Min(v.Samples)) + " to " + v.number(slices.Max(v.Samples))
}

func (v row) verdict() string {
	switch {
	case v.Asked == 0:
		return ""
	case Middle(v.Samples) <= v.Asked:
		return " ✓"
	}
	return " ✗"
}

// Save writes the results down, and the page made of them.
func (r *Report) Save() error {
	body, err := json.MarshalIndent(r.now, "", " ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(resultsFile, append(body, '\n'), 0o644); err != nil {
		return err
	}
	t, err := template.New("page").Funcs(template.FuncMap{"table": r.table, "machine": machine}).Parse(page)
	if err != nil {
		return err
	}
	f, err := os.Create(pageFile)
	if err != nil {
		return err
	}
	return errors.Join(t.Execute(f, nil), f.Close())
}

func machine() string {
	qemu, _ := exec.Command("qemu-system-x86_64", "--version").Output()
	words := strings.Fields(string(qemu))
	version := "none"
	if len(words) > 3 {
		version = words[3]
	}
	return fmt.Sprintf("%d cores, %s, QEMU %s", runtime.NumCPU(), runtime.Version(), version)
}

// table is a section's, in Markdown.
func (r *Report) table(section string) string {
	s, ok := r.now[section]
	if !ok {
		return "*(not measured yet: `make bench`)*"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s:\n\n| what | median | least to most | asked for | |\n|---|---|---|---|---|", s.On)
	for _, v := range s.Rows {
		asked := ""
		if v.Asked > 0 {
			asked = v.number(v.Asked) + " " + v.Unit
		}
		fmt.Fprintf(&b, "\n| %s | %s | %s | %s |%s |", v.What, v.median(), v.spread(), asked, v.verdict())
	}
	return b.String()
}

// TellSlower names what got worse since the results of the time before: its median lies a tenth above that one, and above all of that time's.
func (r *Report) TellSlower() {
	for _, section := range slices.Sorted(maps.Keys(r.now)) {
		for _, v := range r.now[section].Rows {
			old := r.before[section].Rows
			i := slices.IndexFunc(old, func(o row) bool { return o.What == v.What })
			if i < 0 || len(old[i].Samples) == 0 || v.Unit == "MiB/s" {
				continue
			}
			if now := Middle(v.Samples); now > 1.1*Middle(old[i].Samples) && now > slices.Max(old[i].Samples) {
				fmt.Printf("worse than on %s: %s: %s, before %s (%s)\n", r.before[section].On, v.What, v.median(), old[i].median(), old[i].spread())
			}
		}
	}
}
