package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/source"
)

// filesCapture is a capture of a server's files.
type filesCapture struct {
	session
	walked line.Walked
}

// Disks implements [source.Capture]: it has none.
func (*filesCapture) Disks() []source.CapturedDisk { return nil }

// Consistency implements [source.Capture]: the server goes on while its files are read.
func (*filesCapture) Consistency() (image.Consistency, time.Duration) { return image.EachFile, 0 }

// Definition implements [source.Capture].
func (c *filesCapture) Definition() string { return indented(c.walked.System) }

// indented is JSON that a person can read.
func indented(body json.RawMessage) string {
	var out bytes.Buffer
	if err := json.Indent(&out, body, "", "  "); err != nil {
		return string(body)
	}
	return out.String()
}

// captureFiles begins a capture of files.
func (s *Source) captureFiles(ctx context.Context, r source.Request) (source.Capture, error) {
	c := &filesCapture{session: session{s: s, r: r}}
	if err := c.beginFiles(ctx); err != nil {
		return nil, errors.Join(err, c.Close(context.WithoutCancel(ctx), false, nil))
	}
	return c, nil
}

func (c *filesCapture) beginFiles(ctx context.Context) error {
	if err := c.prepare(ctx); err != nil {
		return err
	}
	w := c.r.Files
	ask := line.Walk{ID: c.r.ID, Since: c.r.Since, Remember: c.r.Checkpoint, Files: line.Files{System: w.System, Parts: w.Parts, LeaveOut: w.LeaveOut, Folders: w.Folders, Ignore: w.Ignore, Personal: w.Personal}}
	err := c.persist(ctx, func() error { return c.s.ask(ctx, c.r.Machine, line.CallWalk, ask, &c.walked) })
	if err != nil {
		return err
	}
	c.warn(c.walked.Warnings)
	return nil
}

// Archive implements [source.Archiver].
func (c *filesCapture) Archive() (io.Reader, bool, string, int64) {
	a := &archive{c: c}
	c.open = append(c.open, a) // which may not be read to its end
	return a, c.walked.Since && c.r.Since != "", plain.Text(c.walked.Why, 1<<10), max(0, c.walked.Bytes)
}

// archive reads a server's archive, and goes on where it was when the line was cut.
type archive struct {
	c    *filesCapture
	conn net.Conn
	stop func() bool // of what closes it when nobody wants it any more
	at   int64
	idle bool // nothing came since it was dialled
}

func (a *archive) Read(p []byte) (int, error) {
	for begun := time.Now(); ; {
		if a.conn == nil {
			if err := a.dial(); err != nil {
				return 0, err
			}
		}
		n, err := a.conn.Read(p)
		if a.at += int64(n); n > 0 {
			a.idle = false
			return n, nil
		}
		a.Close()
		switch {
		case a.c.ctx.Err() != nil:
			return 0, context.Cause(a.c.ctx)
		case errors.Is(err, io.EOF) && a.idle:
			return 0, files.ErrCut // it ended, and without its end
		case time.Since(begun) > a.c.s.patience:
			return 0, fmt.Errorf("server %s: %w: the line was cut again and again: %w", a.c.r.Machine, source.ErrUnreachable, err)
		}
		a.idle = true
	}
}

// Close ends the call; a later Read makes another one.
func (a *archive) Close() error {
	if a.conn == nil {
		return nil
	}
	a.stop()
	err := a.conn.Close()
	a.conn = nil
	return err
}

func (a *archive) dial() error {
	if a.at > 0 && a.c.r.Tell != nil {
		a.c.r.Tell("the line to server %s was cut after %d bytes of its files; it is tried again for %s", a.c.r.Machine, a.at, a.c.s.patience)
	}
	ctx := a.c.ctx
	err := a.c.persist(ctx, func() (err error) {
		a.conn, err = a.c.s.open(ctx, a.c.r.Machine, line.CallArchive, line.Archive{ID: a.c.r.ID, From: a.at}, nil)
		return err
	})
	if conn := a.conn; err == nil {
		a.stop = context.AfterFunc(ctx, func() { conn.Close() })
	}
	if refused := new(line.Refusal); errors.As(err, &refused) && refused.Kind == line.Unknown && a.at > 0 {
		return fmt.Errorf("server %s: the agent has ended the capture (was it started anew?): %w", a.c.r.Machine, err)
	}
	return err
}

// Parts implements [source.Parter].
func (s *Source) Parts(ctx context.Context, name string, measured bool) ([]source.PartOf, error) {
	var told line.PartsTold
	if err := s.ask(ctx, name, line.CallParts, line.Parts{Measure: measured}, &told); err != nil {
		return nil, err
	}
	out := []source.PartOf{}
	clean := func(texts []string) (out []string) {
		for _, t := range texts[:min(len(texts), mostWarnings)] {
			out = append(out, plain.Text(t, 1<<10))
		}
		return out
	}
	for _, p := range told.Parts[:min(len(told.Parts), mostParts)] {
		out = append(out, source.PartOf{Name: plain.Text(p.Name, 100), About: plain.Text(p.About, 1<<10), Mandatory: p.Mandatory, Paths: clean(p.Paths), Files: max(0, p.Files), Bytes: max(0, p.Bytes),
			Output: clean(p.Output), Trouble: clean(p.Trouble)})
	}
	return out, nil
}

// mostParts bounds the parts that a server may tell of.
const mostParts = 200
