package pooled

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
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

// BenchmarkSweepPlan plans a sweep of a thousand images of fifty machines with five million pieces between them.
func BenchmarkSweepPlan(b *testing.B) {
	const (
		machines, imagesEach = 50, 20
		pieces               = 80_000
	)
	s, m := bare(b)
	ctx := context.Background()
	rng := rand.New(rand.NewPCG(2, 2))
	total := 0
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
			require.NoError(b, v.Finish(ctx, &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: fmt.Sprint("berth-sim-", machine), Taken: moment.AddDate(0, 0, i),
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
	}
}
