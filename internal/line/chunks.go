package line

import (
	"encoding/binary"
	"fmt"
	"io"
)

// Chunks frames what is sent on a stream that goes on after it: each chunk has its length before it, as 32 bits big-endian, and one of none ends them.

// largestChunk bounds what is taken for a chunk, in bytes.
const largestChunk = 1 << 20

// ChunkWriter writes chunks. Close it, which leaves the stream open.
type ChunkWriter struct{ W io.Writer }

func (c ChunkWriter) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		part := p[:min(len(p), largestChunk)]
		if err := c.head(len(part)); err != nil {
			return n, err
		}
		m, err := c.W.Write(part)
		if n += m; err != nil {
			return n, err
		}
		p = p[len(part):]
	}
	return n, nil
}

func (c ChunkWriter) head(n int) error {
	_, err := c.W.Write(binary.BigEndian.AppendUint32(nil, uint32(n)))
	return err
}

// Close says that there are no more.
func (c ChunkWriter) Close() error { return c.head(0) }

// Chunks reads them as one.
type Chunks struct {
	R    io.Reader
	left uint32
	done bool
}

func (c *Chunks) Read(p []byte) (int, error) {
	for c.left == 0 && !c.done {
		var head [4]byte
		if _, err := io.ReadFull(c.R, head[:]); err != nil {
			return 0, cutShort(err)
		}
		c.left = binary.BigEndian.Uint32(head[:])
		if c.left > largestChunk {
			return 0, fmt.Errorf("a chunk of %d bytes is longer than any", c.left)
		}
		c.done = c.left == 0
	}
	if c.done {
		return 0, io.EOF
	}
	n, err := c.R.Read(p[:min(len(p), int(c.left))])
	c.left -= uint32(n)
	return n, cutShort(err)
}

func cutShort(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}
