package lists

import (
	"context"
	"errors"
	"io"
	"maps"
	"slices"

	"keenlodge/internal/core/files"
	"keenlodge/internal/records/listed"
)

// Between sums up what differs in the files of two images of a machine, from the lists that are kept; ok is false where one of them has none.
func (l *Lists) Between(ctx context.Context, machine, older, newer string) (s files.Shift, ok bool, err error) {
	ok, err = l.differ(ctx, machine, older, newer, s.See)
	return s, ok, err
}

// differ visits what differs in the files of two images of a machine; ok is false where one of them has no list.
func (l *Lists) differ(ctx context.Context, machine, older, newer string, visit func(files.Difference)) (ok bool, err error) {
	kept, err := l.rec.ListsOf(ctx, machine)
	if err != nil {
		return false, err
	}
	at := func(id string) int { return slices.IndexFunc(kept, func(k listed.List) bool { return k.Image == id }) }
	from, to := at(older), at(newer)
	if from < 0 || to < 0 {
		return false, nil
	}
	// Only what differs between them can differ: of that it is found out how it was in each.
	paths := map[string]bool{}
	for _, k := range kept[min(from, to)+1 : max(from, to)+1] {
		if err := l.each(ctx, k, func(e *files.Entry) { paths[e.Path] = true }); err != nil {
			return false, err
		}
	}
	was, is := map[string]*files.Entry{}, map[string]*files.Entry{}
	now := map[string]*files.Entry{}
	for i, k := range kept[:max(from, to)+1] {
		err := l.each(ctx, k, func(e *files.Entry) {
			if !paths[e.Path] {
				return
			}
			if now[e.Path] = e; e.Kind == files.Unseen {
				delete(now, e.Path)
			}
		})
		if err != nil {
			return false, err
		}
		if i == from {
			was = maps.Clone(now)
		}
		if i == to {
			is = maps.Clone(now)
		}
	}
	for _, p := range slices.Sorted(maps.Keys(paths)) {
		d := files.Difference{Old: was[p], New: is[p]}
		if d.Old == nil && d.New == nil {
			continue
		}
		if d.Old != nil && d.New != nil {
			if d.What = files.Changes(d.Old, d.New); len(d.What) == 0 {
				continue
			}
		}
		visit(d)
	}
	return true, nil
}

// each visits what is kept of a list.
func (l *Lists) each(ctx context.Context, k listed.List, visit func(*files.Entry)) error {
	r, err := l.open(k.Body)
	if err != nil {
		return err
	}
	for n := 0; ; n++ {
		e, _, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil && n%10_000 == 0 {
			err = context.Cause(ctx)
		}
		if err != nil {
			return err
		}
		visit(&e)
	}
}
