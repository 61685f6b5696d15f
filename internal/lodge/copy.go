package lodge

import (
	"context"
	"io"
	"runtime"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
)

// pieceBytes is how much of a disk is read at once: large enough that requests cost little, small enough that several
// are in flight.
const pieceBytes = 1 << 20

// piece is a row of blocks on its way from the disk into the tree.
type piece struct {
	first, n int64
	names    []chunk.Name
	done     chan struct{}
}

// storeDisk reads a disk's data and stores it; it returns the root of the disk's tree. Reading, hashing, compressing and
// writing overlap; the tree is built in order. progress counts the bytes read. However large the disk, no more than a
// few pieces are in memory.
func storeDisk(ctx context.Context, d disk.Disk, put image.Putter, blockSize int, progress *atomic.Int64) (string, error) {
	group, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0) + 2 // some wait for the source while others compress
	work, order := make(chan *piece, workers), make(chan *piece, 4*workers)
	group.Go(func() error {
		defer close(work)
		defer close(order)
		return cut(ctx, d, int64(blockSize), func(first, n int64) error {
			p := &piece{first: first, n: n, done: make(chan struct{})}
			for _, to := range []chan *piece{order, work} {
				select {
				case to <- p:
				case <-ctx.Done():
					return context.Cause(ctx)
				}
			}
			return nil
		})
	})
	for range workers {
		group.Go(func() error {
			buffer := make([]byte, max(pieceBytes, blockSize))
			for p := range work {
				if err := storePiece(ctx, d, put, int64(blockSize), p, buffer, progress); err != nil {
					return err
				}
				close(p.done)
			}
			return nil
		})
	}
	var root string
	group.Go(func() error {
		tree := image.NewTreeWriter(put, d.Size(), blockSize)
		for p := range order {
			select {
			case <-p.done:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
			for i, name := range p.names {
				if name.IsZero() {
					continue
				}
				if err := tree.Set(ctx, p.first+int64(i), name); err != nil {
					return err
				}
			}
		}
		var err error
		root, err = tree.Finish(ctx)
		return err
	})
	return root, group.Wait()
}

// cut calls visit for rows of blocks that hold data, in rising order, none twice.
func cut(ctx context.Context, d disk.Disk, blockSize int64, visit func(first, n int64) error) error {
	most := max(1, pieceBytes/blockSize)
	var next int64
	return disk.Walk(ctx, d, func(e disk.Extent) error {
		if e.Kind == disk.Zero {
			return nil
		}
		end := (e.End() + blockSize - 1) / blockSize
		for first := max(next, e.Offset/blockSize); first < end; first = next {
			n := min(most, end-first)
			next = first + n
			if err := visit(first, n); err != nil {
				return err
			}
		}
		return nil
	})
}

func storePiece(ctx context.Context, d disk.Disk, put image.Putter, blockSize int64, p *piece, buffer []byte, progress *atomic.Int64) error {
	at := p.first * blockSize
	whole := buffer[:p.n*blockSize]
	want := min(int64(len(whole)), d.Size()-at)
	if n, err := d.ReadAt(whole[:want], at); int64(n) < want {
		if err == nil || err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	clear(whole[want:])
	progress.Add(want)
	p.names = make([]chunk.Name, p.n)
	for i := range p.names {
		block := whole[int64(i)*blockSize:][:blockSize]
		if disk.IsZero(block) {
			continue
		}
		name, err := put.Put(ctx, block)
		if err != nil {
			return err
		}
		p.names[i] = name
	}
	return nil
}
