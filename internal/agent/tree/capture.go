package tree

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/agent/parts"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
)

// Capture is one of this server's files that goes on: it is walked while it is read.
type Capture struct {
	walked line.Walked
	memory *remembering
	spool  *spool
	stop   context.CancelFunc
	ended  chan struct{} // closed when the walk has ended
}

// Begin begins a capture. folder is one of the agent's.
func Begin(ctx context.Context, folder string, offer Offer, w line.Walk) (_ *Capture, err error) {
	if !image.IsID(w.ID) || w.Since != "" && !image.IsID(w.Since) {
		return nil, fmt.Errorf("%q since %q: these are no images' IDs", w.ID, w.Since)
	}
	s, err := offer.Select(w.Files)
	if err != nil {
		return nil, err
	}
	c := &Capture{spool: newSpool(), ended: make(chan struct{})}
	layout, err := block.Describe(nil, nil, nil)
	if err == nil {
		c.walked.System, err = json.MarshalIndent(layout, "", "  ")
	}
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(folder, memoryFolder), 0o700); err != nil {
		return nil, err
	}
	t := &taker{Selection: s, folder: folder, w: files.NewWireWriter(c.spool), links: map[[2]uint64]string{}, names: owners{map[uint32]string{}, map[uint32]string{}}, buffer: make([]byte, smallFile)}
	if w.Since != "" {
		if t.older, c.walked.Why, err = recall(folder, w.Since, s.sum); err != nil {
			return nil, err
		}
		c.walked.Since = t.older != nil
	}
	if t.older == nil {
		sizes, err := measure(ctx, s)
		if err != nil {
			return nil, err
		}
		for _, m := range sizes {
			c.walked.Bytes += m.bytes
		}
	}
	if w.Remember {
		if t.memory, err = remember(folder, w.ID, s.sum); err != nil { // it spares the next image something, and this one must not fail for want of it
			c.walked.Warnings = append(c.walked.Warnings, fmt.Sprintf("what files are like now can't be noted, so the next image will be full: %v", err))
		}
	}
	c.memory = t.memory
	walking, stop := context.WithCancel(context.WithoutCancel(ctx))
	t.ctx, c.stop = walking, stop
	go func() {
		defer close(c.ended)
		defer t.older.close()
		c.spool.close(t.walk(walking))
	}()
	return c, nil
}

// walk walks and sends all of it.
func (t *taker) walk(ctx context.Context) error {
	left, err := walk(ctx, t.Selection, t)
	if err != nil {
		return err
	}
	last := files.Last{LeftOut: left, Whole: t.whole()}
	if o := t.older; o != nil {
		for !o.ends {
			t.w.Skip()
			o.advance()
		}
		last.Sum = o.sum.String()
	}
	return t.w.Close(last)
}

// Walked is what is told of the capture when it has begun.
func (c *Capture) Walked() line.Walked { return c.walked }

// Archive gives what sends the archive from a byte on over a line.
func (c *Capture) Archive(ctx context.Context, from int64) (func(net.Conn) error, error) {
	if err := c.spool.from(from); err != nil {
		return nil, err
	}
	return func(conn net.Conn) error { return c.spool.send(ctx, conn, from) }, nil
}

// End ends the capture. If its image exists, what it holds is remembered.
func (c *Capture) End(kept bool) error {
	c.stop()
	c.spool.close(errOver)
	<-c.ended
	if kept {
		return c.memory.keep()
	}
	c.memory.drop()
	return nil
}

// Parts tells of the parts of this server's system state, and with measure how large each is.
func Parts(ctx context.Context, offer Offer, sized bool) (out line.PartsTold, err error) {
	all, err := parts.Load(offer.Settings)
	if err != nil {
		return out, err
	}
	sizes := map[string]*measured{}
	if sized && len(all) > 0 {
		s, err := offer.Select(line.Files{System: true})
		if err != nil {
			return out, err
		}
		if sizes, err = measure(ctx, s); err != nil {
			return out, err
		}
	}
	for _, p := range all {
		told := line.Part{Name: p.Name, About: p.About, Mandatory: p.Mandatory, Paths: p.Paths, Output: p.Outputs()}
		if m := sizes[p.Name]; m != nil {
			told.Files, told.Bytes, told.Trouble = m.files, m.bytes, m.trouble
		}
		for _, name := range p.Outputs() {
			if _, err := parts.Command(offer.Settings, p.Output[name]); errors.Is(err, os.ErrNotExist) {
				told.Output = slices.DeleteFunc(told.Output, func(o string) bool { return o == name })
			} else if err != nil {
				told.Trouble = append(told.Trouble, err.Error())
			}
		}
		out.Parts = append(out.Parts, told)
	}
	return out, nil
}
