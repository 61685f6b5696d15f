package image

import (
	"context"
	"errors"
	"fmt"

	"keenlodge/internal/core/chunk"
)

// Older is a tree with which others are compared, and how its blocks are had.
type Older struct {
	tree   Tree
	get    Getter
	blocks map[chunk.Name]int64 // of a rope: where in it what hangs on a block begins, in bytes
}

// NewOlder readies a tree to be compared with. A rope's blocks are read for that, all but its leaves' pieces; of a disk's map nothing is.
func NewOlder(ctx context.Context, t Tree, get Getter) (*Older, error) {
	o := &Older{tree: t, get: get, blocks: map[chunk.Name]int64{}}
	if !t.OfStream() {
		return o, nil
	}
	err := t.Walk(ctx, get, func(v Visit) error {
		o.blocks[v.Name] = v.Offset
		if v.Height == ropeHeight+1 {
			return ErrSkip
		}
		return nil
	})
	return o, err
}

// At is where in a rope the bytes begin that hang on a block of it, which [Tree.WalkSince] has found to be the same.
func (o *Older) At(block chunk.Name) int64 { return o.blocks[block] }

// OfStream reports whether it is a rope, and no disk's map.
func (t Tree) OfStream() bool { return t.Height > ropeHeight }

// WalkSince is [Tree.Walk] that passes over what an older tree of the same size of disk, or an older rope, has just so: same is called for that, and visit
// for the rest. It costs what differs. A nil older is Walk.
func (t Tree) WalkSince(ctx context.Context, get Getter, older *Older, same, visit func(Visit) error) error {
	if older == nil || older.tree.Root.IsZero() || older.tree.OfStream() != t.OfStream() || !t.OfStream() && older.tree.Height != t.Height {
		return t.Walk(ctx, get, visit)
	}
	if t.OfStream() {
		return t.Walk(ctx, get, func(v Visit) error {
			if _, ok := older.blocks[v.Name]; ok && v.Height > 0 {
				if err := same(v); err != nil {
					return err
				}
				return ErrSkip
			}
			return visit(v)
		})
	}
	if t.Root.IsZero() {
		return nil
	}
	w := sinceWalk{t, get, older, same, visit}
	return w.walk(ctx, Visit{Name: t.Root, Height: t.Height, Length: t.Span()}, older.tree.Root)
}

// sinceWalk is a walk of a disk's map beside an older one.
type sinceWalk struct {
	Tree
	get         Getter
	older       *Older
	same, visit func(Visit) error
}

// walk goes through a block, beside the one at the same place of the older map, or none.
func (w sinceWalk) walk(ctx context.Context, v Visit, old chunk.Name) error {
	if old.IsZero() {
		return w.Tree.walk(ctx, w.get, v, w.visit)
	}
	shown := v
	shown.Length = min(v.Length, w.Size-v.Offset)
	if v.Name == old {
		return w.same(shown)
	}
	if err := w.visit(shown); err == ErrSkip {
		return nil
	} else if err != nil {
		return err
	}
	is, err := w.children(ctx, w.get, v, v.Name)
	if err != nil {
		return err
	}
	was, err := w.children(ctx, w.older.get, v, old)
	if err != nil {
		return err
	}
	i := 0
	for _, k := range is {
		for i < len(was) && was[i].Offset < k.Offset {
			i++
		}
		var beside Visit
		if i < len(was) && was[i].Offset == k.Offset {
			beside = was[i]
		}
		switch {
		case k.Height > 0:
			err = w.walk(ctx, k, beside.Name)
		case k == beside:
			k.Length = min(k.Length, w.Size-k.Offset)
			err = w.same(k)
		default:
			k.Length = min(k.Length, w.Size-k.Offset)
			err = w.visit(k)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (w sinceWalk) children(ctx context.Context, get Getter, at Visit, name chunk.Name) (out []Visit, err error) {
	body, err := get.GetMap(ctx, name)
	if err == nil {
		err = Children(body, at.Height, at.Offset, func(v Visit) error { out = append(out, v); return nil })
	}
	if err != nil && errors.Is(err, chunk.ErrDamaged) {
		return nil, fmt.Errorf("map block %s: %w", name, err)
	}
	return out, err
}
