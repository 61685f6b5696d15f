package tree

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
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
}

// Rules that nobody wrote down.
const (
	ruleSockets = "sockets, which who listens makes anew"
	ruleVirtual = "file systems that lie on no disk of this server"
	ruleNetwork = "file systems that lie on another computer"
	ruleMoves   = "file systems on disks that can be taken out"
	ruleOutput  = "/" + outputFolder + ", where the output of commands lies"
)

// largestTold is how many of the largest files that a rule left out are named.
const largestTold = 3

// walk walks the selection, and tells what rules left out, the most first.
func walk(ctx context.Context, s *Selection, v visitor) ([]files.LeftOut, error) {
	w := &walker{Selection: s, ctx: ctx, v: v, mounts: map[string]block.Mount{}, left: map[string]*files.LeftOut{}, sizes: map[string][]int64{}}
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
	if err := w.folder(fd, it, named && r.taken); err != nil {
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
func (w *walker) folder(fd int, it item, taken bool) error {
	names, err := namesIn(fd)
	it.unread = err
	if err := w.v.take(it); err != nil {
		return err
	}
	for _, name := range names {
		if err := context.Cause(w.ctx); err != nil {
			return err
		}
		path := name
		if it.path != "." {
			path = it.path + "/" + name
		}
		if err := w.child(fd, it, path, name, taken); err != nil {
			return err
		}
	}
	return nil
}

// namesIn lists the names in an open folder, in order.
func namesIn(fd int) ([]string, error) {
	copied, err := unix.FcntlInt(uintptr(fd), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(copied), "")
	defer f.Close()
	names, err := f.Readdirnames(-1)
	slices.Sort(names)
	return names, err
}

// child looks at one name in a folder.
func (w *walker) child(fd int, above item, path, name string, taken bool) error {
	part := above.part
	if r, named := w.roots[path]; named {
		part, taken = r.part, r.taken
	}
	if !taken && !w.above[path] {
		return nil
	}
	it := item{path: path, name: name, part: part, folder: fd}
	if !taken {
		it.part = ""
	}
	if err := unix.Fstatat(fd, name, &it.st, unix.AT_SYMLINK_NOFOLLOW); errors.Is(err, unix.ENOENT) {
		return nil // it went while the folder was read
	} else if err != nil {
		return w.v.unseen(path, it.part, err)
	}
	isFolder := it.st.Mode&unix.S_IFMT == unix.S_IFDIR
	if path == outputFolder {
		w.leave(ruleOutput, path, 0)
		return nil
	}
	if taken {
		if rule := w.leftOutBy(path, part, isFolder); rule != "" {
			return w.leaveAll(rule, fd, name, path, &it.st)
		}
		if it.st.Mode&unix.S_IFMT == unix.S_IFSOCK {
			w.leave(ruleSockets, path, 0)
			return nil
		}
	}
	if !isFolder {
		if !taken { // a folder was to be here
			return nil
		}
		return w.v.take(it)
	}
	if it.st.Dev != above.st.Dev {
		if rule := w.elsewhere(path); rule != "" {
			w.leave(rule, path, 0)
			return w.v.take(it) // the place where it is mounted is needed
		}
	}
	in, err := openFolder(fd, name)
	if errors.Is(err, unix.ENOENT) {
		return nil
	}
	if err != nil {
		it.unread = err
		return w.v.take(it)
	}
	defer unix.Close(in)
	return w.folder(in, it, taken)
}

func openFolder(fd int, name string) (int, error) {
	const flags = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC
	in, err := unix.Openat(fd, name, flags|unix.O_NOATIME, 0)
	if errors.Is(err, unix.EPERM) {
		in, err = unix.Openat(fd, name, flags, 0)
	}
	return in, err
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
