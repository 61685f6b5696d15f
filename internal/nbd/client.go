// Package nbd speaks the network block device protocol as its specification describes it (NetworkBlockDevice/nbd,
// doc/proto.md): fixed newstyle negotiation, structured replies, block status.
package nbd

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/core/disk"
)

// Numbers of the protocol.
const (
	magicInit     = 0x4e42444d41474943 // "NBDMAGIC"
	magicOption   = 0x49484156454f5054 // "IHAVEOPT"
	magicOptReply = 0x3e889045565a9
	magicRequest  = 0x25609513
	magicSimple   = 0x67446698
	magicChunk    = 0x668e33ef

	flagFixedNewstyle = 1 << 0
	flagNoZeroes      = 1 << 1

	optStartTLS        = 5
	optGo              = 7
	optStructuredReply = 8
	optSetMetaContext  = 10

	repAck         = 1
	repInfo        = 3
	repMetaContext = 4
	repError       = 1 << 31

	infoExport = 0

	cmdRead        = 0
	cmdDisconnect  = 2
	cmdBlockStatus = 7

	chunkDone        = 1 << 0 // flag
	chunkNone        = 0
	chunkOffsetData  = 1
	chunkOffsetHole  = 2
	chunkBlockStatus = 5

	stateZero  = 1 << 1 // of base:allocation: the range reads as zeros
	stateDirty = 1 << 0 // of qemu:dirty-bitmap: the range was written to

	allocation = "base:allocation"
	// dirtyBitmap begins the name of a bitmap's context (QEMU, docs/interop/nbd.txt).
	dirtyBitmap = "qemu:dirty-bitmap:"
	// maxText bounds what a peer may make us hold beside the data that we asked for, in bytes.
	maxText = 1 << 20
	// maxRead is the most that one request asks for, in bytes. The protocol lets every server take 32 MiB, but QEMU's gives twice as much in a
	// second in requests of this size as in such of 1 MiB (docs/benchmarks.md).
	maxRead = 512 << 10
	// handshakeTime is how long the negotiation may take.
	handshakeTime = 30 * time.Second
)

// Client is an export of an NBD server. It implements [disk.Disk]; requests of several goroutines travel at once.
type Client struct {
	conn       net.Conn
	name       string
	size       int64
	structured bool
	bitmap     string // name of the bitmap that tells changes, or ""
	contexts   map[uint32]string
	stop       func() bool

	send sync.Mutex // one request on the wire at a time

	mu      sync.Mutex
	pending map[uint64]*request
	last    uint64
	dead    error
}

// request is one that waits for its reply.
type request struct {
	off  int64
	into []byte // of a read
	want int64  // bytes asked for
	got  int64  // bytes of a read that came
	// extents of a block status, by context
	extents map[string][]disk.Extent
	err     error
	done    chan struct{}
}

// ErrNoBitmap marks a bitmap that the server does not offer.
var ErrNoBitmap = errors.New("the server does not offer the bitmap")

// ErrBroken marks a connection that ended. What was asked for can be asked over another.
var ErrBroken = errors.New("the connection ended")

// Dial connects to an export, as [Over] does.
func Dial(ctx context.Context, network, address, export, bitmap string) (*Client, error) {
	conn, err := (&net.Dialer{Timeout: handshakeTime}).DialContext(ctx, network, address)
	if err != nil {
		return nil, fmt.Errorf("NBD server at %s: %w", address, err)
	}
	return Over(ctx, conn, nil, export, bitmap)
}

// Over opens an export over a connection to its server, which it closes. Where secure is not nil, TLS is begun first. When ctx ends, the
// connection closes and pending requests fail. bitmap names a dirty bitmap that tells what was written since it was made, or is "": the
// disk's extents are then [disk.Unchanged] where it is clean. One that the server does not offer is [ErrNoBitmap].
func Over(ctx context.Context, conn net.Conn, secure *tls.Config, export, bitmap string) (*Client, error) {
	c := &Client{conn: conn, name: export, bitmap: bitmap, contexts: map[uint32]string{}, pending: map[uint64]*request{}}
	// By closing, for not every connection knows deadlines: one through SSH does not.
	limit, done := context.WithTimeoutCause(ctx, handshakeTime, fmt.Errorf("no answer within %s", handshakeTime))
	stop := context.AfterFunc(limit, func() { conn.Close() })
	err := c.negotiate(limit, secure)
	if !stop() && err == nil || err != nil && limit.Err() != nil {
		err = context.Cause(limit)
	}
	done()
	if err != nil {
		c.conn.Close()
		return nil, fmt.Errorf("NBD export %q: %w", export, err)
	}
	c.stop = context.AfterFunc(ctx, func() { c.fail(context.Cause(ctx)) })
	go c.receive()
	return c, nil
}

func (c *Client) negotiate(ctx context.Context, secure *tls.Config) error {
	var hello struct {
		Init, Option uint64
		Flags        uint16
	}
	if err := binary.Read(c.conn, binary.BigEndian, &hello); err != nil {
		return fmt.Errorf("greeting: %w", err)
	}
	if hello.Init != magicInit || hello.Option != magicOption || hello.Flags&flagFixedNewstyle == 0 {
		return errors.New("the server does not speak the fixed newstyle protocol")
	}
	if err := binary.Write(c.conn, binary.BigEndian, uint32(flagFixedNewstyle|hello.Flags&flagNoZeroes)); err != nil {
		return err
	}
	if secure != nil {
		if err := c.option(optStartTLS, nil, nil); err != nil {
			return fmt.Errorf("begin TLS: %w", err)
		}
		conn := tls.Client(c.conn, secure)
		if err := conn.HandshakeContext(ctx); err != nil {
			return fmt.Errorf("begin TLS: %w", err)
		}
		c.conn = conn
	}
	err := c.option(optStructuredReply, nil, nil)
	c.structured = err == nil
	if err != nil && !errors.Is(err, errRefused) {
		return err
	}
	if c.structured {
		if err := c.askContexts(); err != nil {
			return err
		}
	}
	if c.bitmap != "" && !c.has(dirtyBitmap+c.bitmap) {
		return fmt.Errorf("bitmap %s: %w", c.bitmap, ErrNoBitmap)
	}
	p := binary.BigEndian.AppendUint32(nil, uint32(len(c.name)))
	p = append(p, c.name...)
	p = binary.BigEndian.AppendUint16(p, 0)
	found := false
	err = c.option(optGo, p, func(kind uint32, body []byte) {
		if kind == repInfo && len(body) >= 12 && binary.BigEndian.Uint16(body) == infoExport {
			c.size, found = int64(binary.BigEndian.Uint64(body[2:])), true
		}
	})
	if err != nil {
		return err
	}
	if !found || c.size < 0 {
		return errors.New("the server told no usable size")
	}
	return nil
}

// askContexts asks for what block status is to tell.
func (c *Client) askContexts() error {
	asked := []string{allocation}
	if c.bitmap != "" {
		asked = append(asked, dirtyBitmap+c.bitmap)
	}
	p := binary.BigEndian.AppendUint32(nil, uint32(len(c.name)))
	p = append(p, c.name...)
	p = binary.BigEndian.AppendUint32(p, uint32(len(asked)))
	for _, name := range asked {
		p = binary.BigEndian.AppendUint32(p, uint32(len(name)))
		p = append(p, name...)
	}
	err := c.option(optSetMetaContext, p, func(kind uint32, body []byte) {
		if kind == repMetaContext && len(body) > 4 && slices.Contains(asked, string(body[4:])) {
			c.contexts[binary.BigEndian.Uint32(body)] = string(body[4:])
		}
	})
	if errors.Is(err, errRefused) {
		return nil
	}
	return err
}

// has reports whether the server tells of a context.
func (c *Client) has(name string) bool {
	for _, got := range c.contexts {
		if got == name {
			return true
		}
	}
	return false
}

var errRefused = errors.New("the server refused")

// option sends an option and hands its replies on until the server acknowledges or refuses.
func (c *Client) option(option uint32, body []byte, reply func(kind uint32, body []byte)) error {
	p := binary.BigEndian.AppendUint64(nil, magicOption)
	p = binary.BigEndian.AppendUint32(p, option)
	p = binary.BigEndian.AppendUint32(p, uint32(len(body)))
	if _, err := c.conn.Write(append(p, body...)); err != nil {
		return err
	}
	for {
		var head struct {
			Magic                uint64
			Option, Kind, Length uint32
		}
		if err := binary.Read(c.conn, binary.BigEndian, &head); err != nil {
			return fmt.Errorf("reply to option %d: %w", option, err)
		}
		if head.Magic != magicOptReply || head.Option != option || head.Length > maxText {
			return fmt.Errorf("reply to option %d makes no sense (magic %x, option %d, %d bytes)", option, head.Magic, head.Option, head.Length)
		}
		body := make([]byte, head.Length)
		if _, err := io.ReadFull(c.conn, body); err != nil {
			return fmt.Errorf("reply to option %d: %w", option, err)
		}
		switch {
		case head.Kind == repAck:
			return nil
		case head.Kind&repError != 0:
			return fmt.Errorf("option %d: %w (%d) %s", option, errRefused, head.Kind&^uint32(repError), body)
		case reply != nil:
			reply(head.Kind, body)
		}
	}
}

// Size implements [disk.Disk].
func (c *Client) Size() int64 { return c.size }

// Close ends the session.
func (c *Client) Close() error {
	c.stop()
	c.request(cmdDisconnect, 0, 0, nil)
	c.fail(net.ErrClosed)
	return nil
}

// ReadAt implements [io.ReaderAt].
func (c *Client) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > c.size {
		return 0, fmt.Errorf("NBD export %q: read at %d of %d bytes", c.name, off, c.size)
	}
	want := p[:min(int64(len(p)), c.size-off)]
	var n int
	for n < len(want) {
		step := want[n:min(len(want), n+maxRead)]
		r, err := c.request(cmdRead, off+int64(n), int64(len(step)), step)
		if err == nil && r.got != r.want {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return n, fmt.Errorf("NBD export %q: read %d bytes at %d: %w", c.name, len(step), off+int64(n), err)
		}
		n += len(step)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Extents implements [disk.Disk]. From a server that tells no block status, all is data.
func (c *Client) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	told, err := c.status(offset, length)
	if err != nil || c.bitmap == "" {
		return told[allocation], err
	}
	return disk.Since(told[allocation], told[dirtyBitmap+c.bitmap]), nil
}

// Whole is the same disk without the word of the bitmap.
func (c *Client) Whole() disk.Disk { return whole{c} }

type whole struct{ *Client }

// Extents implements [disk.Disk].
func (w whole) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	told, err := w.status(offset, length)
	return told[allocation], err
}

// status asks for the status of a range in every context.
func (c *Client) status(offset, length int64) (map[string][]disk.Extent, error) {
	if len(c.contexts) == 0 {
		return map[string][]disk.Extent{allocation: {{Offset: offset, Length: length, Kind: disk.Data}}}, nil
	}
	const most = 1 << 30 // a multiple of every block size, below the limit of 32 bits
	r, err := c.request(cmdBlockStatus, offset, min(length, most), nil)
	if err == nil {
		if !c.has(allocation) {
			r.extents[allocation] = []disk.Extent{{Offset: offset, Length: min(length, most), Kind: disk.Data}}
		}
		for _, name := range c.contexts {
			if len(r.extents[name]) == 0 {
				err = fmt.Errorf("the server told nothing of %s", name)
			}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("NBD export %q: block status of %d bytes at %d: %w", c.name, min(length, most), offset, err)
	}
	return r.extents, nil
}

// request sends a command and waits for its reply.
func (c *Client) request(command uint16, off, length int64, into []byte) (*request, error) {
	r := &request{off: off, into: into, want: length, extents: map[string][]disk.Extent{}, done: make(chan struct{})}
	c.mu.Lock()
	if c.dead != nil {
		c.mu.Unlock()
		return nil, c.dead
	}
	c.last++
	handle := c.last
	if command != cmdDisconnect {
		c.pending[handle] = r
	}
	c.mu.Unlock()

	p := binary.BigEndian.AppendUint32(make([]byte, 0, 28), magicRequest)
	p = binary.BigEndian.AppendUint16(p, 0)
	p = binary.BigEndian.AppendUint16(p, command)
	p = binary.BigEndian.AppendUint64(p, handle)
	p = binary.BigEndian.AppendUint64(p, uint64(off))
	p = binary.BigEndian.AppendUint32(p, uint32(length))
	c.send.Lock()
	_, err := c.conn.Write(p)
	c.send.Unlock()
	if err != nil {
		c.fail(fmt.Errorf("%w: %w", ErrBroken, err))
	}
	if command == cmdDisconnect {
		return r, err
	}
	<-r.done
	return r, r.err
}

// fail closes the connection and ends all that waits.
func (c *Client) fail(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.dead == nil {
		c.dead = err
		c.conn.Close()
	}
}

// receive reads replies until the connection ends. It alone finishes requests, so that no buffer is written to after its
// ReadAt has returned.
func (c *Client) receive() {
	var err error
	for err == nil {
		err = c.reply()
	}
	c.fail(fmt.Errorf("%w: %w", ErrBroken, err))
	c.mu.Lock()
	defer c.mu.Unlock()
	for handle, r := range c.pending {
		delete(c.pending, handle)
		r.err = c.dead
		close(r.done)
	}
}

func (c *Client) reply() error {
	var head [20]byte
	if _, err := io.ReadFull(c.conn, head[:16]); err != nil {
		return err
	}
	be := binary.BigEndian
	switch magic := be.Uint32(head[:]); magic {
	case magicSimple:
		r, err := c.waiting(be.Uint64(head[8:]))
		if err != nil {
			return err
		}
		if code := be.Uint32(head[4:]); code != 0 {
			r.err = wireError(code, nil)
		} else if r.into != nil {
			if _, err := io.ReadFull(c.conn, r.into); err != nil {
				return err
			}
			r.got = r.want
		}
		c.finish(be.Uint64(head[8:]))
		return nil
	case magicChunk:
		if _, err := io.ReadFull(c.conn, head[16:]); err != nil {
			return err
		}
		handle := be.Uint64(head[8:])
		r, err := c.waiting(handle)
		if err != nil {
			return err
		}
		if err := c.chunk(r, be.Uint16(head[6:]), be.Uint32(head[16:])); err != nil {
			return err
		}
		if be.Uint16(head[4:])&chunkDone != 0 {
			c.finish(handle)
		}
		return nil
	default:
		return fmt.Errorf("a reply begins with %08x", magic)
	}
}

// chunk reads the body of a structured reply's chunk.
func (c *Client) chunk(r *request, kind uint16, length uint32) error {
	be := binary.BigEndian
	if kind == chunkOffsetData && length >= 8 {
		var at [8]byte
		if _, err := io.ReadFull(c.conn, at[:]); err != nil {
			return err
		}
		into, err := r.part(int64(be.Uint64(at[:])), int64(length-8))
		if err != nil {
			return err
		}
		_, err = io.ReadFull(c.conn, into)
		return err
	}
	if length > maxText {
		return fmt.Errorf("a chunk of kind %d has %d bytes", kind, length)
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(c.conn, body); err != nil {
		return err
	}
	switch {
	case kind == chunkNone:
	case kind == chunkOffsetHole && length == 12:
		into, err := r.part(int64(be.Uint64(body)), int64(be.Uint32(body[8:])))
		if err != nil {
			return err
		}
		clear(into)
	case kind == chunkBlockStatus && length >= 12 && length%8 == 4 && c.contexts[be.Uint32(body)] != "":
		return r.describe(c.contexts[be.Uint32(body)], body[4:])
	case kind&(1<<15) != 0 && length >= 6:
		text := body[6:]
		r.err = wireError(be.Uint32(body), text[:min(int(be.Uint16(body[4:])), len(text))])
	default:
		return fmt.Errorf("a chunk of kind %d and %d bytes makes no sense", kind, length)
	}
	return nil
}

// describe takes the descriptors of a context: lengths and flags.
func (r *request) describe(name string, p []byte) error {
	if len(r.extents[name]) > 0 {
		return fmt.Errorf("%s is told twice", name)
	}
	set, clear, flag := disk.Zero, disk.Data, uint32(stateZero)
	if name != allocation {
		set, clear, flag = disk.Data, disk.Unchanged, stateDirty
	}
	for at := r.off; len(p) > 0 && at < r.off+r.want; p = p[8:] {
		e := disk.Extent{Offset: at, Length: min(int64(binary.BigEndian.Uint32(p)), r.off+r.want-at), Kind: clear}
		if binary.BigEndian.Uint32(p[4:])&flag != 0 {
			e.Kind = set
		}
		if e.Length == 0 {
			return errors.New("an extent is empty")
		}
		r.extents[name] = append(r.extents[name], e)
		at = e.End()
	}
	return nil
}

// part is the piece of a read's buffer that a chunk fills.
func (r *request) part(off, length int64) ([]byte, error) {
	from := off - r.off
	if r.into == nil || length < 0 || from < 0 || from > r.want || length > r.want-from || r.got+length > r.want {
		return nil, fmt.Errorf("a chunk of %d bytes at %d was not asked for", length, off)
	}
	r.got += length
	return r.into[from : from+length], nil
}

func (c *Client) waiting(handle uint64) (*request, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	r, ok := c.pending[handle]
	if !ok {
		return nil, fmt.Errorf("a reply belongs to request %d, which nobody made", handle)
	}
	return r, nil
}

func (c *Client) finish(handle uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	close(c.pending[handle].done)
	delete(c.pending, handle)
}

func wireError(code uint32, text []byte) error {
	if len(text) > 0 {
		return fmt.Errorf("the server says: %s (error %d)", text, code)
	}
	return fmt.Errorf("the server says: error %d", code)
}
