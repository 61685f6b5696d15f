// Package ahead reads ahead: while one block is used the next ones are read, by a goroutine of their own.
package ahead

import (
	"io"
	"sync"
)

// Reader reads from another reader, up to some blocks ahead. Close it, and close what it reads from first if that may hang: its goroutine ends with the
// next read.
type Reader struct {
	full, free chan []byte
	now        []byte
	at         int
	err        error // set before full is closed
	stop       chan struct{}
	once       sync.Once
}

// New begins to read ahead, so many blocks of so many bytes.
func New(from io.Reader, bytes, blocks int) *Reader {
	r := &Reader{full: make(chan []byte, blocks), free: make(chan []byte, blocks), stop: make(chan struct{})}
	for range blocks {
		r.free <- make([]byte, bytes)
	}
	go r.run(from)
	return r
}

func (r *Reader) run(from io.Reader) {
	defer close(r.full)
	for {
		var b []byte
		select {
		case b = <-r.free:
		case <-r.stop:
			return
		}
		n, err := from.Read(b[:cap(b)])
		if n > 0 {
			r.full <- b[:n] // there is room for all blocks
		}
		if err != nil {
			r.err = err
			return
		}
		if n == 0 {
			r.free <- b
		}
	}
}

// Read implements [io.Reader].
func (r *Reader) Read(p []byte) (int, error) {
	if r.at == len(r.now) {
		if r.now != nil {
			r.free <- r.now[:cap(r.now)]
			r.now, r.at = nil, 0
		}
		b, ok := <-r.full
		if !ok {
			if r.err == nil {
				return 0, io.ErrClosedPipe
			}
			return 0, r.err
		}
		r.now, r.at = b, 0
	}
	n := copy(p, r.now[r.at:])
	r.at += n
	return n, nil
}

// Close stops reading ahead.
func (r *Reader) Close() error {
	r.once.Do(func() { close(r.stop) })
	return nil
}
