// Package scratch gives out room on this host for what is written only to be looked at or sent on: folders that go with whoever has them, however he
// ends.
package scratch

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"
)

const (
	// mark begins the names of rooms.
	mark = "restore-"
	// left is what is left free beside what is written, in bytes.
	left = 1 << 30
)

// Folder is where rooms are made.
type Folder string

// Room is a folder of one's own. Close removes it.
type Room struct {
	Folder string
	held   *os.File // whoever has its lock lives
}

// Room makes a room, if there is place for so many bytes.
func (f Folder) Room(need int64) (*Room, error) {
	if err := os.MkdirAll(string(f), 0o700); err != nil {
		return nil, err
	}
	var there unix.Statfs_t
	if err := unix.Statfs(string(f), &there); err != nil {
		return nil, fmt.Errorf("scratch folder %s: %w", f, err)
	}
	if free := int64(there.Bavail) * there.Bsize; free < need+left {
		return nil, fmt.Errorf("scratch folder %s has %s left, and the image takes %s and leaves %s; make room, or start the service with --scratch elsewhere", f, humanize.IBytes(uint64(free)), humanize.IBytes(uint64(need)), humanize.IBytes(left))
	}
	folder, err := os.MkdirTemp(string(f), mark)
	if err != nil {
		return nil, err
	}
	held, err := hold(folder)
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(folder))
	}
	return &Room{folder, held}, nil
}

// Close removes the room with all that is in it.
func (r *Room) Close() error { return errors.Join(os.RemoveAll(r.Folder), r.held.Close()) }

// hold takes the lock of a room, which whoever writes there holds while he lives.
func hold(folder string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Clear removes the rooms of the dead.
func (f Folder) Clear() error {
	rooms, err := filepath.Glob(filepath.Join(string(f), mark+"*"))
	for _, folder := range rooms {
		held, busy := hold(folder)
		if busy != nil {
			continue // somebody is at work there
		}
		err = errors.Join(err, os.RemoveAll(folder), held.Close())
	}
	return err
}
