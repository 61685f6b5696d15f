package pooled

import (
	"context"
	"errors"
	"io"
	"runtime"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

const (
	// windowUnits is how much of a disk is read at once, in units: 1 MiB, large enough that requests cost little, small enough that several
	// are in flight.
	windowUnits = 256
	// readersAtOnce is how many windows are being read: most of that is waiting for the source.
	readersAtOnce = 4
)

// window is a range of a disk on its way into the image: units, counted from the disk's begin.
type window struct {
	at, n int64
	// kept is taken over from the base: there is nothing to read. begins and ends say that no piece goes on from before, and none beyond.
	kept, begins, ends bool

	buffer []byte // room for the begin of a piece that goes on from the window before, then the window
	marks  []cut.Mark
	read   chan struct{} // closed when it was read

	// What was cut: pieces in the buffer, and where on the disk they lie.
	pieces []span
	at0    int64 // unit of the disk at the buffer's byte 0
	names  []chunk.Name
	stored chan struct{} // closed when names are there
}

// pieceStore is where a disk's pieces go.
type pieceStore interface {
	image.Putter
	PutPieces(ctx context.Context, content []byte, pieces []span) ([]chunk.Name, error)
}

// diskWriter stores one disk.
type diskWriter struct {
	d     disk.Disk
	base  *image.Reader
	put   pieceStore
	cuts  cut.Cuts
	count *store.Progress
	free  chan []byte // buffers of windows
}

// storeDisk reads a disk's data and stores it; it returns the root of the disk's map. Reading, cutting, hashing, compressing and writing
// overlap; pieces are cut, and the map is built, in order. However large the disk, no more than a few windows are in memory. Where the
// disk says that it is unchanged, base, an older image of it, is taken over; without a base it must not say so. With a base, count.Data
// must begin with what that disk held.
func storeDisk(ctx context.Context, d disk.Disk, base *image.Reader, put pieceStore, cuts cut.Cuts, count *store.Progress) (root string, err error) {
	storers := runtime.GOMAXPROCS(0)
	w := &diskWriter{d: d, base: base, put: put, cuts: cuts, count: count, free: make(chan []byte, readersAtOnce+2*storers+2)}
	for range cap(w.free) {
		w.free <- nil // made when it is needed first
	}
	group, ctx := errgroup.WithContext(ctx)
	// Each window goes through all of these but those that are kept, which only pass in the order of the disk.
	toRead, toCut, toStore, toMap := make(chan *window), make(chan *window, cap(w.free)), make(chan *window), make(chan *window, cap(w.free))
	group.Go(func() error {
		defer close(toRead)
		defer close(toCut)
		return w.plan(ctx, func(k *window) error {
			if k.kept {
				return send(ctx, k, toCut)
			}
			select {
			case k.buffer = <-w.free:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
			if k.buffer == nil {
				k.buffer = make([]byte, cuts.Max+windowUnits*cut.Unit)
			}
			if err := send(ctx, k, toCut); err != nil {
				return err
			}
			return send(ctx, k, toRead)
		})
	})
	for range readersAtOnce {
		group.Go(func() error {
			for k := range toRead {
				if err := w.readWindow(k); err != nil {
					return err
				}
				close(k.read)
			}
			return nil
		})
	}
	group.Go(func() error {
		defer close(toStore)
		defer close(toMap)
		return w.cutAll(ctx, toCut, func(k *window) error {
			if err := send(ctx, k, toMap); err != nil || k.kept {
				return err
			}
			return send(ctx, k, toStore)
		})
	})
	for range storers {
		group.Go(func() error {
			for k := range toStore {
				names, err := w.put.PutPieces(ctx, k.buffer, k.pieces)
				if err != nil {
					return err
				}
				k.names = names
				close(k.stored)
			}
			return nil
		})
	}
	group.Go(func() (err error) {
		root, err = w.buildMap(ctx, toMap)
		return err
	})
	return root, group.Wait()
}

func send(ctx context.Context, k *window, to chan<- *window) error {
	select {
	case to <- k:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// plan calls visit for the windows that hold data, in rising order, none twice: kept for units that lie in unchanged extents as a whole. A
// unit of which a part may have changed is read.
func (w *diskWriter) plan(ctx context.Context, visit func(*window) error) error {
	end := (w.d.Size() + cut.Unit - 1) / cut.Unit
	var from, next int64 // what is to be read from and until, and is not shown yet
	flush := func() error {
		for at := from; at < next; {
			until := min(next, (at/windowUnits+1)*windowUnits)
			k := &window{at: at, n: until - at, begins: at == from, ends: until == next, read: make(chan struct{}), stored: make(chan struct{})}
			if err := visit(k); err != nil {
				return err
			}
			at = until
		}
		from = next
		return nil
	}
	err := disk.Walk(ctx, w.d, func(e disk.Extent) error {
		first, last := (e.Offset+cut.Unit-1)/cut.Unit, e.End()/cut.Unit // units that are the extent's alone
		if e.End() == w.d.Size() {
			last = end
		}
		if e.Kind == disk.Data || e.Kind == disk.Zero && last-first < cut.Gap || last <= first { // a piece goes on over few zeros
			next = max(next, (e.End()+cut.Unit-1)/cut.Unit)
			return nil
		}
		next = max(next, first)
		if err := flush(); err != nil {
			return err
		}
		if e.Kind == disk.Unchanged && last > next {
			if err := visit(&window{at: next, n: last - next, kept: true}); err != nil {
				return err
			}
		}
		from, next = last, (e.End()+cut.Unit-1)/cut.Unit
		return nil
	})
	if err != nil {
		return err
	}
	return flush()
}

// head is where a window begins in its buffer.
func (w *diskWriter) head() int { return w.cuts.Max }

func (w *diskWriter) readWindow(k *window) error {
	at, length := k.at*cut.Unit, int(k.n*cut.Unit)
	content := k.buffer[w.head():][:length]
	want := min(int64(length), w.d.Size()-at)
	if n, err := w.d.ReadAt(content[:want], at); int64(n) < want {
		if err == nil || err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	clear(content[want:])
	w.count.Read.Add(want)
	k.marks = make([]cut.Mark, k.n)
	w.cuts.Marks(content, k.marks)
	return nil
}

// cutAll finds the pieces of windows in order, and passes each on. A piece that goes on into the next window is in that one's buffer.
func (w *diskWriter) cutAll(ctx context.Context, windows <-chan *window, pass func(*window) error) error {
	var cutter *cut.Cutter
	var run int64    // unit of the disk at which the cutter began
	var carry []byte // what is not in a piece yet
	for k := range windows {
		if k.kept {
			if err := pass(k); err != nil {
				return err
			}
			continue
		}
		select {
		case <-k.read:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if k.begins {
			cutter, run, carry = w.cuts.Cutter(), k.at, carry[:0]
		}
		begin := w.head() - len(carry)
		copy(k.buffer[begin:], carry)
		k.at0 = k.at - int64(w.head())/cut.Unit
		add := func(from, until int64) {
			if until > 0 {
				k.pieces = append(k.pieces, span{int(run+from-k.at0) * cut.Unit, int(run+until-k.at0) * cut.Unit})
			}
		}
		for _, m := range k.marks {
			add(cutter.Next(m))
		}
		if k.ends {
			add(cutter.Rest())
		}
		end := w.head() + int(k.n)*cut.Unit
		// A copy: the window's buffer is another's when its pieces are stored.
		carry = append(carry[:0], k.buffer[min(end, int(run+cutter.First()-k.at0)*cut.Unit):end]...)
		if err := pass(k); err != nil {
			return err
		}
	}
	return nil
}

// buildMap builds the disk's map from windows in order.
func (w *diskWriter) buildMap(ctx context.Context, windows <-chan *window) (root string, err error) {
	tree := image.NewTreeWriter(w.put, w.d.Size())
	next := int64(0)
	// lose takes back what the base holds in units that are not taken from it.
	lose := func(at, n int64) error {
		if w.base == nil || n <= 0 {
			return nil
		}
		held, err := w.base.Held(ctx, at, n)
		w.count.Data.Add(-held)
		return err
	}
	for k := range windows {
		if err := lose(next, k.at-next); err != nil { // zeros were passed over
			return "", err
		}
		next = k.at + k.n
		if k.kept {
			if w.base == nil {
				return "", errors.New("the source calls a range unchanged, but there is no older image to take it from")
			}
			if err := tree.Keep(ctx, w.base, k.at, k.n); err != nil {
				return "", err
			}
			continue
		}
		if err := lose(k.at, k.n); err != nil {
			return "", err
		}
		select {
		case <-k.stored:
		case <-ctx.Done():
			return "", context.Cause(ctx)
		}
		for i, p := range k.pieces {
			part := image.Part{At: k.at0 + int64(p.from)/cut.Unit, Units: int64(p.until-p.from) / cut.Unit, Piece: k.names[i]}
			w.count.Data.Add(part.Units * cut.Unit)
			if err := tree.Set(ctx, part); err != nil {
				return "", err
			}
		}
		w.free <- k.buffer
		k.buffer = nil
	}
	if err := lose(next, (w.d.Size()+cut.Unit-1)/cut.Unit-next); err != nil {
		return "", err
	}
	return tree.Finish(ctx)
}
