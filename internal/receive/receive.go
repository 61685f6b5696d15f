// Package receive takes one file that another system pushes: by HTTPS, SFTP or FTP, to an account that is made for it alone and ends with it. What comes is
// read as it comes, and lies nowhere.
package receive

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"keenlodge/internal/core/export"
	"keenlodge/internal/selfsigned"
)

// Offer is where one file is received.
type Offer struct {
	// To is the address to which it is pushed, Name and Secret what signs in there, KnownBy what it is known by: a certificate (PEM), or the public key of
	// SSH as in a file authorized_keys.
	To, Name, Secret, KnownBy string

	listener net.Listener
	ctx      context.Context // until it is closed
	from     *io.PipeReader
	to       *io.PipeWriter
	stop     func()

	mu    sync.Mutex
	at    int64 // so many bytes have come
	taken bool  // the file was begun
	wrong int   // so many tried to sign in with something else
	moved *sync.Cond
	over  error // why nothing more comes, [io.EOF] where all did
}

const (
	// fileName is what the file is called that is pushed.
	fileName = "export"
	// mostWrong is how often it may be tried to sign in before nobody may any more.
	mostWrong = 5
)

// ways are how a file is received; each serves until its listener is closed.
var ways = map[export.Way]func(o *Offer, host string) (serve func(), err error){
	export.ByHTTPS: (*Offer).byHTTPS,
	export.BySFTP:  (*Offer).bySFTP,
	export.ByFTP:   (*Offer).byFTP,
}

// New offers to receive one file at an address of this host, with or without a port. The offer ends with ctx, at the latest when it is closed.
func New(ctx context.Context, by export.Way, at string) (*Offer, error) {
	begin, ok := ways[by]
	if !ok {
		return nil, fmt.Errorf("nothing is received by %q", by)
	}
	if at == "" {
		at = "127.0.0.1"
	}
	if net.ParseIP(at) != nil {
		at = net.JoinHostPort(at, "0")
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("receive what is pushed by %s: %w; is another export being received at the same port?", by, err)
	}
	o := &Offer{Name: "export-" + rand.Text()[:8], Secret: rand.Text(), listener: l}
	var done func()
	o.ctx, done = context.WithCancel(ctx)
	o.from, o.to = io.Pipe()
	o.moved = sync.NewCond(&o.mu)
	host, _, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		done()
		return nil, errors.Join(err, l.Close())
	}
	serve, err := begin(o, host)
	if err != nil {
		done()
		return nil, errors.Join(err, l.Close())
	}
	o.To = fmt.Sprintf("%s://%s/%s", by, l.Addr(), fileName)
	var served sync.WaitGroup
	served.Go(serve)
	unhook := context.AfterFunc(ctx, func() { o.end(context.Cause(ctx)) })
	o.stop = func() {
		unhook()
		o.end(net.ErrClosed)
		l.Close()
		done()
		served.Wait()
	}
	return o, nil
}

// Read reads the file as it comes.
func (o *Offer) Read(p []byte) (int, error) { return o.from.Read(p) }

// Close ends the offer. A second Close does nothing.
func (o *Offer) Close() error {
	o.stop()
	return nil
}

// Fail has the reader learn that nothing more will come, and why.
func (o *Offer) Fail(err error) { o.end(err) }

// end ends it: with [io.EOF] when the file is whole as far as its sender says, and otherwise with why.
func (o *Offer) end(why error) {
	o.mu.Lock()
	if o.over == nil {
		o.over = why
	}
	why = o.over
	o.moved.Broadcast()
	o.mu.Unlock()
	o.to.CloseWithError(why)
}

// admits tells whether somebody may sign in. After some who may not, nobody may.
func (o *Offer) admits(name, secret string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	ok := o.wrong < mostWrong && subtle.ConstantTimeCompare([]byte(name+":"+secret), []byte(o.Name+":"+o.Secret)) == 1
	if !ok {
		o.wrong++
	}
	return ok
}

// errSecond refuses a second file.
var errSecond = errors.New("one file is received here, and it was begun")

// begin begins the file.
func (o *Offer) begin() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.taken {
		return errSecond
	}
	o.taken = true
	return nil
}

// writeAt takes what belongs at an offset. What comes too early waits for what is before it; what is there already can't be written again.
func (o *Offer) writeAt(p []byte, at int64) (int, error) {
	o.mu.Lock()
	for o.at < at && o.over == nil {
		o.moved.Wait()
	}
	over, here := o.over, o.at
	o.mu.Unlock()
	switch {
	case over != nil:
		return 0, fmt.Errorf("it is received no more: %w", over)
	case here != at:
		return 0, fmt.Errorf("what is at %d was received already, up to %d; a file is written from its begin to its end here", at, here)
	}
	n, err := o.to.Write(p)
	o.mu.Lock()
	defer o.mu.Unlock()
	o.at += int64(n)
	o.moved.Broadcast()
	return n, err
}

// upload is the file as servers see it.
type upload struct{ o *Offer }

func (u upload) Write(p []byte) (int, error) {
	u.o.mu.Lock()
	at := u.o.at
	u.o.mu.Unlock()
	return u.o.writeAt(p, at)
}

func (u upload) WriteAt(p []byte, at int64) (int, error) { return u.o.writeAt(p, at) }

// Close says that the sender has sent all.
func (u upload) Close() error {
	u.o.end(io.EOF)
	return nil
}

// TransferError is called by servers when a line is cut: what broke off is not whole.
func (u upload) TransferError(err error) { u.o.end(fmt.Errorf("it broke off: %w", err)) }

// certificate makes one for a host, which is good for a day: the offer does not last longer.
func certificate(host string) (pair tls.Certificate, text string, err error) {
	cert, key, err := selfsigned.Make("receives one file", []net.IP{net.ParseIP(host)}, nil, time.Now().AddDate(0, 0, 1))
	if err == nil {
		pair, err = tls.X509KeyPair(cert, key)
	}
	return pair, string(cert), err
}
