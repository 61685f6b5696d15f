package pooled

import (
	"context"
	"errors"
	"io"
	"runtime"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// pieceBytes is how much of a disk is read at once: large enough that requests cost little, small enough that several
// are in flight.
const pieceBytes = 1 << 20

// piece is a row of blocks on its way from the disk into the tree.
type piece struct {
	first, n int64
	kept     bool // taken over from the base: there is nothing to read
	names    []chunk.Name
	done     chan struct{}
}

// storeDisk reads a disk's data and stores it; it returns the root of the disk's tree. Reading, hashing, compressing and
// writing overlap; the tree is built in order. However large the disk, no more than a few pieces are in memory. Where the disk
// says that it is unchanged, base, an older image of it, is taken over; without a base it must not say so. With a base,
// count.data must begin with what that disk held.
func storeDisk(ctx context.Context, d disk.Disk, base *image.Reader, put image.Putter, blockSize int, count *store.Progress) (string, error) {
	group, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0) + 2 // some wait for the source while others compress
	work, order := make(chan *piece, workers), make(chan *piece, 4*workers)
	group.Go(func() error {
		defer close(work)
		defer close(order)
		return cut(ctx, d, int64(blockSize), func(first, n int64, kept bool) error {
			p := &piece{first: first, n: n, kept: kept, done: make(chan struct{})}
			lanes := []chan *piece{order, work}
			if kept {
				close(p.done)
				lanes = lanes[:1]
			}
			for _, to := range lanes {
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
				if err := storePiece(ctx, d, put, int64(blockSize), p, buffer, count); err != nil {
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
		next := int64(0)
		// lose takes back what the base holds in blocks that are not taken from it.
		lose := func(first, n int64) error {
			if base == nil || n == 0 {
				return nil
			}
			held, err := base.Held(ctx, first, n)
			count.Data.Add(-held * int64(blockSize))
			return err
		}
		for p := range order {
			select {
			case <-p.done:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
			if err := lose(next, p.first-next); err != nil { // zeros were passed over
				return err
			}
			next = p.first + p.n
			if p.kept {
				if base == nil {
					return errors.New("the source calls blocks unchanged, but there is no older image to take them from")
				}
				if err := tree.Keep(ctx, base, p.first, p.n); err != nil {
					return err
				}
				continue
			}
			if err := lose(p.first, p.n); err != nil {
				return err
			}
			for i, name := range p.names {
				if name.IsZero() {
					continue
				}
				count.Data.Add(int64(blockSize))
				if err := tree.Set(ctx, p.first+int64(i), name); err != nil {
					return err
				}
			}
		}
		err := lose(next, (d.Size()+int64(blockSize)-1)/int64(blockSize)-next)
		if err == nil {
			root, err = tree.Finish(ctx)
		}
		return err
	})
	return root, group.Wait()
}

// cut calls visit for rows of blocks that hold data, in rising order, none twice: kept for those that lie in unchanged extents
// as a whole. A block of which a part may have changed is read.
func cut(ctx context.Context, d disk.Disk, blockSize int64, visit func(first, n int64, kept bool) error) error {
	most := max(1, pieceBytes/blockSize)
	var next int64
	rows := func(end, atOnce int64, kept bool) error {
		for next < end {
			first := next
			next = min(end, first+atOnce)
			if err := visit(first, next-first, kept); err != nil {
				return err
			}
		}
		return nil
	}
	return disk.Walk(ctx, d, func(e disk.Extent) error {
		if e.Kind == disk.Zero {
			return nil
		}
		end := (e.End() + blockSize - 1) / blockSize
		next = max(next, e.Offset/blockSize)
		if e.Kind == disk.Data {
			return rows(end, most, false)
		}
		whole := e.End() / blockSize
		if e.End() == d.Size() {
			whole = end
		}
		if err := rows(min(whole, (e.Offset+blockSize-1)/blockSize), most, false); err != nil {
			return err
		}
		if err := rows(whole, 1<<40, true); err != nil {
			return err
		}
		return rows(end, most, false)
	})
}

func storePiece(ctx context.Context, d disk.Disk, put image.Putter, blockSize int64, p *piece, buffer []byte, count *store.Progress) error {
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
	count.Read.Add(want)
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
