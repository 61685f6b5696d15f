package agent

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/source"
)

// mostSteps bounds the steps of a plan that are taken from a server: what is beyond it fails.
const mostSteps = 20_000_000

// PlanFiles implements [source.Unpacker].
func (s *Source) PlanFiles(ctx context.Context, name string, o back.Order, list io.Reader, visit func(back.Step) error) (sum source.PlanSum, err error) {
	conn, err := s.open(ctx, name, line.CallPlan, o, nil)
	if err != nil {
		return sum, err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	out := bufio.NewWriterSize(conn, 256<<10)
	chunks := line.ChunkWriter{W: out}
	err = send(chunks, list)
	if err == nil {
		if err = errors.Join(chunks.Close(), out.Flush()); err != nil {
			err = fmt.Errorf("%w: %w", line.ErrCut, err)
		}
	}
	if ctx.Err() != nil {
		return sum, context.Cause(ctx)
	}
	if errors.Is(err, line.ErrCut) {
		return sum, told(name, err)
	}
	if err != nil {
		return sum, err // what the image can't give
	}
	in := json.NewDecoder(bufio.NewReaderSize(conn, 64<<10))
	for range mostSteps {
		var p line.Planned
		if err := in.Decode(&p); err != nil {
			if ctx.Err() != nil {
				return sum, context.Cause(ctx)
			}
			return sum, told(name, fmt.Errorf("%w: %w", line.ErrCut, err))
		}
		switch {
		case p.Failed != "":
			return sum, fmt.Errorf("%w: server %s: %s", fault.ErrConflict, name, plain.Text(p.Failed, 4<<10))
		case p.Sum != nil:
			return source.PlanSum{Digest: plain.Text(p.Sum.Digest, 100), Counts: p.Sum.Counts, Short: plain.Text(p.Sum.Short, 1<<10)}, nil
		case p.Step != nil:
			p.Step.Why = plain.Text(p.Step.Why, 1<<10)
			if err := visit(*p.Step); err != nil {
				return sum, err
			}
		}
	}
	return sum, fmt.Errorf("server %s tells of more than %d paths", name, mostSteps)
}

// noting notes an error of what is read, to tell it from one of what is written to.
type noting struct {
	io.Reader
	err error
}

func (n *noting) Read(p []byte) (int, error) {
	m, err := n.Reader.Read(p)
	if err != nil && err != io.EOF {
		n.err = err
	}
	return m, err
}

// send sends all that is read. Its error is of what is read, or of a line that was cut.
func send(to io.Writer, from io.Reader) error {
	in := &noting{Reader: from}
	_, err := io.CopyBuffer(struct{ io.Writer }{to}, in, make([]byte, 512<<10))
	if in.err != nil {
		return in.err
	}
	if err != nil {
		return fmt.Errorf("%w: %w", line.ErrCut, err)
	}
	return nil
}

// PutFiles implements [source.Unpacker].
func (s *Source) PutFiles(ctx context.Context, name, id, digest string, archive io.Reader, progress func(back.Progress)) (back.Done, error) {
	conn, err := s.open(ctx, name, line.CallPut, line.Put{ID: id, Digest: digest}, nil)
	if err != nil {
		return back.Done{}, err
	}
	defer conn.Close()
	sent := make(chan error, 1)
	go func() {
		err := send(conn, archive)
		if sent <- err; err != nil { // it gets no more, and ends by itself
			conn.Close()
		}
	}()
	done, err := s.heed(ctx, name, conn, progress)
	if err != nil {
		conn.Close()
		if first := <-sent; first != nil && !errors.Is(first, line.ErrCut) { // what the image can't give is why
			err = fmt.Errorf("%w: %s", first, err) // the line is not cut
		}
	}
	return done, err
}

// UndoFiles implements [source.Unpacker].
func (s *Source) UndoFiles(ctx context.Context, name, id string, progress func(back.Progress)) (back.Done, error) {
	conn, err := s.open(ctx, name, line.CallUndo, id, nil)
	if err != nil {
		return back.Done{}, err
	}
	defer conn.Close()
	return s.heed(ctx, name, conn, progress)
}

// heed hears how far it has come, and what came of it.
func (s *Source) heed(ctx context.Context, name string, conn net.Conn, progress func(back.Progress)) (done back.Done, err error) {
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	in := json.NewDecoder(conn)
	for {
		var t line.Told
		err := in.Decode(&t)
		switch {
		case ctx.Err() != nil:
			return done, context.Cause(ctx)
		case err != nil:
			return done, told(name, fmt.Errorf("%w: %w", line.ErrCut, err))
		case t.Done == nil && t.Progress != nil:
			progress(*t.Progress)
		case t.Done != nil:
			for i := range t.Done.Failed {
				f := &t.Done.Failed[i]
				f.Path, f.Why = plain.Text(f.Path, 4<<10), plain.Text(f.Why, 1<<10)
			}
			if t.Failed != "" {
				return *t.Done, fmt.Errorf("server %s: %s", name, plain.Text(t.Failed, 4<<10))
			}
			return *t.Done, nil
		}
	}
}
