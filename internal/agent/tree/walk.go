package tree

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/core/files"
)

// item is something that a walk met and that is to be taken. Folder is an open one, in which it has that name.
type item struct {
	path, name, part string
	folder           int
	st               unix.Stat_t
	unread           error // of a folder whose names could not be read
}

// visitor is what a walk shows things to, in order.
type visitor interface {
	take(it item) error
	// unseen is something that could not even be looked at.
	unseen(path, part string, why error) error
}

// walker walks what was chosen.
type walker struct {
	*Selection
	ctx    context.Context
	v      visitor
	mounts map[string]block.Mount // by where they are
	left   map[string]*files.LeftOut
	sizes  map[string][]int64 // of the largest of each rule
	ahead  chan struct{}      // one for each folder that is read ahead
}

// Rules that nobody wrote down.
const (
	ruleSockets = "sockets, which who listens makes anew"
	ruleVirtual = "file systems that lie on no disk of this server"
	ruleNetwork = "file systems that lie on another computer"
	ruleMoves   = "file systems on disks that can be taken out"
	ruleHeld    = files.HeldFolder + ", what restores replaced"
	ruleSnaps   = files.SnapFolder + ", snapshots in place"
	ruleOutput  = "/" + files.OutputFolder + ", where the output of commands lies"
)

// largestTold is how many of the largest files that a rule left out are named.
const largestTold = 3

// walk walks the selection, and tells what rules left out, the most first.
func walk(ctx context.Context, s *Selection, v visitor) ([]files.LeftOut, error) {
	w := &walker{Selection: s, ctx: ctx, v: v, mounts: map[string]block.Mount{}, left: map[string]*files.LeftOut{}, sizes: map[string][]int64{}, ahead: make(chan struct{}, mostAhead)}
	mounts, err := block.Mounts()
	if err != nil {
		return nil, err
	}
	for _, m := range mounts {
		w.mounts[m.Path] = m
	}
	fd, err := unix.Open(s.root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.root, err)
	}
	defer unix.Close(fd)
	it := item{path: ".", name: ".", folder: fd}
	if err := unix.Fstat(fd, &it.st); err != nil {
		return nil, err
	}
	r, named := s.roots["."]
	if named {
		it.part = r.part
	}
	if err := w.folder(w.read(fd, it, named && r.taken), it, named && r.taken); err != nil {
		return nil, err
	}
	var out []files.LeftOut
	for _, l := range w.left {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b files.LeftOut) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(b.Files, a.Files), cmp.Compare(a.Rule, b.Rule))
	})
	return out, nil
}

// folder shows an open folder and what lies in it.
func (w *walker) folder(f *folder, it item, taken bool) error {
	it.unread = f.unread
	if err := w.v.take(it); err != nil {
		return err
	}
	first, names := f.first, f.names
	f.first = nil
	for {
		if err := w.children(f.fd, first); err != nil || len(names) == 0 {
			return err
		}
		n := min(len(names), lookedAtOnce)
		first = w.lookAt(f.fd, it, names[:n], taken)
		names = names[n:]
	}
}

// children shows some of what lies in a folder. The folders among it are read ahead of being shown: most of a walk is waiting for the kernel.
func (w *walker) children(fd int, all []child) error {
	defer w.closeAll(all) // on an error some were not shown
	next := 0             // of those that may be read ahead
	for i := range all {
		c := &all[i]
		for next = max(next, i); next < min(len(all), i+1+besides) && w.readAhead(fd, &all[next], next == i); next++ {
		}
		if err := context.Cause(w.ctx); err != nil {
			return err
		}
		if err := w.child(fd, c); err != nil {
			return err
		}
		w.close(c.opened)
		c.opened = nil
	}
	return nil
}

// child is one name in a folder, and what is to be done about it.
type child struct {
	item
	taken  bool
	enter  bool   // it is a folder that is walked
	rule   string // by which it is left out
	unseen error
	opened *opening // where it is being entered
}

// decide is what is to be done about one name in a folder; ok is false where that is nothing.
func (w *walker) decide(fd int, above item, name string, st *unix.Stat_t, unseen error, taken bool) (c child, ok bool) {
	path := name
	if above.path != "." {
		path = above.path + "/" + name
	}
	part := above.part
	if r, named := w.roots[path]; named {
		part, taken = r.part, r.taken
	}
	if w.only != nil && !w.only[path] && !w.onlyAbove[path] {
		return c, false
	}
	if !taken && !w.above[path] || errors.Is(unseen, unix.ENOENT) { // it went while the folder was read
		return c, false
	}
	c = child{item: item{path: path, name: name, part: part, folder: fd, st: *st}, taken: taken, unseen: unseen}
	if !taken {
		c.part = ""
	}
	if c.unseen != nil {
		return c, true
	}
	kind := st.Mode & unix.S_IFMT
	switch {
	case path == files.OutputFolder:
		c.rule = ruleOutput
		return c, true
	case name == files.HeldFolder:
		c.rule = ruleHeld
		return c, true
	case name == files.SnapFolder:
		c.rule = ruleSnaps
		return c, true
	case taken:
		if c.rule = w.leftOutBy(path, part, kind == unix.S_IFDIR); c.rule != "" {
			return c, true
		}
		if kind == unix.S_IFSOCK {
			c.rule = ruleSockets
			return c, true
		}
	}
	if kind != unix.S_IFDIR {
		return c, taken // a folder was to be here, otherwise
	}
	if st.Dev != above.st.Dev {
		c.rule = w.elsewhere(path)
	}
	c.enter = c.rule == ""
	return c, true
}

// child shows one name in a folder, or counts it as left out.
func (w *walker) child(fd int, c *child) error {
	switch {
	case c.unseen != nil:
		return w.v.unseen(c.path, c.part, c.unseen)
	case c.rule == ruleOutput || c.rule == ruleSockets:
		w.leave(c.rule, c.path, 0)
		return nil
	case c.rule == ruleVirtual || c.rule == ruleNetwork || c.rule == ruleMoves:
		w.leave(c.rule, c.path, 0)
		return w.v.take(c.item) // the place where it is mounted is needed
	case c.rule != "":
		return w.leaveAll(c.rule, fd, c.name, c.path, &c.st)
	case !c.enter:
		return w.v.take(c.item)
	}
	f, err := c.opened.wait()
	if errors.Is(err, unix.ENOENT) {
		return nil
	}
	if err != nil {
		c.unread = err
		return w.v.take(c.item)
	}
	return w.folder(f, c.item, c.taken)
}

// elsewhere says which rule leaves out the file system that is mounted at a path, "" for none.
func (w *walker) elsewhere(path string) string {
	m, known := w.mounts[filepath.Join(w.root, path)]
	switch {
	case known && m.Network():
		return ruleNetwork
	case known && m.Removable():
		return ruleMoves
	case known && !m.OnBlocks():
		return ruleVirtual
	}
	return ""
}

// leave counts what a rule leaves out.
func (w *walker) leave(rule, path string, size int64) {
	l := w.left[rule]
	if l == nil {
		l = &files.LeftOut{Rule: rule}
		w.left[rule] = l
	}
	l.Files++
	l.Bytes += size
	sizes := w.sizes[rule]
	i, _ := slices.BinarySearchFunc(sizes, size, func(a, b int64) int { return cmp.Compare(b, a) })
	if i >= largestTold {
		return
	}
	w.sizes[rule] = slices.Insert(sizes, i, size)[:min(len(sizes)+1, largestTold)]
	l.Largest = slices.Insert(l.Largest, i, "/"+path)[:min(len(l.Largest)+1, largestTold)]
}

// leaveAll counts what a rule leaves out with all that lies below it on the same file system.
func (w *walker) leaveAll(rule string, fd int, name, path string, st *unix.Stat_t) error {
	if st.Mode&unix.S_IFMT != unix.S_IFDIR {
		w.leave(rule, path, st.Size)
		return nil
	}
	if err := context.Cause(w.ctx); err != nil {
		return err
	}
	in, err := openFolder(fd, name)
	if err != nil {
		w.leave(rule, path, 0)
		return nil // it is not wanted, so that it can't be read is no trouble
	}
	defer unix.Close(in)
	names, _ := namesIn(in)
	if len(names) == 0 {
		w.leave(rule, path, 0)
	}
	for _, below := range names {
		var s unix.Stat_t
		if unix.Fstatat(in, below, &s, unix.AT_SYMLINK_NOFOLLOW) != nil || s.Dev != st.Dev {
			continue
		}
		if err := w.leaveAll(rule, in, below, path+"/"+below, &s); err != nil {
			return err
		}
	}
	return nil
}

// counting counts what a walk meets, by part.
type counting struct {
	parts map[string]*measured
	links map[[2]uint64]bool
}

type measured struct {
	files, bytes int64
	trouble      []string
}

func (c *counting) of(part string) *measured {
	m := c.parts[part]
	if m == nil {
		m = &measured{}
		c.parts[part] = m
	}
	return m
}

func (c *counting) take(it item) error {
	m := c.of(it.part)
	m.files++
	if it.unread != nil {
		c.unseen(it.path, it.part, it.unread)
	}
	if it.st.Mode&unix.S_IFMT != unix.S_IFREG {
		return nil
	}
	if it.st.Nlink > 1 {
		id := [2]uint64{it.st.Dev, it.st.Ino}
		if c.links[id] {
			return nil
		}
		c.links[id] = true
	}
	m.bytes += min(it.st.Size, it.st.Blocks*files.SpanUnit+files.SpanUnit)
	return nil
}

func (c *counting) unseen(path, part string, why error) error {
	if m := c.of(part); len(m.trouble) < 20 {
		m.trouble = append(m.trouble, fmt.Sprintf("/%s: %s", path, reason(why)))
	}
	return nil
}

// measure walks and counts.
func measure(ctx context.Context, s *Selection) (map[string]*measured, error) {
	c := &counting{parts: map[string]*measured{}, links: map[[2]uint64]bool{}}
	_, err := walk(ctx, s, c)
	return c.parts, err
}

// reason is an error in few words: the path is told beside it.
func reason(err error) string {
	var no unix.Errno
	if errors.As(err, &no) {
		return no.Error()
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return "it became shorter while it was read"
	}
	return strings.TrimSpace(err.Error())
}
