package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/disk"
)

// More numbers of the protocol, of which only a server needs to know.
const (
	flagReadOnly  = 1<<0 | 1<<1 // NBD_FLAG_HAS_FLAGS, NBD_FLAG_READ_ONLY
	flagMultiConn = 1 << 8

	optExportName      = 1
	optAbort           = 2
	optList            = 3
	optInfo            = 6
	optListMetaContext = 9

	repServer   = 2
	repUnknown  = repError | 6
	repTLSFirst = repError | 5
	repInvalid  = repError | 3
	repUnsup    = repError | 1
	infoBlock   = 3
	chunkError  = 1<<15 | 1
	statusHole  = 1 << 0
	onlyOne     = 1 << 3 // flag of a block status: one extent is enough
	errPerm     = 1
	errIO       = 5
	errInvalid  = 22
	longestName = 4096
	mostOption  = 64 << 10
	// atOnce is how many requests of a connection are carried out at the same time, mostExtents how many extents are told in one answer.
	atOnce, mostExtents = 8, 32 << 10
	// mostAsked is the most that a request may read, as the protocol suggests.
	mostAsked = 32 << 20
)

// Export is what a server offers, for reading only. Where Changed is not nil, it is the same disk with the word of what is unchanged, which is
// offered as a dirty bitmap called Bitmap.
type Export struct {
	Name    string
	Disk    disk.Disk
	Bitmap  string
	Changed disk.Disk
}

// Serve offers a disk on a connection, until the client disconnects or ctx ends. The connection is not closed.
func Serve(ctx context.Context, conn net.Conn, e Export) error {
	s := &serving{conn: conn, e: e}
	return s.serve(ctx)
}

// ServeSecure offers what find finds by the name that a client asks for, as [Serve] does, once the client has begun TLS: nothing else is answered before.
// No list is told, so that a name can be what lets somebody in.
func ServeSecure(ctx context.Context, conn net.Conn, secure *tls.Config, find func(name string) (Export, bool)) error {
	s := &serving{conn: conn, secure: secure, find: find}
	return s.serve(ctx)
}

func (s *serving) serve(ctx context.Context) error {
	conn := s.conn
	s.in = bufio.NewReaderSize(conn, 64<<10)
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	transmit, err := s.negotiate(ctx)
	if err == nil && transmit {
		err = s.transmit(ctx)
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, io.EOF) {
		return nil // the client went
	}
	if err != nil {
		return fmt.Errorf("offer %s over NBD: %w", s.e.Name, err)
	}
	return nil
}

type serving struct {
	conn       net.Conn
	in         *bufio.Reader
	e          Export
	structured bool
	contexts   [3]bool // by id: allocationID, bitmapID
	// secure is what TLS is begun with, nil once it is, or where none is asked for. find finds what e is, nil where that is said.
	secure *tls.Config
	find   func(name string) (Export, bool)

	send sync.Mutex
}

// The ids that the contexts have here.
const allocationID, bitmapID = 1, 2

func (s *serving) contextName(id int) string {
	if id == allocationID {
		return allocation
	}
	return dirtyBitmap + s.e.Bitmap
}

// has tells whether there is an export of a name, which is the one that is offered then.
func (s *serving) has(name string) bool {
	if s.find == nil {
		return name == s.e.Name
	}
	e, ok := s.find(name)
	if ok {
		s.e = e
	}
	return ok
}

// begin begins TLS, in which all is said from then on (protocol, NBD_OPT_STARTTLS).
func (s *serving) begin(ctx context.Context) error {
	if s.in.Buffered() > 0 {
		return errors.New("the client spoke on before TLS had begun")
	}
	conn := tls.Server(s.conn, s.secure)
	if err := conn.HandshakeContext(ctx); err != nil {
		return fmt.Errorf("begin TLS: %w", err)
	}
	s.conn, s.secure = conn, nil
	s.in = bufio.NewReaderSize(conn, 64<<10)
	return nil
}

// negotiate answers options until the client wants to begin.
func (s *serving) negotiate(ctx context.Context) (transmit bool, err error) {
	var hello []byte
	hello = binary.BigEndian.AppendUint64(hello, magicInit)
	hello = binary.BigEndian.AppendUint64(hello, magicOption)
	hello = binary.BigEndian.AppendUint16(hello, flagFixedNewstyle|flagNoZeroes)
	if _, err := s.conn.Write(hello); err != nil {
		return false, err
	}
	var flags uint32
	if err := binary.Read(s.in, binary.BigEndian, &flags); err != nil {
		return false, err
	}
	for {
		var head struct {
			Magic          uint64
			Option, Length uint32
		}
		if err := binary.Read(s.in, binary.BigEndian, &head); err != nil {
			return false, err
		}
		if head.Magic != magicOption || head.Length > mostOption {
			return false, fmt.Errorf("the client sent no option that can be understood")
		}
		body := make([]byte, head.Length)
		if _, err := io.ReadFull(s.in, body); err != nil {
			return false, err
		}
		done, err := s.option(ctx, head.Option, body, flags&flagNoZeroes != 0)
		if done || err != nil {
			return done && head.Option != optAbort, err
		}
	}
}

// option answers one option; done says that the negotiation is over.
func (s *serving) option(ctx context.Context, option uint32, body []byte, short bool) (done bool, err error) {
	reply := func(kind uint32, body []byte) {
		var out []byte
		out = binary.BigEndian.AppendUint64(out, magicOptReply)
		out = binary.BigEndian.AppendUint32(out, option)
		out = binary.BigEndian.AppendUint32(out, kind)
		out = binary.BigEndian.AppendUint32(out, uint32(len(body)))
		if err == nil {
			_, err = s.conn.Write(append(out, body...))
		}
	}
	flags := uint16(flagReadOnly | flagMultiConn)
	if s.secure != nil && option != optStartTLS && option != optAbort {
		if option == optExportName { // to which nothing can be said
			return false, errors.New("the client asks for an export without TLS")
		}
		reply(repTLSFirst, nil)
		return false, err
	}
	switch option {
	case optStartTLS:
		if s.secure == nil {
			reply(repUnsup, nil)
			return false, err
		}
		if reply(repAck, nil); err == nil {
			err = s.begin(ctx)
		}
		return false, err
	case optExportName:
		if !s.has(string(body)) {
			return false, fmt.Errorf("there is no export %.40q", body)
		}
		out := binary.BigEndian.AppendUint64(nil, uint64(s.e.Disk.Size()))
		out = binary.BigEndian.AppendUint16(out, flags)
		if !short {
			out = append(out, make([]byte, 124)...)
		}
		_, err = s.conn.Write(out)
		return true, err
	case optAbort:
		reply(repAck, nil)
		return true, err
	case optList:
		if s.find != nil {
			reply(repUnsup, nil)
			return false, err
		}
		reply(repServer, append(binary.BigEndian.AppendUint32(nil, uint32(len(s.e.Name))), s.e.Name...))
		reply(repAck, nil)
	case optStructuredReply:
		s.structured = true
		reply(repAck, nil)
	case optInfo, optGo:
		name, _, ok := cutName(body)
		switch {
		case !ok:
			reply(repInvalid, nil)
		case !s.has(name):
			reply(repUnknown, nil)
		default:
			info := binary.BigEndian.AppendUint16(nil, infoExport)
			info = binary.BigEndian.AppendUint64(info, uint64(s.e.Disk.Size()))
			reply(repInfo, binary.BigEndian.AppendUint16(info, flags))
			info = binary.BigEndian.AppendUint16(nil, infoBlock)
			for _, n := range []uint32{1, 256 << 10, mostAsked} {
				info = binary.BigEndian.AppendUint32(info, n)
			}
			reply(repInfo, info)
			reply(repAck, nil)
			return option == optGo, err
		}
	case optSetMetaContext, optListMetaContext:
		s.metaContexts(option == optSetMetaContext, body, reply)
	default:
		reply(repUnsup, nil)
	}
	return false, err
}

// cutName cuts a name with its length before it.
func cutName(b []byte) (name string, rest []byte, ok bool) {
	if len(b) < 4 {
		return "", nil, false
	}
	n := binary.BigEndian.Uint32(b)
	if n > longestName || int(n) > len(b)-4 {
		return "", nil, false
	}
	return string(b[4 : 4+n]), b[4+n:], true
}

func (s *serving) metaContexts(set bool, body []byte, reply func(uint32, []byte)) {
	name, rest, ok := cutName(body)
	if !ok || len(rest) < 4 || !s.structured {
		reply(repInvalid, nil)
		return
	}
	if !s.has(name) {
		reply(repUnknown, nil)
		return
	}
	n := binary.BigEndian.Uint32(rest)
	rest = rest[4:]
	var asked []string
	for range min(n, 64) {
		if name, rest, ok = cutName(rest); !ok {
			reply(repInvalid, nil)
			return
		}
		asked = append(asked, name)
	}
	if set {
		s.contexts = [3]bool{}
	}
	for _, id := range []int{allocationID, bitmapID} {
		if id == bitmapID && s.e.Changed == nil {
			continue
		}
		has := s.contextName(id)
		for _, q := range asked {
			if q == has || !set && strings.HasSuffix(q, ":") && strings.HasPrefix(has, q) {
				s.contexts[id] = s.contexts[id] || set
				reply(repMetaContext, append(binary.BigEndian.AppendUint32(nil, uint32(id)), has...))
				break
			}
		}
		if !set && len(asked) == 0 {
			reply(repMetaContext, append(binary.BigEndian.AppendUint32(nil, 0), has...))
		}
	}
	reply(repAck, nil)
}

// asking is a request of a client.
type asking struct {
	Magic         uint32
	Flags, Kind   uint16
	Handle, Where uint64
	Length        uint32
}

// transmit answers requests, several at once. A failed read is told to the client; what goes wrong with the connection ends it.
func (s *serving) transmit(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	stop := context.AfterFunc(ctx, func() { s.conn.Close() })
	defer stop()
	for {
		var r asking
		if err := binary.Read(s.in, binary.BigEndian, &r); err != nil {
			return errors.Join(err, group.Wait())
		}
		if r.Magic != magicRequest {
			return errors.Join(errors.New("the client sent no request that can be understood"), group.Wait())
		}
		switch size := uint64(s.e.Disk.Size()); {
		case r.Kind == cmdDisconnect:
			return group.Wait()
		case r.Kind != cmdRead && r.Kind != cmdBlockStatus:
			// A write has its data behind it, which is not to be taken for requests.
			if r.Kind == 1 {
				if _, err := io.CopyN(io.Discard, s.in, int64(r.Length)); err != nil {
					return errors.Join(err, group.Wait())
				}
			}
			group.Go(func() error { return s.refuse(r, errPerm, "this disk is offered for reading only") })
		case r.Length == 0 || r.Where >= size || uint64(r.Length) > size-r.Where || r.Kind == cmdRead && r.Length > mostAsked || r.Kind == cmdBlockStatus && !s.contexts[allocationID] && !s.contexts[bitmapID]:
			group.Go(func() error { return s.refuse(r, errInvalid, "the request is out of range") })
		case r.Kind == cmdRead:
			group.Go(func() error { return s.read(r) })
		default:
			group.Go(func() error { return s.status(ctx, r) })
		}
	}
}

func (s *serving) refuse(r asking, code uint32, text string) error {
	if !s.structured {
		return s.simple(r.Handle, code, nil)
	}
	body := binary.BigEndian.AppendUint32(nil, code)
	text = text[:min(len(text), 1<<10)]
	body = binary.BigEndian.AppendUint16(body, uint16(len(text)))
	return s.chunk(r.Handle, chunkError, true, append(body, text...), nil)
}

func (s *serving) simple(handle uint64, code uint32, data []byte) error {
	head := binary.BigEndian.AppendUint32(nil, magicSimple)
	head = binary.BigEndian.AppendUint32(head, code)
	return s.put(binary.BigEndian.AppendUint64(head, handle), data)
}

func (s *serving) chunk(handle uint64, kind uint16, last bool, body, data []byte) error {
	head := binary.BigEndian.AppendUint32(make([]byte, 0, 32+len(body)), magicChunk)
	flags := uint16(0)
	if last {
		flags = chunkDone
	}
	head = binary.BigEndian.AppendUint16(head, flags)
	head = binary.BigEndian.AppendUint16(head, kind)
	head = binary.BigEndian.AppendUint64(head, handle)
	head = binary.BigEndian.AppendUint32(head, uint32(len(body)+len(data)))
	return s.put(append(head, body...), data)
}

func (s *serving) put(head, data []byte) error {
	s.send.Lock()
	defer s.send.Unlock()
	_, err := s.conn.Write(head)
	if err == nil && len(data) > 0 {
		_, err = s.conn.Write(data)
	}
	return err
}

// buffers are those of reads of the common size.
var buffers = sync.Pool{New: func() any { return new([maxRead]byte) }}

func (s *serving) read(r asking) error {
	var p []byte
	if r.Length <= maxRead {
		b := buffers.Get().(*[maxRead]byte)
		defer buffers.Put(b)
		p = b[:r.Length]
	} else {
		p = make([]byte, r.Length)
	}
	if n, err := s.e.Disk.ReadAt(p, int64(r.Where)); n < len(p) {
		return s.refuse(r, errIO, fmt.Sprintf("read %d bytes at %d: %v", len(p), r.Where, err))
	}
	if !s.structured {
		return s.simple(r.Handle, 0, p)
	}
	return s.chunk(r.Handle, chunkOffsetData, true, binary.BigEndian.AppendUint64(nil, r.Where), p)
}

// status tells the extents of a range, for each context that was asked for.
func (s *serving) status(ctx context.Context, r asking) error {
	if !s.contexts[bitmapID] {
		_, err := s.describe(ctx, r, allocationID, s.e.Disk, true)
		return err
	}
	if s.contexts[allocationID] {
		if ok, err := s.describe(ctx, r, allocationID, s.e.Disk, false); !ok || err != nil {
			return err
		}
	}
	_, err := s.describe(ctx, r, bitmapID, s.e.Changed, true)
	return err
}

// describe tells the extents for one context; ok says that it could, otherwise the request has been refused.
func (s *serving) describe(ctx context.Context, r asking, id int, d disk.Disk, last bool) (ok bool, err error) {
	extents, err := d.Extents(ctx, int64(r.Where), int64(r.Length))
	if err != nil || len(extents) == 0 {
		return false, s.refuse(r, errIO, fmt.Sprintf("extents at %d: %v", r.Where, err))
	}
	body := binary.BigEndian.AppendUint32(nil, uint32(id))
	for i, e := range extents {
		if i == mostExtents || i == 1 && r.Flags&onlyOne != 0 {
			break
		}
		var state uint32
		switch {
		case id == allocationID && e.Kind == disk.Zero:
			state = statusHole | stateZero
		case id == bitmapID && e.Kind != disk.Unchanged:
			state = stateDirty
		}
		body = binary.BigEndian.AppendUint32(body, uint32(e.Length))
		body = binary.BigEndian.AppendUint32(body, state)
	}
	return true, s.chunk(r.Handle, chunkBlockStatus, last, body, nil)
}
