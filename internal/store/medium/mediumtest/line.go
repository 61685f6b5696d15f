package mediumtest

import (
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Line is a line to a server that can be cut, slowed and taken down.
type Line struct {
	target   string
	listener net.Listener
	left     atomic.Int64 // bytes until the next cut; negative for none
	cuts     atomic.Int64
	delay    atomic.Int64 // nanoseconds before each piece is passed on

	mu    sync.Mutex
	down  bool
	conns map[net.Conn]bool
}

// NewLine makes a line to an address on loopback.
func NewLine(t *testing.T, target string) *Line {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := &Line{target: target, listener: listener, conns: map[net.Conn]bool{}}
	l.left.Store(-1)
	t.Cleanup(func() { listener.Close(); l.cut() })
	go l.serve()
	return l
}

// network is that of the target: a path is a socket's.
func (l *Line) network() string {
	if strings.HasPrefix(l.target, "/") {
		return "unix"
	}
	return "tcp"
}

// Address is where the line begins.
func (l *Line) Address() string { return l.listener.Addr().String() }

// Port is its port.
func (l *Line) Port() int { return l.listener.Addr().(*net.TCPAddr).Port }

// CutAfter has the line cut once, when so many more bytes have passed; a negative number is never.
func (l *Line) CutAfter(bytes int64) { l.left.Store(bytes) }

// Cuts is how often it was cut.
func (l *Line) Cuts() int64 { return l.cuts.Load() }

// Slow delays every piece that is passed on.
func (l *Line) Slow(d time.Duration) { l.delay.Store(int64(d)) }

// Down cuts the line and refuses new connections.
func (l *Line) Down(down bool) {
	l.mu.Lock()
	l.down = down
	l.mu.Unlock()
	if down {
		l.cut()
	}
}

func (l *Line) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.conns {
		c.Close()
	}
	clear(l.conns)
}

// Dial reaches another port of the host over the same line, as protocols do that open further connections.
func (l *Line) Dial(address string) (net.Conn, error) {
	once, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer once.Close()
	near, err := net.Dial("tcp", once.Addr().String())
	if err != nil {
		return nil, err
	}
	from, err := once.Accept()
	if err != nil {
		return nil, err
	}
	to, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.down {
		to.Close()
		from.Close()
		return nil, net.ErrClosed
	}
	l.conns[from], l.conns[to] = true, true
	go l.pass(from, to)
	go l.pass(to, from)
	return near, nil
}

func (l *Line) serve() {
	for {
		from, err := l.listener.Accept()
		if err != nil {
			return
		}
		to, err := net.Dial(l.network(), l.target)
		if err != nil {
			from.Close()
			continue
		}
		l.mu.Lock()
		if l.down {
			l.mu.Unlock()
			from.Close()
			to.Close()
			continue
		}
		l.conns[from], l.conns[to] = true, true
		l.mu.Unlock()
		go l.pass(from, to)
		go l.pass(to, from)
	}
}

func (l *Line) pass(from, to net.Conn) {
	defer from.Close()
	defer to.Close()
	buffer := make([]byte, 32<<10)
	for {
		n, err := from.Read(buffer)
		if n > 0 {
			if d := l.delay.Load(); d > 0 {
				time.Sleep(time.Duration(d))
			}
			if left := l.left.Load(); left >= 0 && l.left.Add(-int64(n)) < 0 {
				l.left.Store(-1)
				l.cuts.Add(1)
				l.cut()
				return
			}
			if _, err := to.Write(buffer[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}
