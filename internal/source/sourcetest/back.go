package sourcetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"time"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/source"
)

// filesRestore is what a fake server knows of a restore: the plan, and its files as they were before.
type filesRestore struct {
	plan   back.Plan
	before filestest.Tree
}

// PlanFiles implements [source.Unpacker].
func (c *Conn) PlanFiles(_ context.Context, name string, o back.Order, list io.Reader, visit func(back.Step) error) (sum source.PlanSum, err error) {
	if err := c.h.fault("plan", name); err != nil {
		return sum, err
	}
	l, err := files.NewListReader(list)
	if err != nil {
		return sum, err
	}
	r := &filesRestore{}
	for {
		e, _, err := l.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return sum, err
		}
		to, _ := back.Locate(o.Roots, e.Path)
		var found *back.Found
		c.h.Change(name, func(g *Guest) {
			if n, ok := g.Files[to]; ok {
				found = &back.Found{Kind: n.Kind, Size: n.Size, Modified: n.Modified, Mode: n.Mode, UID: n.UID, GID: n.GID, Target: n.Target, Xattrs: n.Xattrs, Key: fmt.Sprint(n.Modified, n.Size)}
			}
		})
		r.plan.Add(back.Decide(&e, to, found, o.Existing, o.Moment))
	}
	for _, s := range r.plan.Steps {
		if err := visit(s); err != nil {
			return sum, err
		}
	}
	c.h.Change(name, func(g *Guest) {
		if g.restores == nil {
			g.restores = map[string]*filesRestore{}
		}
		g.restores[o.ID] = r
	})
	return source.PlanSum{Digest: r.plan.Digest(), Counts: r.plan.Counts}, nil
}

// PutFiles implements [source.Unpacker].
func (c *Conn) PutFiles(_ context.Context, name, id, _ string, archive io.Reader, _ func(back.Progress)) (done back.Done, err error) {
	if err := c.h.fault("put", name); err != nil {
		return done, err
	}
	in := files.NewReader(archive)
	got := map[string]filestest.Node{}
	for {
		s, err := in.Next()
		if err != nil {
			return done, err
		}
		if s.Last != nil {
			break
		}
		body, err := io.ReadAll(in)
		if err != nil {
			return done, err
		}
		got[s.Entry.Path] = filestest.Node{Entry: *s.Entry, Content: body}
	}
	c.h.Change(name, func(g *Guest) {
		r := g.restores[id]
		if r == nil {
			err = fmt.Errorf("server %s has no plan for restore %s", name, id)
			return
		}
		r.before = maps.Clone(g.Files)
		for _, s := range r.plan.Steps {
			if n, ok := got[s.From]; ok && s.Action.Writes() {
				n.Path = s.Path
				g.Files[s.Path] = n
				done.Add(s)
			}
		}
		done.Kept = time.Date(2026, 2, 4, 3, 10, 0, 0, time.UTC)
	})
	return done, err
}

// UndoFiles implements [source.Unpacker].
func (c *Conn) UndoFiles(_ context.Context, name, id string, _ func(back.Progress)) (done back.Done, err error) {
	c.h.Change(name, func(g *Guest) {
		r := g.restores[id]
		if r == nil || r.before == nil {
			err = fmt.Errorf("server %s: nothing is held of it: restore %s", name, id)
			return
		}
		g.Files, r.before = r.before, nil
		for _, s := range r.plan.Steps {
			if s.Action.Writes() {
				done.Add(s)
			}
		}
	})
	return done, err
}
