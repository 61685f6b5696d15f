package open

import (
	"encoding/hex"
	"errors"
	"hash"
	"os"
	"sync/atomic"
	"syscall"
	"unsafe"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/disk"
)

const (
	// hole is the length below which zeros are written: a cluster of qcow2, and of most file systems' allocation.
	hole = 64 << 10
	// blockSize is how much is written at once; all but the last are of this length.
	blockSize = 1 << 20
	// blocksAtOnce are under way between who fills them, who writes and who digests them; writesAtOnce of them are being written.
	blocksAtOnce = 12
	writesAtOnce = 4
	// alignment is what writes past the page cache ask for, of memory and place (open(2), O_DIRECT).
	alignment = 4096
)

// newHash is BLAKE2b (RFC 7693) of 512 bits, which b2sum of the GNU core utilities writes and checks. Without help from
// the processor it takes a third of the time of SHA-256.
func newHash() hash.Hash {
	h, err := blake2b.New512(nil)
	if err != nil {
		panic(err) // only a key could be wrong
	}
	return h
}

// createDirect makes a file, written past the page cache if direct is set and the file system can: what is synced anyway need
// not be copied there first.
func createDirect(path string, direct bool) (*os.File, error) {
	const flags = os.O_CREATE | os.O_TRUNC | os.O_RDWR | syscall.O_NOFOLLOW
	if direct {
		f, err := os.OpenFile(path, flags|syscall.O_DIRECT, 0o600)
		if !errors.Is(err, syscall.EINVAL) {
			return f, err
		}
	}
	return os.OpenFile(path, flags, 0o600)
}

// block is a part of the file on its way.
type block struct {
	body []byte
	at   int64
	left atomic.Int32 // who is not done with it yet
}

// sink writes a file from its first byte to its last and digests it at the same time; rows of zeros become holes. The length must
// be a multiple of [alignment].
type sink struct {
	f       *os.File
	now     *block
	free    chan *block
	toWrite chan *block
	toHash  chan *block
	hashed  chan []byte
	writers errgroup.Group
	failed  atomic.Bool
}

func newSink(f *os.File) *sink {
	s := &sink{f: f, free: make(chan *block, blocksAtOnce), toWrite: make(chan *block, blocksAtOnce), toHash: make(chan *block, blocksAtOnce),
		hashed: make(chan []byte, 1)}
	for range blocksAtOnce {
		memory := make([]byte, blockSize+alignment)
		skip := (alignment - int(uintptr(unsafe.Pointer(&memory[0]))%alignment)) % alignment
		s.free <- &block{body: memory[skip : skip : skip+blockSize]}
	}
	s.now = <-s.free
	go s.hash()
	for range writesAtOnce {
		s.writers.Go(s.write)
	}
	return s
}

func (s *sink) hash() {
	sum := newHash()
	for b := range s.toHash {
		sum.Write(b.body)
		s.done(b)
	}
	s.hashed <- sum.Sum(nil)
}

// write writes blocks until there are no more; after an error it only gives them back.
func (s *sink) write() error {
	var err error
	for b := range s.toWrite {
		if err == nil {
			if err = s.writeBlock(b); err != nil {
				s.failed.Store(true)
			}
		}
		s.done(b)
	}
	return err
}

// writeBlock writes what is not zeros.
func (s *sink) writeBlock(b *block) error {
	for from := 0; from < len(b.body); {
		zeros := disk.IsZero(b.body[from:min(from+hole, len(b.body))])
		to := min(from+hole, len(b.body))
		for to < len(b.body) && disk.IsZero(b.body[to:min(to+hole, len(b.body))]) == zeros {
			to = min(to+hole, len(b.body))
		}
		if !zeros {
			if _, err := s.f.WriteAt(b.body[from:to], b.at+int64(from)); err != nil {
				return err
			}
		}
		from = to
	}
	return nil
}

// done gives a block back when both are done with it.
func (s *sink) done(b *block) {
	if b.left.Add(-1) == 0 {
		s.free <- b
	}
}

var errFailed = errors.New("writing failed")

// Write implements [io.Writer]. After an error of the file it fails, too; which one it was is told by end.
func (s *sink) Write(p []byte) (n int, err error) {
	for n < len(p) {
		room := s.now.body[len(s.now.body):cap(s.now.body)]
		k := copy(room, p[n:])
		s.now.body = s.now.body[:len(s.now.body)+k]
		n += k
		if len(s.now.body) == cap(s.now.body) {
			s.pass()
		}
	}
	if s.failed.Load() {
		return n, errFailed
	}
	return n, nil
}

// pass hands the block on and takes the next.
func (s *sink) pass() {
	next := s.now.at + int64(len(s.now.body))
	s.now.left.Store(2)
	s.toHash <- s.now
	s.toWrite <- s.now
	s.now = <-s.free
	s.now.body, s.now.at = s.now.body[:0], next
}

// end writes what is left, and tells the digest in hexadecimal and what went wrong. It must be called once.
func (s *sink) end() (string, error) {
	s.pass()
	close(s.toHash)
	close(s.toWrite)
	err := s.writers.Wait()
	return hex.EncodeToString(<-s.hashed), err
}
