package pooled

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// bufferBytes is how much of files, beside a longest piece, is gathered before it is stored, in bytes. Small files share a frame, so that they are
// compressed together, and yet each is a piece by itself.
const bufferBytes = 1 << 20

// load is a run of pieces of a stream: such as are to be stored, or such as the base has already.
type load struct {
	rope   *image.RopeWriter
	buffer []byte
	pieces []span
	kept   []image.Visit
	names  []chunk.Name
	stored chan struct{} // closed when names are there; nil where nothing is to be stored
}

// filesWriter stores what travels of a server's files.
type filesWriter struct {
	in     *files.Reader
	base   *olderList // nil for none
	put    pieceStore
	cutter *cut.ByteCutter
	most   int // the longest piece
	count  *store.Progress
	free   chan []byte
	pass   func(*load) error

	content, list *stream
	out           image.Files
	counts        files.Counts
}

// stream is one of the two that come of it, under way.
type stream struct {
	rope   *image.RopeWriter
	buffer []byte // room for what was gathered, nil where nothing was
	n      int    // so much of it is filled
	from   int    // what is not in a piece yet begins here
	pieces []span
}

// Files implements [store.Writing]: each file is cut by itself, wherever its content says so. Reading, cutting, storing and building overlap, and no
// more than a few buffers are in memory.
func (p *writing) Files(ctx context.Context, in *files.Reader, base *image.Files, count *store.Progress) (image.Files, error) {
	storers := runtime.GOMAXPROCS(0)
	w := &filesWriter{in: in, put: p.w, cutter: p.s.cuts.Bytes(), most: p.s.cuts.Max, count: count, free: make(chan []byte, 2*storers+4),
		content: &stream{rope: image.NewRopeWriter(p.w)}, list: &stream{rope: image.NewRopeWriter(p.w)}}
	for range cap(w.free) {
		w.free <- nil
	}
	if base != nil {
		var err error
		if w.base, err = openOlder(p.s, base); err != nil {
			return image.Files{}, fmt.Errorf("the list of the older image: %w", err)
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	toStore, toBuild := make(chan *load), make(chan *load, cap(w.free)+storers)
	w.pass = func(b *load) error {
		if b.stored != nil {
			select {
			case toStore <- b:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		select {
		case toBuild <- b:
			return nil
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	group.Go(func() error {
		defer close(toStore)
		defer close(toBuild)
		return w.read(ctx)
	})
	for range storers {
		group.Go(func() (err error) {
			for b := range toStore {
				if b.names, err = p.w.PutPieces(ctx, b.buffer, b.pieces); err != nil {
					return err
				}
				close(b.stored)
			}
			return nil
		})
	}
	group.Go(func() error { return w.build(ctx, toBuild) })
	if err := group.Wait(); err != nil {
		return w.out, err
	}
	var err error
	if w.out.Content, err = w.content.rope.Finish(ctx); err == nil {
		w.out.List, err = w.list.rope.Finish(ctx)
	}
	w.out.Take(&w.counts)
	return w.out, err
}

// build names pieces in their order.
func (w *filesWriter) build(ctx context.Context, batches <-chan *load) error {
	for b := range batches {
		for _, v := range b.kept {
			if err := w.put.Keep(ctx, v.Name, 0); err != nil {
				return err
			}
			if err := b.rope.Add(ctx, v.Name, v.Length); err != nil {
				return err
			}
		}
		if b.stored == nil {
			continue
		}
		select {
		case <-b.stored:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		for i, p := range b.pieces {
			if err := b.rope.Add(ctx, b.names[i], int64(p.until-p.from)); err != nil {
				return err
			}
		}
		w.free <- b.buffer
	}
	return nil
}

// read reads step by step.
func (w *filesWriter) read(ctx context.Context) error {
	if err := w.tell(ctx, []byte(files.ListHead)); err != nil {
		return err
	}
	for {
		s, err := w.in.Next()
		if err != nil {
			return err
		}
		switch {
		case s.Last != nil:
			w.out.LeftOut, w.out.Whole = s.Last.LeftOut, s.Last.Whole
			if err := w.base.end(s.Last); err != nil {
				return err
			}
			if err := w.end(ctx, w.content); err != nil {
				return err
			}
			return w.end(ctx, w.list)
		case s.Entry != nil:
			err = w.entry(ctx, s.Entry)
		default:
			err = w.keep(ctx, s.Keep, s.Skip)
		}
		if err != nil {
			return err
		}
	}
}

// entry stores an entry with its content.
func (w *filesWriter) entry(ctx context.Context, e *files.Entry) error {
	for left := e.Stored(); left > 0; {
		room, err := w.room(ctx, w.content, w.most)
		if err != nil {
			return err
		}
		n, err := io.ReadFull(w.in, room[:min(int64(len(room)), left)])
		w.count.Read.Add(int64(n))
		w.count.Data.Add(int64(n))
		if err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				err = files.ErrCut
			}
			return err
		}
		left -= int64(n)
		w.content.n += n
		w.cut(w.content, left == 0)
	}
	if err := w.in.Settle(e); err != nil {
		return err
	}
	w.counts.Add(e)
	return w.tell(ctx, files.AppendEntry(nil, e))
}

// room gives room for at least so much of a stream.
func (w *filesWriter) room(ctx context.Context, s *stream, least int) ([]byte, error) {
	if s.buffer != nil && len(s.buffer)-s.n < least {
		rest := s.buffer[s.from:s.n]
		before := *s
		s.buffer, s.pieces, s.n, s.from = nil, nil, 0, 0
		if err := w.take(ctx, s); err != nil {
			return nil, err
		}
		s.n = copy(s.buffer, rest)
		if err := w.pass(&load{rope: s.rope, buffer: before.buffer, pieces: before.pieces, stored: make(chan struct{})}); err != nil {
			return nil, err
		}
	}
	if s.buffer == nil {
		if err := w.take(ctx, s); err != nil {
			return nil, err
		}
	}
	return s.buffer[s.n:], nil
}

func (w *filesWriter) take(ctx context.Context, s *stream) error {
	select {
	case s.buffer = <-w.free:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	if s.buffer == nil {
		s.buffer = make([]byte, bufferBytes+2*w.most)
	}
	return nil
}

// cut finds pieces in what was gathered; the last one may be short where it ends.
func (w *filesWriter) cut(s *stream, ends bool) {
	for s.n-s.from >= w.most || ends && s.n > s.from {
		n := w.cutter.First(s.buffer[s.from:s.n])
		s.pieces = append(s.pieces, span{s.from, s.from + n})
		s.from += n
	}
}

// end passes what was gathered on.
func (w *filesWriter) end(ctx context.Context, s *stream) error {
	if s.buffer == nil {
		return nil
	}
	w.cut(s, true)
	b := &load{rope: s.rope, buffer: s.buffer, pieces: s.pieces, stored: make(chan struct{})}
	s.buffer, s.pieces, s.n, s.from = nil, nil, 0, 0
	return w.pass(b)
}

// tell adds lines to the list.
func (w *filesWriter) tell(ctx context.Context, lines []byte) error {
	for len(lines) > 0 {
		room, err := w.room(ctx, w.list, w.most)
		if err != nil {
			return err
		}
		n := copy(room, lines)
		lines = lines[n:]
		w.list.n += n
		w.cut(w.list, false)
	}
	return nil
}

// keep takes entries of the base over, and passes over others.
func (w *filesWriter) keep(ctx context.Context, keep, skip int64) error {
	if w.base == nil {
		return errors.New("the server says that files are unchanged, but there is no older image to take them from")
	}
	from := w.base.at
	var lines []byte
	for range keep {
		e, raw, err := w.base.next()
		if err != nil {
			return err
		}
		w.counts.Add(&e)
		w.count.Data.Add(e.Stored())
		if lines = append(lines, raw...); len(lines) > 64<<10 {
			if err := w.tell(ctx, lines); err != nil {
				return err
			}
			lines = lines[:0]
		}
	}
	if err := w.tell(ctx, lines); err != nil {
		return err
	}
	if w.base.at > from {
		if err := w.end(ctx, w.content); err != nil { // what is kept comes after what was gathered
			return err
		}
		if err := w.keepContent(ctx, from, w.base.at); err != nil {
			return err
		}
	}
	for range skip {
		if _, _, err := w.base.next(); err != nil {
			return err
		}
	}
	return nil
}

// keptAtOnce bounds the pieces that are taken over in one load.
const keptAtOnce = 4096

// keepContent takes a range of the base's content over. Pieces are a file's alone, so that a range of whole files is one of whole pieces.
func (w *filesWriter) keepContent(ctx context.Context, from, until int64) error {
	b := &load{rope: w.content.rope}
	err := w.base.content.Pieces(ctx, from, until, func(v image.Visit) error {
		if v.Offset < from || v.Offset+v.Length > until {
			return fmt.Errorf("%w: a piece of the older image belongs to two files", chunk.ErrDamaged)
		}
		if b.kept = append(b.kept, v); len(b.kept) < keptAtOnce {
			return nil
		}
		full := b
		b = &load{rope: w.content.rope}
		return w.pass(full)
	})
	if err != nil {
		return err
	}
	return w.pass(b)
}

// olderList is the list of an older image, read along with what is said of it.
type olderList struct {
	list    *files.ListReader
	content *image.Rope
	at      int64 // in its content, where the next entry's begins
	sum     *files.PathSum
}

func openOlder(s *Store, f *image.Files) (*olderList, error) {
	o := &olderList{sum: files.NewPathSum()}
	list, err := whole(s, f.List)
	if err != nil {
		return nil, err
	}
	if o.content, err = image.OpenRope(s, f.Content); err != nil {
		return nil, err
	}
	o.list, err = files.NewListReader(list)
	return o, err
}

func (o *olderList) next() (e files.Entry, raw []byte, err error) {
	e, raw, err = o.list.Next()
	if errors.Is(err, io.EOF) {
		err = fmt.Errorf("%w: it speaks of more files than there were", store.ErrOtherFiles)
	}
	o.at += e.Stored()
	o.sum.Add(e.Path)
	return e, raw, err
}

// end makes sure that all of the list was spoken of, and that the server meant this one.
func (o *olderList) end(last *files.Last) error {
	if o == nil {
		return nil
	}
	if _, _, err := o.list.Next(); !errors.Is(err, io.EOF) {
		return errors.Join(fmt.Errorf("%w: it speaks of fewer files than there were", store.ErrOtherFiles), err)
	}
	if o.sum.String() != last.Sum {
		return fmt.Errorf("%w: its files had other names", store.ErrOtherFiles)
	}
	return nil
}
