// Package unpack puts files of an image back into a file system. It plans first: what a plan says is what is carried out, and nothing else. What
// is replaced or deleted can be kept for a day, and put back. No link is followed below the folder that is asked for, whoever makes one meanwhile.
package unpack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/ignore"
	"keenlodge/internal/inode"
)

// Place is where files go back to.
type Place struct {
	// Root stands for the root of the file system, "" is that itself. Paths are relative to it.
	Root string
	// Writable are the absolute paths at or below which anything may be written.
	Writable []string
	// Folder is where it is noted what was done, so that it can be undone.
	Folder string
}

// Restore is files that are about to go back, as they were planned to.
type Restore struct {
	back.Plan
	Order back.Order
	// Short says what there is no room for, "" where all fits.
	Short string
	place Place
	owned owners
	// besides are the paths of entries that are put beside others.
	besides map[string]string
}

// planner makes a plan of a list.
type planner struct {
	*Restore
	ctx   context.Context
	top   int
	spare ignore.Rules

	parent    string // whose folder is open, fd below 0 where it is not there; why says what else is there
	fd        int
	why       error
	replacing string          // the folder that takes the place of something else
	blocked   string          // the folder that can't be had, with all below it
	stays     map[string]bool // entries in whose place something else stays
	fresh     map[string]bool // files that are written anew
	open      []*openFolder
	needs     map[uint64]*room // by device
}

// openFolder is a folder whose further names are to go.
type openFolder struct {
	to, from string
	names    map[string]bool
	// mounted says that it is the top of a file system, filled that the image has something in it.
	mounted, filled bool
}

// room is what is needed on a device.
type room struct {
	bytes int64
	at    string
}

// Plan looks at what is there, and says what becomes of it. The list has what shall go back, in the order of lists.
func (p Place) Plan(ctx context.Context, o back.Order, list *files.ListReader) (_ *Restore, err error) {
	if err := o.Existing.Check(); err != nil {
		return nil, err
	}
	r := &Restore{Order: o, place: p, owned: owners{map[string]int64{}, map[string]int64{}}, besides: map[string]string{}}
	pl := &planner{Restore: r, ctx: ctx, fd: -1, parent: "\x00", stays: map[string]bool{}, fresh: map[string]bool{}, needs: map[uint64]*room{}}
	if pl.spare, err = ignore.Parse(o.Spare); err != nil {
		return nil, err
	}
	if pl.top, err = p.open(); err != nil {
		return nil, err
	}
	defer unix.Close(pl.top)
	defer pl.leave()
	r.Order.Roots = slices.Clone(o.Roots)
	for i := range r.Order.Roots {
		root := &r.Order.Roots[i]
		if !files.IsPath(root.From) || !files.IsPath(root.To) {
			return nil, fmt.Errorf("%q to %q: these are no paths", root.From, root.To)
		}
		if root.To, err = realPath(pl.top, root.To); err != nil {
			return nil, err
		}
		if !o.Look && !p.allows(root.To) && !p.allowsBelow(root.To) {
			return nil, fmt.Errorf("nothing may be written to /%s: this server's agent allows %s; allow more with keenlodge agent run --writable PATH", root.To, p.allowed())
		}
	}
	for {
		e, _, err := list.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = context.Cause(ctx)
		}
		if err == nil {
			err = pl.entry(&e)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := pl.close(""); err != nil {
		return nil, err
	}
	r.Short = pl.short()
	return r, nil
}

// open opens the root.
func (p Place) open() (int, error) {
	root := filepath.Clean("/" + p.Root)
	fd, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, fmt.Errorf("open %s: %w", root, err)
	}
	return fd, nil
}

// belowRoot is an absolute path as plans have it.
func belowRoot(p string) string {
	if p = path.Clean(p); p == "/" {
		return "."
	}
	return p[1:]
}

func (p Place) allows(to string) bool {
	return slices.ContainsFunc(p.Writable, func(w string) bool {
		return inFolder(to, belowRoot(w))
	})
}

// allowsBelow reports whether anything below a folder may be written.
func (p Place) allowsBelow(folder string) bool {
	return slices.ContainsFunc(p.Writable, func(w string) bool { return inFolder(belowRoot(w), folder) })
}

func (p Place) allowed() string {
	if len(p.Writable) == 0 {
		return "nothing"
	}
	return strings.Join(p.Writable, ", ")
}

// within are flags with which a path leads nowhere but down, and over no link.
const within = unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS

func openBelow(top int, p string, flags uint64, resolve uint64) (int, error) {
	return unix.Openat2(top, p, &unix.OpenHow{Flags: flags | unix.O_CLOEXEC, Resolve: resolve})
}

// realPath is a path with the links on the way to it resolved, as far as that is there.
func realPath(top int, p string) (string, error) {
	if p == "." {
		return p, nil
	}
	folder, name := path.Split(p)
	rest := name
	for folder = path.Clean(folder); ; folder, rest = path.Dir(folder), path.Join(path.Base(folder), rest) {
		fd, err := openBelow(top, folder, unix.O_PATH|unix.O_DIRECTORY, unix.RESOLVE_IN_ROOT|unix.RESOLVE_NO_MAGICLINKS)
		if errors.Is(err, unix.ENOENT) && folder != "." {
			continue
		}
		if err != nil {
			return "", fmt.Errorf("/%s: %w", folder, err)
		}
		here, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", fd))
		base, failed := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", top))
		unix.Close(fd)
		if err = errors.Join(err, failed); err != nil {
			return "", err
		}
		return path.Join(strings.TrimPrefix(strings.TrimPrefix(here, strings.TrimSuffix(base, "/")), "/"), rest), nil
	}
}

// inFolder reports whether a path lies in a folder, or is it.
func inFolder(p, folder string) bool {
	return folder != "" && (p == folder || folder == "." || strings.HasPrefix(p, folder+"/"))
}

func (pl *planner) leave() {
	if pl.fd >= 0 {
		unix.Close(pl.fd)
	}
	pl.fd, pl.parent = -1, "\x00"
}

// enter opens the folder in which a path lies.
func (pl *planner) enter(folder string) {
	if folder == pl.parent {
		return
	}
	pl.leave()
	pl.parent, pl.why = folder, nil
	if inFolder(folder, pl.replacing) {
		return
	}
	fd, err := openBelow(pl.top, folder, unix.O_PATH|unix.O_DIRECTORY, within)
	switch {
	case err == nil:
		pl.fd = fd
	case errors.Is(err, unix.ELOOP):
		pl.why = fmt.Errorf("/%s leads over a link", folder)
	case !errors.Is(err, unix.ENOENT):
		pl.why = fmt.Errorf("/%s: %w", folder, err)
	}
}

// entry plans an entry.
func (pl *planner) entry(e *files.Entry) error {
	to, ok := back.Locate(pl.Order.Roots, e.Path)
	if !ok {
		return nil
	}
	if err := pl.close(to); err != nil {
		return err
	}
	if inFolder(to, pl.blocked) {
		pl.Add(back.Step{Action: back.Refuse, Path: to, From: e.Path, Kind: e.Kind, Why: "its folder can't be had"})
		return nil
	}
	folder, name := path.Dir(to), path.Base(to)
	pl.enter(folder)
	if pl.why != nil {
		pl.Add(back.Step{Action: back.Refuse, Path: to, From: e.Path, Kind: e.Kind, Why: pl.why.Error()})
		return nil
	}
	pl.owned.own(e)
	found, err := pl.look(name, e)
	if err != nil {
		return err
	}
	s := back.Decide(e, to, found, pl.Order.Existing, pl.Order.Moment)
	if s.Action == back.Beside {
		if s, err = pl.beside(e, s); err != nil {
			return err
		}
		pl.besides[e.Path] = s.Path
	}
	if s.Action.Acts() && !pl.Order.Look && !pl.place.allows(s.Path) {
		s.Action, s.Bytes, s.Why = back.Refuse, 0, "the server's agent allows nothing to be written there (keenlodge agent run --writable)"
	}
	if pl.stays[e.Same] && s.Action.Writes() {
		s.Action, s.Bytes, s.Why = back.Refuse, 0, fmt.Sprintf("it is another name of /%s, in whose place something else stays", files.Readable(e.Same))
	}
	if s.Action == back.Refuse && pl.Order.Delete && pl.Order.Holds(e.Path) && found != nil && found.Kind == files.Dir && pl.Order.Existing == back.Replace && e.Kind != files.Unseen {
		if s, err = pl.clear(s, e, name); err != nil {
			return err
		}
	}
	if n := len(pl.open); n > 0 && pl.open[n-1].to == folder {
		pl.open[n-1].filled = true
		delete(pl.open[n-1].names, name)
		delete(pl.open[n-1].names, path.Base(s.Path))
	}
	if e.Kind == files.File && (s.Action == back.Refuse || s.Action == back.Leave && !back.Alike(e, found)) {
		pl.stays[e.Path] = true
	}
	if e.Kind == files.File && s.Action.Writes() && s.Action != back.Amend {
		pl.fresh[e.Path] = true
	}
	pl.Add(s)
	pl.count(s)
	if e.Kind == files.Dir {
		switch {
		case s.Action == back.Refuse || s.Action == back.Leave && found.Kind != files.Dir:
			pl.blocked = to
		case s.Action == back.Replacing:
			pl.replacing = to
		case pl.Order.Delete && pl.Order.Holds(e.Path) && found != nil && e.Unread == "":
			return pl.folder(to, e.Path)
		}
	}
	return nil
}

// look says what is at a name in the open folder. e is what is to be there, nil where that does not matter.
func (pl *planner) look(name string, e *files.Entry) (*back.Found, error) {
	if pl.fd < 0 {
		return nil, nil
	}
	f, st, err := find(pl.fd, name)
	if f == nil || err != nil || e == nil {
		return f, err
	}
	if e.Same != "" {
		first, ok := pl.besides[e.Same]
		if !ok {
			first, _ = back.Locate(pl.Order.Roots, e.Same)
		}
		f.Same = !pl.fresh[e.Same] && pl.isSame(first, st)
	}
	if back.Alike(e, f) {
		f.Xattrs, err = inode.XattrsOf(inode.Within(pl.fd, name))
	}
	return f, err
}

// isSame reports whether a path is a file of which something is known.
func (pl *planner) isSame(p string, st *unix.Stat_t) bool {
	fd, err := openBelow(pl.top, p, unix.O_PATH|unix.O_NOFOLLOW, within)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	var other unix.Stat_t
	return unix.Fstat(fd, &other) == nil && other.Dev == st.Dev && other.Ino == st.Ino
}

// find says what is at a name in an open folder, nil where nothing is.
func find(fd int, name string) (*back.Found, *unix.Stat_t, error) {
	var st unix.Stat_t
	err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW)
	if errors.Is(err, unix.ENOENT) {
		return nil, nil, nil
	}
	if errors.Is(err, unix.ENAMETOOLONG) || errors.Is(err, unix.EINVAL) {
		return nil, nil, nil // no such name can be here; to write it will say so
	}
	if err != nil {
		return nil, nil, err
	}
	var e files.Entry
	inode.Fill(&e, &st)
	f := &back.Found{Kind: e.Kind, Size: e.Size, Modified: e.Modified, Mode: e.Mode, UID: e.UID, GID: e.GID, Major: e.Major, Minor: e.Minor, Key: keyOf(&st)}
	if f.Kind == "" {
		f.Kind = "socket"
	}
	if f.Kind == files.Link {
		f.Target, err = inode.Target(fd, name)
	}
	return f, &st, err
}

// keyOf is what tells whether a file is as it was: the kernel sets when it changed last, and nobody else can. That comes first.
func keyOf(st *unix.Stat_t) string {
	return fmt.Sprintf("%x.%x.%x.%x.%x", st.Ctim.Nano(), st.Dev, st.Ino, st.Size, st.Mtim.Nano())
}

// beside looks at the name under which something is put beside another.
func (pl *planner) beside(e *files.Entry, s back.Step) (back.Step, error) {
	found, err := pl.look(path.Base(s.Path), e)
	if err != nil || found == nil {
		return s, err
	}
	return back.NamedBeside(s, e, found), nil
}

// clear plans that a folder goes in whose place something else is to be; where not all of it does, the step stays refused.
func (pl *planner) clear(s back.Step, e *files.Entry, name string) (back.Step, error) {
	kept := pl.Plan
	pl.Plan = back.Plan{}
	whole, err := pl.remove(pl.fd, path.Dir(s.Path), path.Dir(e.Path), []string{name})
	gone := pl.Plan
	pl.Plan = kept
	if err != nil || !whole {
		return s, err
	}
	for _, d := range gone.Steps {
		pl.Add(d)
	}
	s.Action, s.Bytes, s.Old, s.Clears, s.Why = back.Make, e.Stored(), nil, true, ""
	return s, nil
}

// mounted reports whether what has a name in an open folder is the top of a mount, or of a subvolume.
func mounted(folder int, name string) (bool, error) {
	var above, it unix.Statx_t
	err := unix.Statx(folder, "", unix.AT_EMPTY_PATH, unix.STATX_MNT_ID, &above)
	if err == nil {
		err = unix.Statx(folder, name, unix.AT_SYMLINK_NOFOLLOW|unix.AT_NO_AUTOMOUNT, unix.STATX_MNT_ID, &it)
	}
	return it.Mnt_id != above.Mnt_id || it.Dev_major != above.Dev_major || it.Dev_minor != above.Dev_minor, err
}

// folder notes what is in a folder that is to be as it was.
func (pl *planner) folder(to, from string) error {
	o := &openFolder{to: to, from: from, names: map[string]bool{}}
	var err error
	if o.mounted, err = mounted(pl.fd, path.Base(to)); err != nil {
		return fmt.Errorf("/%s: %w", to, err)
	}
	fd, err := openBelow(pl.top, to, unix.O_RDONLY|unix.O_DIRECTORY, within)
	if err != nil {
		return fmt.Errorf("/%s: %w", to, err)
	}
	names, err := namesIn(fd, to)
	for _, n := range names {
		o.names[n] = true
	}
	pl.open = append(pl.open, o)
	return err
}

// namesIn reads an open folder, and closes it.
func namesIn(fd int, name string) ([]string, error) {
	f := os.NewFile(uintptr(fd), name)
	defer f.Close()
	return f.Readdirnames(-1)
}

// close closes the open folders in which a path does not lie: what is left in them goes.
func (pl *planner) close(p string) error {
	for len(pl.open) > 0 {
		o := pl.open[len(pl.open)-1]
		if p != "" && inFolder(p, o.to) {
			return nil
		}
		pl.open = pl.open[:len(pl.open)-1]
		if len(o.names) == 0 {
			continue
		}
		if o.mounted && !pl.belongs(o) {
			pl.Add(back.Step{Action: back.Leave, Path: o.to, From: o.from, Kind: files.Dir, Why: "another file system is mounted there, and is restored by itself only"})
			continue
		}
		fd, err := openBelow(pl.top, o.to, unix.O_PATH|unix.O_DIRECTORY, within)
		if err != nil {
			return fmt.Errorf("/%s: %w", o.to, err)
		}
		_, err = pl.remove(fd, o.to, o.from, slices.Sorted(maps.Keys(o.names)))
		unix.Close(fd)
		if err != nil {
			return err
		}
	}
	return nil
}

// belongs reports whether what is mounted at a folder is what the image has there, and not something over it.
func (pl *planner) belongs(o *openFolder) bool {
	asked := slices.ContainsFunc(pl.Order.Roots, func(r back.Root) bool { return r.To == o.to })
	return o.filled && (asked || pl.Order.Look)
}

// remove plans that names of an open folder go, and reports whether all of them do.
func (pl *planner) remove(fd int, to, from string, names []string) (all bool, err error) {
	all = true
	for _, name := range names {
		if err := context.Cause(pl.ctx); err != nil {
			return false, err
		}
		s := back.Step{Action: back.Delete, Path: path.Join(to, name)}
		old, _, err := find(fd, name)
		if err == nil && old == nil {
			continue
		}
		other := false
		if err == nil {
			other, err = mounted(fd, name)
		}
		if err != nil {
			return false, fmt.Errorf("/%s: %w", s.Path, err)
		}
		s.Old, s.Kind, s.Bytes = old, old.Kind, old.Size
		_, spared := pl.spare.LeftOut(path.Join(from, name), old.Kind == files.Dir)
		switch {
		case name == files.HeldFolder || name == files.SnapFolder:
			all = false
			continue
		case !pl.Order.Look && !pl.place.allows(s.Path):
			s.Action, s.Why = back.Leave, "the server's agent allows nothing to be written there (keenlodge agent run --writable)"
		case old.Kind == "socket":
			s.Action, s.Why = back.Leave, "it is a socket, and no image holds such"
		case spared:
			s.Action, s.Why = back.Leave, "the image's rules leave it out"
		case other:
			s.Action, s.Why = back.Leave, "another file system is mounted there"
		case old.Kind == files.Dir:
			inner, err := openBelow(fd, name, unix.O_RDONLY|unix.O_DIRECTORY, within)
			if err != nil {
				return false, fmt.Errorf("/%s: %w", s.Path, err)
			}
			f := os.NewFile(uintptr(inner), name)
			below, err := f.Readdirnames(-1)
			whole := false
			if err == nil {
				slices.Sort(below)
				whole, err = pl.remove(inner, s.Path, path.Join(from, name), below)
			}
			f.Close()
			if err != nil {
				return false, err
			}
			if !whole {
				s.Action, s.Why = back.Leave, "something in it stays"
			}
		}
		if s.Action != back.Delete {
			s.Bytes, all = 0, false
		}
		pl.Add(s)
	}
	return all, nil
}

// count counts the room that a step needs.
func (pl *planner) count(s back.Step) {
	if s.Bytes == 0 || !s.Action.Writes() {
		return
	}
	fd, at := pl.fd, pl.parent
	if fd < 0 { // the folder in which the first one lies that is not there
		for at = path.Dir(s.Path); at != "."; at = path.Dir(at) {
			if f, err := openBelow(pl.top, at, unix.O_PATH|unix.O_DIRECTORY, within); err == nil {
				defer unix.Close(f)
				fd = f
				break
			}
		}
		if fd < 0 {
			fd = pl.top
		}
	}
	var st unix.Stat_t
	if unix.Fstat(fd, &st) != nil {
		return
	}
	n := pl.needs[st.Dev]
	if n == nil {
		n = &room{at: at}
		pl.needs[st.Dev] = n
	}
	n.bytes += s.Bytes
	if s.Action == back.Replacing && !pl.Order.Keep && s.Old != nil {
		n.bytes -= min(s.Bytes, s.Old.Size)
	}
}

// short says on which file system there is no room.
func (pl *planner) short() string {
	for _, n := range pl.needs {
		fd, err := openBelow(pl.top, n.at, unix.O_PATH|unix.O_DIRECTORY, within)
		if err != nil {
			continue
		}
		var s unix.Statfs_t
		err = unix.Fstatfs(fd, &s)
		unix.Close(fd)
		if free := int64(s.Bavail) * s.Bsize; err == nil && n.bytes > free {
			return fmt.Sprintf("the file system of /%s has %d bytes free, and %d are to be written", strings.TrimPrefix(n.at, "."), free, n.bytes)
		}
	}
	return ""
}

// owners are users and groups of this machine by name, below 0 where it has none of that name.
type owners struct{ users, groups map[string]int64 }

// own sets the numbers of an entry's owners to those that their names have on this machine: numbers alone mean nothing on another one.
func (o owners) own(e *files.Entry) {
	if e.Owner != "" {
		id, known := o.users[e.Owner]
		if !known {
			id = -1
			if u, err := user.Lookup(e.Owner); err == nil {
				id = number(u.Uid)
			}
			o.users[e.Owner] = id
		}
		if id >= 0 {
			e.UID = uint32(id)
		}
	}
	if e.Group != "" {
		id, known := o.groups[e.Group]
		if !known {
			id = -1
			if g, err := user.LookupGroup(e.Group); err == nil {
				id = number(g.Gid)
			}
			o.groups[e.Group] = id
		}
		if id >= 0 {
			e.GID = uint32(id)
		}
	}
}

func number(text string) int64 {
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil {
		return -1
	}
	return int64(n)
}
