package medium

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"
)

// Files that are being written have a name of their own. Those of a crashed process are removed a day later.
const (
	PartPrefix = ".part-"
	partAge    = 24 * time.Hour
)

// Part is the name of a new file in a folder, for what is being written and will be renamed when it is whole.
func Part(folder string) string { return path.Join(folder, PartPrefix+rand.Text()) }

// IsPart reports whether a file is one that is being written, or was when its writer died.
func IsPart(name string) bool { return strings.HasPrefix(path.Base(name), PartPrefix) }

// OldParts are those of the files whose writers died: parts that are much older than the newest file among them. The place's own clock tells, for ours
// may be days from it.
func OldParts(found []Object) (old []Object) {
	var newest time.Time
	for _, o := range found {
		if o.Modified.After(newest) {
			newest = o.Modified
		}
	}
	for _, o := range found {
		if IsPart(o.Name) && newest.Sub(o.Modified) > partAge {
			old = append(old, o)
		}
	}
	return old
}

// Entry is a file or a folder within another; its name has no path.
type Entry struct {
	Object
	IsFolder bool
}

// Entries are the files and folders among what was found; the rest (links, devices) is none of a store.
func Entries(found []fs.FileInfo) (entries []Entry) {
	for _, info := range found {
		if info.IsDir() || info.Mode().IsRegular() {
			entries = append(entries, Entry{Object{Name: info.Name(), Size: info.Size(), Modified: info.ModTime()}, info.IsDir()})
		}
	}
	return entries
}

// Folders is a tree whose folders are listed one by one, as file protocols do it.
type Folders struct {
	// AtOnce is how many are listed side by side.
	AtOnce int
	// Of lists one. A folder that is not there is empty: nothing of its kind was written yet, or it went while we looked.
	Of func(ctx context.Context, folder string) ([]Entry, error)
}

// List is [Medium.List].
func (f Folders) List(ctx context.Context, prefix string, visit func(Object) error) error {
	found, err := f.files(ctx, strings.TrimSuffix(prefix, "/"))
	for i := 0; i < len(found) && err == nil; i++ {
		if !IsPart(found[i].Name) {
			err = visit(found[i])
		}
	}
	return err
}

// Tidy removes what crashed processes left half written.
func (f Folders) Tidy(ctx context.Context, remove func(context.Context, string) error) error {
	found, err := f.files(ctx, "")
	old := OldParts(found)
	for i := 0; i < len(old) && err == nil; i++ {
		err = remove(ctx, old[i].Name)
	}
	return err
}

// files are all below a folder, parts too.
func (f Folders) files(ctx context.Context, top string) (all []Object, err error) {
	for level := []string{top}; len(level) > 0; {
		found, errs := make([][]Entry, len(level)), make([]error, len(level))
		var group sync.WaitGroup
		slots := make(chan struct{}, f.AtOnce)
		for i, folder := range level {
			slots <- struct{}{}
			group.Go(func() {
				defer func() { <-slots }()
				found[i], errs[i] = f.Of(ctx, folder)
			})
		}
		group.Wait()
		if err := errors.Join(errs...); err != nil {
			return nil, err
		}
		var next []string
		for i, entries := range found {
			for _, e := range entries {
				e.Name = path.Join(level[i], e.Name)
				if e.IsFolder {
					next = append(next, e.Name)
				} else {
					all = append(all, e.Object)
				}
			}
		}
		level = next
	}
	return all, nil
}

// Made remembers which folders below a store's own exist, so that each is made once.
type Made struct {
	// Top is the store's own folder, which is never made; "" or "." where names begin below it.
	Top string

	mu    sync.Mutex
	there map[string]bool
}

// isBelow reports whether a folder lies below the top.
func (m *Made) isBelow(folder string) bool {
	return folder != m.Top && folder != "." && len(folder) > len(m.Top)
}

// Make makes a folder, those above it first.
func (m *Made) Make(folder string, mkdir func(folder string) error) error {
	m.mu.Lock()
	there := m.there[folder]
	m.mu.Unlock()
	if there || !m.isBelow(folder) {
		return nil
	}
	if err := m.Make(path.Dir(folder), mkdir); err != nil {
		return err
	}
	if err := mkdir(folder); err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.there == nil {
		m.there = map[string]bool{}
	}
	m.there[folder] = true
	return nil
}

// Forget has a folder, and those above it, made again: somebody removed them.
func (m *Made) Forget(folder string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for ; m.isBelow(folder); folder = path.Dir(folder) {
		delete(m.there, folder)
	}
}

// ErrEnd marks an object that ends before what was asked for.
var ErrEnd = fmt.Errorf("the file ends before: %w", io.ErrUnexpectedEOF)
