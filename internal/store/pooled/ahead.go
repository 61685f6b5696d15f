package pooled

import (
	"context"
	"slices"
	"sync"

	"keenlodge/internal/core/chunk"
)

const (
	// firstStretch is how much is read at once where a second request follows a first one, in bytes; each further one reads twice as much, up
	// to longestStretch: an image is read in about the order in which it was stored, and over a line each request costs more than its bytes.
	firstStretch   = 256 << 10
	longestStretch = 2 << 20
	// nearBy is how far after a stretch's end the next request may begin: what lies between is known already, or another's.
	nearBy = 128 << 10
	// stretchesKept bounds the memory that reading ahead takes, and how many packs may be read at the same time.
	stretchesKept = 16
)

// ahead reads packs, and more of them than it is asked for where requests follow each other. The zero value is ready to use, by several
// goroutines at once.
type ahead struct {
	mu        sync.Mutex
	stretches []*stretch // used last first
	expected  []expected // what will be asked for, the newest last
}

// expected is a part of a pack that somebody is about to ask for, frame by frame.
type expected struct {
	pack        chunk.PackID
	from, until int64
}

// expect has a part of a pack read at once when its begin is asked for.
func (a *ahead) expect(e expected) {
	if e.until == 0 {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.expected = append(a.expected, e); len(a.expected) > expectedMost {
		a.expected = slices.Delete(a.expected, 0, 1)
	}
}

// expectedMost bounds what is kept of who never asked.
const expectedMost = 64

// stretch is a part of a pack that is being read, or was. Once ready is closed, body or err is there.
type stretch struct {
	pack        chunk.PackID
	from, until int64
	ready       chan struct{}
	body        []byte
	err         error
}

// get reads length bytes of a pack; last is where its frames end, 0 if that is not known. read reads from the medium.
func (a *ahead) get(ctx context.Context, pack chunk.PackID, offset, length, last int64, read func(offset, length int64) ([]byte, error)) ([]byte, error) {
	s, mine := a.find(pack, offset, length, last)
	if !mine {
		select {
		case <-s.ready:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	} else {
		s.body, s.err = read(s.from, s.until-s.from)
		close(s.ready)
	}
	if s.err != nil {
		a.forget(s)
		if mine && s.until == offset+length {
			return nil, s.err
		}
		return read(offset, length) // what is wrong may lie in what nobody asked for
	}
	return s.body[offset-s.from:][:length], nil
}

// find gives the stretch that holds a part of a pack, or makes one; mine says that the caller is to read it.
func (a *ahead) find(pack chunk.PackID, offset, length, last int64) (s *stretch, mine bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for i, s := range a.stretches {
		if s.pack == pack && offset >= s.from && offset+length <= s.until {
			a.stretches = slices.Insert(slices.Delete(a.stretches, i, i+1), 0, s)
			return s, false
		}
	}
	size := length
	if i := slices.IndexFunc(a.expected, func(e expected) bool { return e.pack == pack && e.from == offset }); i >= 0 {
		size = max(size, a.expected[i].until-offset)
		a.expected = slices.Delete(a.expected, i, i+1)
	}
	for _, s := range a.stretches {
		if s.pack == pack && offset >= s.from && offset <= s.until+nearBy {
			size = max(size, min(longestStretch, max(firstStretch, 2*(s.until-s.from))))
			break
		}
	}
	until := offset + size
	if last > 0 {
		until = max(offset+length, min(until, last))
	}
	s = &stretch{pack: pack, from: offset, until: until, ready: make(chan struct{})}
	a.stretches = slices.Insert(a.stretches, 0, s)
	if len(a.stretches) > stretchesKept {
		a.stretches = a.stretches[:stretchesKept]
	}
	return s, true
}

// forget drops a stretch that could not be read.
func (a *ahead) forget(s *stretch) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if i := slices.Index(a.stretches, s); i >= 0 {
		a.stretches = slices.Delete(a.stretches, i, i+1)
	}
}
