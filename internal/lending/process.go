package lending

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/nbd"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
)

const (
	// ready is what the process says when the disks are to be had.
	ready = "lending\n"
	// lookEvery is how often it looks whether it is needed still.
	lookEvery = time.Second
	// patience is how long a read waits for a store that can't be read. Then the guest is told, and its hypervisor stops it until somebody has it go on.
	patience = 5 * time.Second
)

// process is what lends.
type process struct {
	order
	program string
	read    atomic.Int64
	offers  sync.WaitGroup

	mu     sync.Mutex
	st     store.Store
	m      *image.Manifest
	opened map[string]store.OpenedDisk
	end    func(context.Context) error // of reading
}

// Run is the process: it reads what it is to lend from in, and says in out when that is to be had. It returns when nobody needs it any more.
func Run(ctx context.Context, in io.Reader, out io.Writer, program string) error {
	p := &process{program: program, opened: map[string]store.OpenedDisk{}}
	if err := json.NewDecoder(in).Decode(&p.order); err != nil {
		return fmt.Errorf("what to lend: %w", err)
	}
	l := New(p.Folder, "")
	lock, err := os.OpenFile(l.file(p.Loan.Run, ".lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return fmt.Errorf("the disks of image %s are lent to %s already: %w", p.Loan.Image, p.Loan.Guest, err)
	}
	defer p.close()
	if err := p.open(ctx); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer func() { stop(); p.offers.Wait() }() // what was made on a far host is taken away there
	for _, d := range p.m.Disks {
		for _, lent := range p.Loan.Disks {
			if lent.Target == d.Target {
				if err := p.offer(ctx, lent, d); err != nil {
					return err
				}
			}
		}
	}
	if _, err := io.WriteString(out, ready); err != nil {
		return err
	}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	last := int64(-1)
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		loan, err := l.Loan(p.Loan.Run)
		if errors.Is(err, fs.ErrNotExist) || err == nil && loan.Started && loan.Settled() {
			return nil
		}
		if n := p.read.Load(); n != last {
			last = n
			os.WriteFile(l.file(p.Loan.Run, ".read"), strconv.AppendInt(nil, n, 10), 0o600)
		}
	}
}

// open opens the store and the image, anew where they were open.
func (p *process) open(ctx context.Context) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.openLocked(ctx)
}

func (p *process) openLocked(ctx context.Context) (err error) {
	p.closeLocked()
	if p.st, err = p.Key.Open(ctx); err != nil {
		return err
	}
	if p.end, err = p.st.Reading(ctx, p.program); err != nil { // no sweep takes what is lent
		return err
	}
	p.m, err = p.st.ReadImage(ctx, p.Loan.Image)
	return err
}

func (p *process) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closeLocked()
}

func (p *process) closeLocked() {
	for _, d := range p.opened {
		d.Close()
	}
	clear(p.opened)
	if p.end != nil {
		p.end(context.Background())
		p.end = nil
	}
	if p.st != nil {
		p.st.Close()
		p.st = nil
	}
}

// idleTime is how long nobody may come to a far host's socket before it is made anew: the server may take it away late that a line which was cut left.
const idleTime = time.Minute

// offer offers a disk at its socket. On a far host that ends with the line to it, and is begun again for as long as the disk is lent.
func (p *process) offer(ctx context.Context, lent Disk, d image.Disk) error {
	listener, err := p.listen(ctx, lent)
	if err != nil {
		return err
	}
	l := &lentDisk{p: p, d: d}
	p.offers.Go(func() {
		for {
			now := listener
			end := context.AfterFunc(ctx, func() { now.Close() })
			idle := time.Duration(0)
			if p.Hypervisor != nil {
				idle = idleTime
			}
			Offer(ctx, now, lent.Overlay, nbd.Export{Name: d.Target, Disk: l}, idle, func(err error) { fmt.Fprintln(os.Stderr, err) })
			end()
			now.Close()
			for listener, err = nil, errors.New("none"); err != nil; {
				select {
				case <-ctx.Done():
					return
				case <-time.After(lookEvery):
				}
				if listener, err = p.listen(ctx, lent); err != nil {
					fmt.Fprintf(os.Stderr, "disk %s is not to be had at the moment: %v\n", d.Target, err)
				}
			}
		}
	})
	return nil
}

// listen listens at the socket of a disk.
func (p *process) listen(ctx context.Context, lent Disk) (net.Listener, error) {
	socket := Socket(lent.Overlay)
	if p.Hypervisor != nil {
		return p.listenFar(ctx, socket, lent.Overlay)
	}
	return Listen(socket)
}

// listenFar listens on another host.
func (p *process) listenFar(ctx context.Context, socket, overlay string) (net.Listener, error) {
	h, err := source.Dial(ctx, *p.Hypervisor)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	far, err := source.As[source.Puller](h, "run a guest on disks that are lent to it")
	if err != nil {
		return nil, err
	}
	return far.ListenAt(ctx, socket, overlay)
}

// lentDisk is a disk that outlasts a cut of the store's line.
type lentDisk struct {
	p *process
	d image.Disk
}

func (l *lentDisk) Size() int64 { return l.d.Size }

// disk is the opened disk, and the store that it is of.
func (l *lentDisk) disk(ctx context.Context) (disk.Disk, store.Store, error) {
	l.p.mu.Lock()
	defer l.p.mu.Unlock()
	if l.p.st == nil {
		if err := l.p.openLocked(ctx); err != nil {
			return nil, nil, err
		}
	}
	if d, ok := l.p.opened[l.d.Target]; ok {
		return d, l.p.st, nil
	}
	d, err := l.p.st.OpenDisk(ctx, l.p.m, l.d)
	if err == nil {
		l.p.opened[l.d.Target] = d
	}
	return d, l.p.st, err
}

// again has the store opened anew that could not be read, unless somebody else did meanwhile.
func (l *lentDisk) again(failed store.Store) {
	l.p.mu.Lock()
	defer l.p.mu.Unlock()
	if l.p.st == failed {
		l.p.closeLocked()
	}
}

// lasting carries out what reads a disk, for as long as the store's line may take to come back.
func (l *lentDisk) lasting(do func(disk.Disk) error) error {
	for begun := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		d, st, err := l.disk(context.Background())
		if err == nil {
			if err = do(d); err == nil || err == io.EOF {
				return err
			}
			if there, failed := st.Present(context.Background()); failed == nil && there && errors.Is(err, chunk.ErrDamaged) {
				fmt.Fprintf(os.Stderr, "disk %s of image %s: %v\n", l.d.Target, l.p.Loan.Image, err)
				return err // it will not be another one
			}
			l.again(st)
		}
		if time.Since(begun) > patience {
			fmt.Fprintf(os.Stderr, "disk %s of image %s can't be read: %v\n", l.d.Target, l.p.Loan.Image, err)
			return err
		}
	}
}

func (l *lentDisk) ReadAt(b []byte, offset int64) (n int, err error) {
	err = l.lasting(func(d disk.Disk) (err error) {
		n, err = d.ReadAt(b, offset)
		return err
	})
	l.p.read.Add(int64(n))
	return n, err
}

func (l *lentDisk) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	err = l.lasting(func(d disk.Disk) (err error) {
		out, err = d.Extents(ctx, offset, length)
		return err
	})
	return out, err
}
