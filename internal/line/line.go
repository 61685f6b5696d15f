// Package line is what the lodge and a server's agent say to each other: one connection, which the agent makes, with many streams on it, which
// the lodge opens. docs/agent-line.md describes it byte by byte.
//
// The agent first sends two bytes, the oldest and the newest version of this protocol that it speaks; the lodge answers with one, the version
// that both go on with, or 0 where they have none in common. After that the connection is yamux's. On a stream the lodge sends a call and the
// agent its answer, each a frame: its length (4 bytes, big-endian), then so much JSON. Some calls go on after the answer: then the stream is
// NBD's, or a pax archive.
package line

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/hashicorp/yamux"

	"keenlodge/internal/core/plain"
)

const (
	// Path is where an agent asks for a line, Protocol what it asks to upgrade to (RFC 9110, section 7.8).
	Path     = "/api/v1/agent/line"
	Protocol = "keenlodge-line"

	// Oldest and Newest are the versions that this program speaks.
	Oldest, Newest = 1, 1

	// mostFrame bounds a frame: an answer lists disks and file systems, and no files.
	mostFrame = 4 << 20
	// handshakeTime is how long the first bytes may take, cutTime how long a line may be silent before it counts as cut: signs of life go to and fro
	// twice as often.
	handshakeTime, cutTime = 10 * time.Second, 30 * time.Second
	// window is how much of a stream may be under way: enough for 1 Gbit/s over 30 ms.
	window = 4 << 20
)

// ErrCut marks a line that is there no more. What was asked may have been done.
var ErrCut = errors.New("the line was cut")

// Offer begins a line from the agent's side, and returns the version that both go on with.
func Offer(conn net.Conn, oldest, newest byte) (version byte, err error) {
	defer limit(conn)()
	if _, err := conn.Write([]byte{oldest, newest}); err != nil {
		return 0, fmt.Errorf("offer the lodge a line: %w", err)
	}
	var chosen [1]byte
	if _, err := io.ReadFull(conn, chosen[:]); err != nil {
		return 0, fmt.Errorf("the lodge did not say what version of the line it speaks: %w", err)
	}
	if chosen[0] < oldest || chosen[0] > newest {
		return 0, fmt.Errorf("this agent speaks versions %d to %d of the line, and the lodge none of them; update the older of the two", oldest, newest)
	}
	return chosen[0], nil
}

// Answer begins a line from the lodge's side. Of versions in common the newest is taken.
func Answer(conn net.Conn, oldest, newest byte) (version byte, err error) {
	defer limit(conn)()
	var offered [2]byte
	if _, err := io.ReadFull(conn, offered[:]); err != nil {
		return 0, fmt.Errorf("the agent did not say what versions of the line it speaks: %w", err)
	}
	version = min(newest, offered[1])
	if version < oldest || version < offered[0] {
		version = 0
	}
	if _, err := conn.Write([]byte{version}); err != nil {
		return 0, err
	}
	if version == 0 {
		return 0, fmt.Errorf("the agent speaks versions %d to %d of the line, this lodge %d to %d; update the older of the two", offered[0], offered[1], oldest, newest)
	}
	return version, nil
}

// limit gives what begins a line some seconds, until its end is called.
func limit(conn net.Conn) (end func()) {
	conn.SetDeadline(time.Now().Add(handshakeTime))
	return func() { conn.SetDeadline(time.Time{}) }
}

func config() *yamux.Config {
	c := yamux.DefaultConfig()
	c.KeepAliveInterval, c.ConnectionWriteTimeout, c.StreamOpenTimeout = cutTime/2, cutTime/2, cutTime
	c.MaxStreamWindowSize = window
	c.LogOutput = io.Discard // what ends a line is told by whoever has it
	return c
}

// Line is the lodge's end. It may be used by several goroutines at once.
type Line struct{ session *yamux.Session }

// Over is the lodge's end of a connection that [Answer] began.
func Over(conn net.Conn) (*Line, error) {
	s, err := yamux.Client(conn, config())
	return &Line{s}, err
}

// Closed is closed when the line is.
func (l *Line) Closed() <-chan struct{} { return l.session.CloseChan() }

// Close ends the line, and all that is under way on it.
func (l *Line) Close() error { return l.session.Close() }

// Pass has another process use the line, by [Over] on a connection of its own, until either of the two ends.
func (l *Line) Pass(ctx context.Context, conn net.Conn) error {
	s, err := yamux.Server(conn, config())
	if err != nil {
		return err
	}
	defer s.Close()
	defer context.AfterFunc(ctx, func() { s.Close() })()
	go func() {
		select {
		case <-l.Closed():
			s.Close()
		case <-s.CloseChan():
		}
	}()
	for {
		asked, err := s.AcceptStream()
		if err != nil {
			return nil
		}
		go func() {
			defer asked.Close()
			if passed, err := l.session.OpenStream(); err == nil {
				splice(asked, passed)
			}
		}()
	}
}

// splice has what comes on either of two streams go on on the other; it returns when both have ended, or one is broken.
func splice(a, b *yamux.Stream) {
	defer b.Close()
	var both sync.WaitGroup
	for _, way := range [][2]*yamux.Stream{{a, b}, {b, a}} {
		both.Go(func() {
			if _, err := io.Copy(way[1], way[0]); err != nil { // neither waits for the other then
				a.SetDeadline(time.Unix(1, 0))
				b.SetDeadline(time.Unix(1, 0))
			}
			way[1].Close()
		})
	}
	both.Wait()
}

// Idle reports whether nothing is under way on the line.
func (l *Line) Idle() bool { return l.session.NumStreams() == 0 }

// Ask calls the agent and waits for its answer, which is put into result where that is not nil. Errors wrap [ErrCut], or are a [*Refusal].
func (l *Line) Ask(ctx context.Context, call string, args, result any) error {
	stream, err := l.Open(ctx, call, args, result)
	if err != nil {
		return err
	}
	return stream.Close()
}

// Open is [Line.Ask] for a call that goes on: the stream is returned. ctx is for the call and its answer only.
func (l *Line) Open(ctx context.Context, call string, args, result any) (stream net.Conn, err error) {
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	s, err := l.session.OpenStream()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrCut, err)
	}
	stop := context.AfterFunc(ctx, func() { s.SetDeadline(time.Unix(1, 0)) })
	defer func() {
		if !stop() && err == nil {
			err = context.Cause(ctx)
		}
		if err != nil {
			s.Close()
		}
	}()
	body, err := json.Marshal(args)
	if err != nil {
		return nil, err
	}
	if err = writeFrame(s, request{call, body}); err == nil {
		var got answer
		if err = readFrame(s, &got); err == nil {
			return s, got.into(call, result)
		}
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return nil, fmt.Errorf("%w: %s: %w", ErrCut, call, err)
}

type request struct {
	Call string          `json:"call"`
	Args json.RawMessage `json:"args,omitempty"`
}

type answer struct {
	Refusal *Refusal        `json:"refusal,omitempty"`
	Result  json.RawMessage `json:"result,omitempty"`
}

// into is what an answer says.
func (a answer) into(call string, result any) error {
	if a.Refusal != nil {
		a.Refusal.Text = plain.Text(a.Refusal.Text, 4<<10)
		return a.Refusal
	}
	if result == nil {
		return nil
	}
	if err := json.Unmarshal(a.Result, result); err != nil {
		return fmt.Errorf("the agent's answer to %s is not to be understood: %w", call, err)
	}
	return nil
}

// Refusal is an agent's word that it did not do what it was asked for, and why.
type Refusal struct {
	Kind Kind   `json:"kind,omitempty"`
	Text string `json:"text"`
}

func (r *Refusal) Error() string { return r.Text }

// Kind is what a refusal means to whoever asked.
type Kind string

const (
	// Busy may pass by itself.
	Busy Kind = "busy"
	// Unknown is of something that the agent does not have.
	Unknown Kind = "unknown"
)

// Refuse is an error that the lodge gets as a refusal of a kind.
func Refuse(kind Kind, format string, args ...any) error {
	return &Refusal{kind, fmt.Sprintf(format, args...)}
}

// Reply answers a call. What it returns goes to the lodge, an error too; then, where it is not nil, has the stream after that.
type Reply func(ctx context.Context, call string, args json.RawMessage) (result any, then func(net.Conn) error, err error)

// Serve is the agent's end of a connection that [Offer] began: it answers calls until the line is cut or ctx ends. Failed streams are told.
func Serve(ctx context.Context, conn net.Conn, reply Reply, told func(call string, err error)) error {
	s, err := yamux.Server(conn, config())
	if err != nil {
		return err
	}
	defer s.Close()
	defer context.AfterFunc(ctx, func() { s.Close() })()
	for {
		stream, err := s.AcceptStream()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrCut, err)
		}
		go func() {
			defer stream.Close()
			if call, err := serveStream(ctx, stream, reply); err != nil && ctx.Err() == nil {
				told(call, err)
			}
		}()
	}
}

func serveStream(ctx context.Context, stream net.Conn, reply Reply) (call string, err error) {
	var asked request
	stream.SetReadDeadline(time.Now().Add(handshakeTime))
	if err := readFrame(stream, &asked); err != nil {
		return "", err
	}
	stream.SetReadDeadline(time.Time{})
	result, then, err := reply(ctx, asked.Call, asked.Args)
	var out answer
	if err == nil {
		out.Result, err = json.Marshal(result)
	}
	if err != nil && !errors.As(err, &out.Refusal) {
		out.Refusal = &Refusal{Text: err.Error()}
	} else if err != nil {
		out.Refusal = &Refusal{out.Refusal.Kind, err.Error()}
	}
	if sent := writeFrame(stream, out); sent != nil || err != nil || then == nil {
		return asked.Call, sent
	}
	return asked.Call, then(stream)
}

func writeFrame(w io.Writer, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if len(body) > mostFrame {
		return fmt.Errorf("it would be a frame of %d bytes, more than %d", len(body), mostFrame)
	}
	_, err = w.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...))
	return err
}

func readFrame(r io.Reader, v any) error {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n > mostFrame {
		return fmt.Errorf("a frame of %d bytes was announced, more than %d", n, mostFrame)
	}
	body := make([]byte, 0, min(n, 64<<10)) // it grows as bytes come: a length alone takes no memory
	for len(body) < int(n) {
		part := make([]byte, min(int(n)-len(body), 64<<10))
		if _, err := io.ReadFull(r, part); err != nil {
			return err
		}
		body = append(body, part...)
	}
	return json.Unmarshal(body, v)
}
