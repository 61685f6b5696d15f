package pooled

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
)

// pieceBytes is the length of a piece in benchmarks.
const pieceBytes = 64 << 10

// bare is a store in a folder on disk, for benchmarks.
func bare(b *testing.B) (*Store, *dir.Dir) {
	if os.Getenv("KEENLODGE_BENCH") == "" {
		b.Skip("takes minutes and gigabytes; make bench sets KEENLODGE_BENCH")
	}
	folder, err := os.MkdirTemp("/var/tmp", "brindle-bench-")
	require.NoError(b, err)
	b.Cleanup(func() { os.RemoveAll(folder) })
	m, err := dir.Open(folder)
	require.NoError(b, err)
	s, err := Make(b.Context(), m, moment, NewCuts(), nil)
	require.NoError(b, err)
	return s, m
}

// claim writes indexes of packs that are there by name only: neither an open store nor the plan of a sweep reads them.
func claim(b *testing.B, s *Store, m *dir.Dir, names []chunk.Name) {
	const inPack = 400
	root := m.Root()
	for len(names) > 0 {
		var packs []landedPack
		for range min(2000, (len(names)+inPack-1)/inPack) {
			n := min(inPack, len(names))
			p := chunk.NewPack(nil, chunk.NewPackID(), nil)
			for _, name := range names[:n] {
				p.Add([]chunk.Piece{{Name: name, Size: pieceBytes}}, nil, chunk.Plain)
			}
			names = names[n:]
			_, d := p.Finish()
			packs = append(packs, landedPack{d, 1})
			path := filepath.Join(root, packName(d.Pack))
			os.MkdirAll(filepath.Dir(path), 0o700)
			require.NoError(b, os.WriteFile(path, []byte{0}, 0o600))
		}
		require.NoError(b, s.writeIndex(context.Background(), packs))
	}
}

func randomNames(rng *rand.Rand, n int) []chunk.Name {
	names := make([]chunk.Name, n)
	for i := range names {
		for j := 0; j < 32; j += 8 {
			v := rng.Uint64()
			for k := range 8 {
				names[i][j+k] = byte(v >> (8 * k))
			}
		}
	}
	return names
}

func heap() float64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc)
}

// BenchmarkIndex opens a store of ten million pieces.
func BenchmarkIndex(b *testing.B) {
	const n = 10_000_000
	s, m := bare(b)
	claim(b, s, m, randomNames(rand.New(rand.NewPCG(1, 1)), n))
	s = nil
	for b.Loop() {
		before := heap()
		begun := time.Now()
		again, err := Open(context.Background(), m, nil)
		require.NoError(b, err)
		took := time.Since(begun).Seconds()
		require.Equal(b, n, again.table.len())
		b.ReportMetric((heap()-before)/n, "bytes/piece")
		b.ReportMetric(took, "s/open")
		runtime.KeepAlive(again)
	}
}

// BenchmarkSweepPlan plans a sweep of a thousand images of fifty machines with five million pieces between them, and another one after an image
// was dropped and one came.
func BenchmarkSweepPlan(b *testing.B) {
	const (
		machines, imagesEach = 50, 20
		pieces               = 80_000
	)
	s, m := bare(b)
	ctx := context.Background()
	rng := rand.New(rand.NewPCG(2, 2))
	total, last := 0, ""
	for machine := range machines {
		names := randomNames(rng, pieces)
		all := append([]chunk.Name{}, names...)
		v, err := s.VisitToWrite(ctx, image.NewID(), "bench")
		require.NoError(b, err)
		for i := range imagesEach {
			if i > 0 {
				for _, fresh := range randomNames(rng, pieces/100) {
					names[rng.IntN(pieces)] = fresh
					all = append(all, fresh)
				}
			}
			w := v.NewWriter(ctx)
			tree := image.NewTreeWriter(w, pieces*pieceBytes)
			for j, name := range names {
				require.NoError(b, tree.Set(ctx, image.Part{At: int64(j) * pieceBytes / cut.Unit, Units: pieceBytes / cut.Unit, Piece: name}))
			}
			root, err := tree.Finish(ctx)
			require.NoError(b, err)
			require.NoError(b, w.Flush(ctx))
			last = image.NewID()
			require.NoError(b, v.Finish(ctx, &image.Manifest{Format: image.Format, ID: last, Machine: fmt.Sprint("berth-sim-", machine), Taken: moment.AddDate(0, 0, i),
				Disks: []image.Disk{{Target: "vda", Size: pieces * pieceBytes, Map: root}}}))
		}
		require.NoError(b, v.End(ctx))
		claim(b, s, m, all)
		total += len(all)
	}
	b.Log(fmt.Sprint(total, " pieces"))
	for b.Loop() {
		again, err := Open(ctx, m, nil)
		require.NoError(b, err)
		begun := time.Now()
		r, err := again.Sweep(ctx, store.SweepRequest{DryRun: true})
		require.NoError(b, err)
		require.Equal(b, machines*imagesEach, r.Images)
		b.ReportMetric(time.Since(begun).Seconds(), "s/plan")
		b.ReportMetric(float64(r.Blocks), "pieces")
		man, err := again.ReadImage(ctx, last)
		require.NoError(b, err)
		require.NoError(b, again.DropImage(ctx, last))
		r, err = again.Sweep(ctx, store.SweepRequest{DryRun: true})
		require.NoError(b, err)
		require.Equal(b, machines*imagesEach-1, r.Images)
		v, err := again.VisitToWrite(ctx, image.NewID(), "bench")
		require.NoError(b, err)
		require.NoError(b, again.Refresh(ctx))
		require.NoError(b, v.Finish(ctx, man))
		require.NoError(b, v.End(ctx))
		begun = time.Now()
		r, err = again.Sweep(ctx, store.SweepRequest{DryRun: true})
		require.NoError(b, err)
		require.Equal(b, machines*imagesEach, r.Images)
		b.ReportMetric(time.Since(begun).Seconds(), "s/next-plan")
	}
}

// BenchmarkLatency stores 512 MiB, half of which compresses, to a medium whose every call takes so long, opens the store anew, reads the image
// back with several readers as a restore does, and reads 4 KiB at random.
func BenchmarkLatency(b *testing.B) {
	if os.Getenv("KEENLODGE_BENCH") == "" {
		b.Skip("takes gigabytes of memory; make bench sets KEENLODGE_BENCH")
	}
	const size, readers = 512 << 20, 8
	d := make(disk.Memory, size)
	rng := rand.New(rand.NewPCG(3, 3))
	for i := range d {
		d[i] = byte(rng.Uint32())
		if i%(128<<10) > 64<<10 {
			d[i] &= 3
		}
	}
	for _, delay := range []time.Duration{0, 20 * time.Millisecond, 80 * time.Millisecond} {
		b.Run(delay.String(), func(b *testing.B) {
			for b.Loop() {
				var calls atomic.Int64
				m := &mediumtest.Memory{Shelf: mediumtest.NewShelf(), Around: func(_, _ string, act func() error) error {
					calls.Add(1)
					time.Sleep(delay)
					return act()
				}}
				note := func(what string, begun time.Time, n int64) {
					took := time.Since(begun).Seconds()
					if n > 0 {
						b.ReportMetric(float64(n)/(1<<20)/took, what+"-MiB/s")
					} else {
						b.ReportMetric(took, what+"-s")
					}
					b.ReportMetric(float64(calls.Swap(0)), what+"-calls")
				}
				s, err := Make(b.Context(), m, moment, cut.Default(1), nil)
				require.NoError(b, err)
				calls.Store(0)
				begun := time.Now()
				man := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment}
				w, err := s.Begin(b.Context(), man, store.WriteOptions{Program: "bench"})
				require.NoError(b, err)
				out, err := w.Disk(b.Context(), "vda", "raw", d, nil, &store.Progress{})
				require.NoError(b, err)
				man.Disks = []image.Disk{out}
				require.NoError(b, w.Flush(b.Context()))
				require.NoError(b, w.Finish(b.Context(), man))
				require.NoError(b, w.End(b.Context(), nil))
				note("store", begun, size)

				begun = time.Now()
				s, err = Open(b.Context(), m, nil)
				require.NoError(b, err)
				note("open", begun, 0)
				opened, err := s.OpenDisk(b.Context(), man, out)
				require.NoError(b, err)
				begun = time.Now()
				group, _ := errgroup.WithContext(b.Context())
				group.SetLimit(readers)
				for at := int64(0); at < size; at += 1 << 20 {
					group.Go(func() error {
						_, err := opened.ReadAt(make([]byte, 1<<20), at)
						return err
					})
				}
				require.NoError(b, group.Wait())
				require.NoError(b, opened.Close())
				note("restore", begun, size)

				here := Here{Folder: b.TempDir(), Far: true}
				for _, what := range []string{"random", "random-again"} { // with maps of the first time on this host
					s, err = OpenKeeping(b.Context(), m, nil, here)
					require.NoError(b, err)
					opened, err = s.OpenDisk(b.Context(), man, out)
					require.NoError(b, err)
					calls.Store(0)
					begun = time.Now()
					for range 100 {
						_, err := opened.ReadAt(make([]byte, 4096), rng.Int64N(size/4096)*4096)
						require.NoError(b, err)
					}
					b.ReportMetric(time.Since(begun).Seconds()*10, what+"-ms")
					b.ReportMetric(float64(calls.Load()), what+"-calls")
					require.NoError(b, opened.Close())
					calls.Store(0)
					_, err = s.Sweep(b.Context(), store.SweepRequest{DryRun: true})
					require.NoError(b, err)
					b.ReportMetric(float64(calls.Load()), what+"-sweep-calls")
					require.NoError(b, s.Close())
				}
			}
		})
	}
}

// BenchmarkIndexOnThisHost opens a store of a hundred million pieces, or of as many as KEENLODGE_PIECES says, whose index is kept on this host:
// first when it has to be made, then from what is there, in a process that has done nothing else.
func BenchmarkIndexOnThisHost(b *testing.B) {
	n, err := strconv.Atoi(os.Getenv("KEENLODGE_PIECES"))
	if err != nil {
		b.Skip("takes minutes and 20 GB for 100,000,000 pieces; KEENLODGE_PIECES says how many")
	}
	s, m := bare(b)
	rng := rand.New(rand.NewPCG(1, 1))
	for done := 0; done < n; done += 10_000_000 {
		claim(b, s, m, randomNames(rng, min(10_000_000, n-done)))
	}
	s = nil
	folder := m.Root() + "-index"
	defer os.RemoveAll(folder)
	for b.Loop() {
		for _, what := range []string{"make", "open"} {
			begun := time.Now()
			again, err := OpenKeeping(context.Background(), m, nil, Here{Folder: folder})
			require.NoError(b, err)
			b.ReportMetric(time.Since(begun).Seconds(), "s/"+what)
			require.NotNil(b, again.local)
			require.Equal(b, n, again.table.len())
			b.ReportMetric(resident(), "MiB-resident/"+what)
			begun = time.Now()
			require.NoError(b, again.closeLocal())
			b.ReportMetric(time.Since(begun).Seconds(), "s/close-after-"+what)
		}
	}
}

// resident is what of this process is in memory now, in MiB (proc(5), statm).
func resident() float64 {
	debug.FreeOSMemory()
	body, _ := os.ReadFile("/proc/self/statm")
	fields := strings.Fields(string(body))
	pages, _ := strconv.ParseFloat(fields[1], 64)
	return pages * float64(os.Getpagesize()) / (1 << 20)
}
