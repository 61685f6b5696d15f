package store

import (
	"context"
	"errors"
	"sync/atomic"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
)

// Progress counts bytes of an image that is being written: read from its source, and held by blocks that are not zeros.
type Progress struct{ Read, Data atomic.Int64 }

// WriteOptions says how an image is to be written.
type WriteOptions struct {
	// Program names who writes, for whoever looks at the store.
	Program string
	// Compress asks an open store to compress the disks' clusters.
	Compress bool
	// Compression is how hard a pooled one tries; "" is [site.Even].
	Compression site.Compression
}

// ErrOtherFiles marks a server that remembers another image than the one since which it was to tell what changed.
var ErrOtherFiles = errors.New("the server speaks of another image than this one")

// Writing is an image on its way into a store. [Writing.End] ends it in any case.
type Writing interface {
	// Disk stores a disk of the machine. What d calls unchanged is taken from base, the same disk of an older image, which is nil
	// where d is read whole.
	Disk(ctx context.Context, target, format string, d disk.Disk, base *OlderDisk, count *Progress) (image.Disk, error)
	// Amend stores a disk that [Writing.Disk] has just stored as it is by now: what changed calls unchanged stays as it was stored. base is what Disk
	// was given. What it stored before may be gone then, also where this fails.
	Amend(ctx context.Context, d image.Disk, changed disk.Disk, base *OlderDisk, count *Progress) (image.Disk, error)
	// Files stores what travels of a server's files, and describes it but for the rest of its manifest. What it says is as it was in an older image is
	// taken from base, which is nil where all of it travels. Errors wrap [ErrOtherFiles] where the server means another image than base.
	Files(ctx context.Context, in *files.Reader, base *image.Files, count *Progress) (image.Files, error)
	// Written returns what was new to the store so far, in bytes before and after compression.
	Written() (newBytes, stored int64)
	// Flush brings everything to its place. Finish makes the image exist.
	Flush(ctx context.Context) error
	Finish(ctx context.Context, m *image.Manifest) error
	// End releases what the writing holds, and gives back what it stored where why says that the medium is full. why is the
	// writing's error, or nil.
	End(ctx context.Context, why error) error
}

// OlderDisk is a disk of the image since which a new one is taken.
type OlderDisk struct {
	OpenedDisk
	Desc image.Disk
}

// Taker is a [Writing] that takes an image over from another store piece by piece: what its own store has does not travel.
type Taker interface {
	// Take stores what an image of another store holds, and returns its manifest with the disks and files in the terms of this store. Pieces are verified
	// on their way. Errors wrap chunk.ErrDamaged where the other store is to blame.
	Take(ctx context.Context, t Taking) (*image.Manifest, error)
}

// Taking says what is taken, from where.
type Taking struct {
	From  Store
	Image *image.Manifest
	// Copy is an image of this store that holds much of the same, nil for none; Older is the one in From of which it is a copy, which is needed only
	// where the two stores name equal pieces differently. What is in both is not looked at.
	Older, Copy *image.Manifest
	// Pace is called before so many bytes are sent, and waits as long as the bandwidth asks; nil is no limit.
	Pace func(ctx context.Context, bytes int) error
	// Count has in Data what is in place of the image, and in Read what was read of From's packs.
	Count *Progress
}
