package tree

import (
	"errors"
	"slices"
	"sync"

	"golang.org/x/sys/unix"
)

const (
	// besides is how many folders are read ahead of the one beside them that is being shown, each with the first that lies in it, and the first in
	// that; mostAhead is how many in all, for each is open meanwhile.
	besides, mostAhead = 16, 200
	// lookedAtOnce is how many names of a folder are looked at before the first of them is shown: of a folder of a million the rest comes later.
	lookedAtOnce = 512
)

// folder is an open one.
type folder struct {
	fd     int
	unread error    // not all names could be read
	first  []child  // what lies in it: the first of it, nil once it is being shown
	names  []string // the rest
}

// read reads an open folder.
func (w *walker) read(fd int, it item, taken bool) *folder {
	names, err := namesIn(fd)
	n := min(len(names), lookedAtOnce)
	f := &folder{fd, err, w.lookAt(fd, it, names[:n], taken), names[n:]}
	if i := slices.IndexFunc(f.first, func(c child) bool { return c.enter }); i >= 0 {
		w.readAhead(fd, &f.first[i], false)
	}
	return f
}

// dirents are buffers for what the kernel says of folders.
var dirents = sync.Pool{New: func() any { return new([32 << 10]byte) }}

// namesIn lists the names in a folder that was just opened, in order.
func namesIn(fd int) (names []string, err error) {
	buffer := dirents.Get().(*[32 << 10]byte)
	defer dirents.Put(buffer)
	for {
		n, err := unix.ReadDirent(fd, buffer[:])
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n <= 0 {
			slices.Sort(names)
			return names, err
		}
		_, _, names = unix.ParseDirent(buffer[:n], -1, names)
	}
}

// lookAt looks at names in an open folder.
func (w *walker) lookAt(fd int, above item, names []string, taken bool) []child {
	all := make([]child, 0, len(names))
	var st unix.Stat_t
	for _, name := range names {
		err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW)
		if c, ok := w.decide(fd, above, name, &st, err, taken); ok {
			all = append(all, c)
		}
	}
	return all
}

// opening is a folder that is being opened and read.
type opening struct {
	done  chan struct{}
	ahead bool // it counts among those that are read ahead
	f     *folder
	err   error
}

// readAhead begins to read a folder that is to be entered, in its turn or ahead of that; it reports whether there was room for it.
func (w *walker) readAhead(fd int, c *child, itsTurn bool) bool {
	if !c.enter || c.opened != nil {
		return true
	}
	read := func(o *opening) {
		in, err := openFolder(fd, c.name)
		if o.err = err; err == nil {
			o.f = w.read(in, c.item, c.taken)
		}
		close(o.done)
	}
	select {
	case w.ahead <- struct{}{}:
		c.opened = &opening{done: make(chan struct{}), ahead: true}
		go read(c.opened)
	default:
		if itsTurn {
			c.opened = &opening{done: make(chan struct{})}
			read(c.opened)
		}
		return itsTurn
	}
	return true
}

// wait returns the folder once it is read.
func (o *opening) wait() (*folder, error) {
	<-o.done
	return o.f, o.err
}

// close closes a folder, which nobody may have waited for; nil is none.
func (w *walker) close(o *opening) {
	if o == nil {
		return
	}
	if f, err := o.wait(); err == nil {
		w.closeAll(f.first)
		unix.Close(f.fd)
	}
	if o.ahead {
		<-w.ahead
	}
}

// closeAll closes what of a folder was read ahead and not shown.
func (w *walker) closeAll(all []child) {
	for i := range all {
		w.close(all[i].opened)
	}
}

func openFolder(fd int, name string) (int, error) {
	const flags = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC
	in, err := unix.Openat(fd, name, flags|unix.O_NOATIME, 0)
	if errors.Is(err, unix.EPERM) {
		in, err = unix.Openat(fd, name, flags, 0)
	}
	return in, err
}
