package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
)

// inside runs the benchmarks of what no command shows by itself.
func inside(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	disk, err := l.rawDisk(ctx, "berth-sim", 2, "", "/usr/bin", "/usr/share")
	if err != nil {
		return err
	}
	if err := cores(r, disk); err != nil {
		return err
	}
	if _, err := l.backup(ctx, "shelf", "berth-sim", site.Store{}); err != nil {
		return err
	}
	found, err := goBench([]string{"KEENLODGE_SHELF=" + filepath.Join(folder, "shelf"), "KEENLODGE_BENCH=1", "KEENLODGE_PIECES=20000000"}, "RandomReads|Index|SweepPlan|Latency", "./internal/store/pooled", "./internal/mount")
	if err != nil {
		return err
	}
	for _, v := range []struct {
		key, what, unit string
		asked           float64
	}{
		{"RandomReads ms-cold", "read of 4 KiB at random through a mounted image, cold", "ms", 0.57}, {"RandomReads ms-warm", "the same, warm", "ms", 0.018},
		{"Latency/0s store-MiB/s", "store 512 MiB, half of which compresses, to a medium in memory", "MiB/s", 0}, {"Latency/20ms store-MiB/s", "the same where each call takes 20 ms", "MiB/s", 0}, {"Latency/80ms store-MiB/s", "80 ms", "MiB/s", 0},
		{"Latency/0s restore-MiB/s", "read it back, 8 readers of 1 MiB", "MiB/s", 0}, {"Latency/20ms restore-MiB/s", "the same where each call takes 20 ms", "MiB/s", 0}, {"Latency/80ms restore-MiB/s", "80 ms", "MiB/s", 0},
		{"Latency/80ms store-calls", "calls that storing it takes", "calls", 0}, {"Latency/80ms restore-calls", "calls that reading it back takes", "calls", 0}, {"Latency/80ms random-ms", "read of 4 KiB at random, each call 80 ms", "ms", 0},
		{"Latency/80ms random-again-ms", "the same after a restart, with its maps on this host", "ms", 0}, {"Latency/80ms random-sweep-calls", "calls that the plan of a sweep takes", "calls", 0},
		{"Latency/80ms random-again-sweep-calls", "the same after a restart", "calls", 0},
		{"IndexOnThisHost s/make", "index of 20 million pieces in files of this host: made", "s", 0}, {"IndexOnThisHost s/open", "opened again", "s", 0}, {"IndexOnThisHost MiB-resident/open", "memory that the process then takes", "MiB", 500},
		{"Index bytes/piece", "index of 10 million pieces, a piece", "bytes", 64}, {"Index s/open", "opening it", "s", 3},
		{"SweepPlan s/plan", "plan of a sweep, 1000 images, 5.4 million pieces", "s", 15}, {"SweepPlan s/next-plan", "the next one, after an image went and one came", "s", 0},
	} {
		samples, ok := found[v.key]
		if !ok {
			return fmt.Errorf("the benchmark %s said nothing", v.key)
		}
		r.Add(v.what, v.unit, v.asked, samples)
	}
	return nil
}

// cores measures how much faster two cores store a disk than one does, without QEMU, and reckons what more would give: by Amdahl's law, from
// the share that went in a row.
func cores(r *report.Report, disk string) error {
	program := filepath.Join(folder, "pooled.test")
	if err := shell("go test -c -o %s ./internal/store/pooled", program); err != nil {
		return err
	}
	var row []float64
	for range rounds {
		var took [2]float64
		for i, set := range []string{"0", "0,1"} {
			cmd := exec.Command("taskset", "-c", set, program, "-test.run", "^$", "-test.bench", "StoreDisk", "-test.benchtime", "1x")
			cmd.Env = append(os.Environ(), "KEENLODGE_DISK="+disk)
			out, err := cmd.CombinedOutput()
			if err != nil {
				return fmt.Errorf("%s: %w: %s", strings.Join(cmd.Args, " "), err, out)
			}
			for line := range strings.Lines(string(out)) {
				if fields := strings.Fields(line); len(fields) > 3 && strings.HasPrefix(line, "BenchmarkStoreDisk") {
					took[i], _ = strconv.ParseFloat(fields[2], 64)
				}
			}
		}
		row = append(row, took[0]/took[1])
	}
	r.Add("store a disk without QEMU: two cores against one", "×", 0, row...)
	// Of the time on one core, the share s goes in a row: speed-up(n) = 1/(s + (1-s)/n).
	s := min(1, max(0, 2/report.Middle(row)-1))
	for _, n := range []float64{4, 8, 16} {
		r.Add(fmt.Sprintf("reckoned from that: %.0f cores against one", n), "×", 0, 1/(s+(1-s)/n))
	}
	return nil
}

// manyMachines measures a run of many machines inside of a process.
func manyMachines(r *report.Report) error {
	found, err := goBench(nil, "ManyMachines", "./internal/lodge")
	if err != nil {
		return err
	}
	for _, v := range []struct{ metric, what, unit string }{{"cpu-ms/machine", "processor time of service and source, a machine", "ms"}, {"statements/machine", "statements to the database, a machine", "statements"}} {
		few, many := found["ARunOfManyMachines/200 "+v.metric], found["ARunOfManyMachines/2000 "+v.metric]
		r.Add("a run of 200 machines of the fake source that give 1 MiB each: "+v.what, v.unit, 0, few)
		r.Add("of 2,000: the same, against 200", "×", 2, many/few)
	}
	return nil
}

// goBench runs benchmarks once and gives their metrics, by the benchmark's name and the metric's.
func goBench(environment []string, pattern string, packages ...string) (map[string]float64, error) {
	cmd := exec.Command("go", append([]string{"test", "-run", "^$", "-bench", pattern, "-benchtime", "1x"}, packages...)...)
	cmd.Env = append(os.Environ(), environment...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %s", strings.Join(cmd.Args, " "), err, out)
	}
	found := map[string]float64{}
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		if len(fields) < 4 || !strings.HasPrefix(line, "Benchmark") {
			continue
		}
		name := strings.TrimPrefix(fields[0], "Benchmark")
		if i := strings.LastIndexByte(name, '-'); i > 0 { // the number of processors
			name = name[:i]
		}
		for i := 2; i+1 < len(fields); i += 2 {
			if n, err := strconv.ParseFloat(fields[i], 64); err == nil {
				found[name+" "+fields[i+1]] = n
			}
		}
	}
	return found, nil
}
