// Package medium is how a store's objects are reached: put once, get a range, list, stat, delete. There is no append, no
// rename and no lock in it, for that is all that a folder, an object service and a file share have in common.
package medium

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// ErrNotFound marks an object that is not there.
var ErrNotFound = errors.New("no such object")

// ErrFull marks a medium without room.
var ErrFull = errors.New("no space left")

// MostWhole bounds an object that is read whole, in bytes: what a place says of its objects' lengths may be anything. Tests lower it.
var MostWhole = int64(160 << 20)

// ErrTooLarge marks an object that is longer.
var ErrTooLarge = errors.New("it is longer than any object that is read whole")

// CheckWhole is nil if so many bytes may be read at once.
func CheckWhole(length int64) error {
	if length < 0 || length > MostWhole {
		return fmt.Errorf("%w (%d bytes)", ErrTooLarge, length)
	}
	return nil
}

// Object is what a medium tells of an object. Size is in bytes; Modified is by the medium's own clock: Stat tells it, and the lists of a [Locker].
type Object struct {
	Name     string
	Size     int64
	Modified time.Time
}

// Errors of places that can't be used, for those who ask why. Media wrap them with what they tried.
var (
	// ErrUnreachable marks a host that is not known, does not answer, or whose line was cut.
	ErrUnreachable = errors.New("can't be reached")
	// ErrRefused marks a key, password or host key that was not accepted.
	ErrRefused = errors.New("was refused")
	// ErrNoRight marks something that the account may not do.
	ErrNoRight = errors.New("not allowed")
	// ErrNoPlace marks a folder or bucket that does not exist.
	ErrNoPlace = errors.New("does not exist")
	// ErrLocked marks an object that its place does not let go yet.
	ErrLocked = errors.New("its place has it locked")
)

// Room is what is left on a medium, in bytes and inodes; a negative number means that the medium can't tell.
type Room struct {
	FreeBytes   int64 `json:"free_bytes"`
	TotalBytes  int64 `json:"total_bytes"`
	FreeInodes  int64 `json:"free_inodes"`
	TotalInodes int64 `json:"total_inodes"`
}

// Medium keeps objects. Names are slash-separated paths of lower-case letters, digits, dots and dashes. All methods may
// be called by several goroutines at once.
type Medium interface {
	// Put writes a whole object, which is not empty, or none: after a nil error it survives a power cut. An object is never written twice
	// with another content.
	Put(ctx context.Context, name string, content []byte) error
	// Get reads length bytes from offset on, or all that follows if length is negative. An object that ends before is
	// io.ErrUnexpectedEOF; one that is missing is [ErrNotFound]; more than [MostWhole] bytes are [ErrTooLarge].
	Get(ctx context.Context, name string, offset, length int64) ([]byte, error)
	// List visits the objects whose names begin with prefix, which ends with a slash, in no order.
	List(ctx context.Context, prefix string, visit func(Object) error) error
	// Stat tells of one object; one that is missing is [ErrNotFound].
	Stat(ctx context.Context, name string) (Object, error)
	// Delete removes an object; one that is missing is no error.
	Delete(ctx context.Context, name string) error
	// Room tells what is left.
	Room(ctx context.Context) (Room, error)
	// Close lets connections go. A medium that was closed must not be used.
	Close() error
	// String describes the place for messages, without secrets.
	String() string
}

// Locker is a medium whose place itself can lock objects: until a moment nobody deletes or changes what is locked, and what was tried hides nothing
// from who reads here. Delete of what is locked is [ErrLocked].
type Locker interface {
	Medium
	// PutUntil is Put of an object that is locked until a moment at least.
	PutUntil(ctx context.Context, name string, content []byte, until time.Time) error
	// Extend has an object locked until a moment at least; one that is missing is [ErrNotFound].
	Extend(ctx context.Context, name string, until time.Time) error
	// MendHidden undoes what somebody did to hide objects that are locked, and names them.
	MendHidden(ctx context.Context) ([]string, error)
	// Locks says by what the place locks objects, and against whom.
	Locks() string
}

// IsFull reports whether something failed for want of room.
func IsFull(err error) bool { return errors.Is(err, ErrFull) }
