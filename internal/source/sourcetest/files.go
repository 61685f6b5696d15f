package sourcetest

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"time"

	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/core/image"
	"keenlodge/internal/source"
)

// filesCapture is a capture of a fake server's files.
type filesCapture struct {
	*capture
	wire  []byte
	since bool
}

func (*filesCapture) Disks() []source.CapturedDisk                    { return nil }
func (*filesCapture) Consistency() (image.Consistency, time.Duration) { return image.EachFile, 0 }
func (*filesCapture) Definition() string                              { return `{"kind": "server"}` }

// Archive implements [source.Archiver]. A host's fault at "archive" is met when it is read.
func (k *filesCapture) Archive() (io.Reader, bool, string, int64) {
	return io.MultiReader(faulty{k}, bytes.NewReader(k.wire)), k.since, "the server remembers nothing of image " + k.r.Since, int64(len(k.wire))
}

// faulty reads nothing, and may fail.
type faulty struct{ k *filesCapture }

func (f faulty) Read([]byte) (int, error) {
	if err := f.k.c.h.fault("archive", f.k.r.Machine); err != nil {
		return 0, err
	}
	return 0, io.EOF
}

// files makes a capture one of files.
func (c *Conn) files(k *capture) (source.Capture, error) {
	out := &filesCapture{capture: k}
	var err error
	c.h.Change(k.r.Machine, func(g *Guest) {
		if g.Files == nil {
			err = fmt.Errorf("server %s offers no files", k.r.Machine)
			return
		}
		older, known := g.trees[k.r.Since]
		out.since, out.wire = known, g.Files.Wire(older)
		if k.r.Checkpoint {
			if g.trees == nil {
				g.trees = map[string]filestest.Tree{}
			}
			g.trees[k.r.ID] = maps.Clone(g.Files)
		}
	})
	return out, err
}

// Parts implements [source.Parter].
func (c *Conn) Parts(_ context.Context, name string, _ bool) ([]source.PartOf, error) {
	if err := c.h.fault("parts", name); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	if err != nil {
		return nil, err
	}
	return g.Parts, nil
}
