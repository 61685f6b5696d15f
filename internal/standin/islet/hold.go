package islet

import (
	"context"
	"encoding/binary"
	"hash/crc32"
	"net/http"
	"sync"
	"time"

	"keenlodge/internal/standin"
)

// hold holds a guest's writes. It ends by itself.
type hold struct {
	writing sync.RWMutex // read-locked by whoever writes
	mu      sync.Mutex
	free    chan struct{} // closed when nobody holds; nil is free
	end     *time.Timer
}

func (v *islet) holding(guest string) *hold {
	v.mu.Lock()
	defer v.mu.Unlock()
	h := v.held[guest]
	if h == nil {
		h = &hold{}
		v.held[guest] = h
	}
	return h
}

func (h *hold) is() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.free != nil
}

// wait waits until a write may be begun, which the caller ends by writing.RUnlock.
func (h *hold) wait(ctx context.Context) error {
	for {
		h.writing.RLock()
		h.mu.Lock()
		free := h.free
		h.mu.Unlock()
		if free == nil {
			return nil
		}
		h.writing.RUnlock()
		select {
		case <-free:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// begin holds, once writes that are under way have ended.
func (h *hold) begin(limit time.Duration) {
	h.writing.Lock()
	defer h.writing.Unlock()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.free == nil {
		h.free = make(chan struct{})
	}
	if h.end != nil {
		h.end.Stop()
	}
	free := h.free
	h.end = time.AfterFunc(limit, func() { h.release(free) })
}

// release ends it, if it is still that one (nil for any), and tells whether it was.
func (h *hold) release(free chan struct{}) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.free == nil || free != nil && h.free != free {
		return false
	}
	close(h.free)
	h.free = nil
	h.end.Stop()
	return true
}

// holdWrites has a guest bring what it does to an end and write no more, until it is released, or longestHold is over.
func (v *islet) holdWrites(_ http.ResponseWriter, r *http.Request) (any, error) {
	g, err := v.running(r)
	if err != nil {
		return nil, err
	}
	v.holding(g.ID).begin(longestHold)
	return struct{}{}, nil
}

// Released tells whether writes were held until now.
type Released struct {
	Was bool `json:"was"`
}

func (v *islet) releaseWrites(_ http.ResponseWriter, r *http.Request) (any, error) {
	var g Guest
	err := v.Do(func() (err error) { g, err = v.ofGuest(r); return err })
	return Released{err == nil && v.holding(g.ID).release(nil)}, err
}

func (v *islet) running(r *http.Request) (g Guest, err error) {
	err = v.Do(func() (err error) { g, err = v.ofGuest(r); return err })
	if err == nil && g.Power != On {
		err = standin.Refuse(http.StatusConflict, "guest %s does not run", g.Name)
	}
	return g, err
}

// entry is the size of an entry of a guest's log, in bytes, and logPace how often one is written.
const (
	entry   = 4096
	logPace = 200 * time.Millisecond
)

// Entry is what the n-th entry of a log holds, of which each is written in two halves: an entry with one of them is torn.
func Entry(n uint64) []byte {
	p := make([]byte, entry)
	binary.LittleEndian.PutUint64(p, n)
	for i := 8; i < entry-4; i++ {
		p[i] = byte(n + uint64(i)*7)
	}
	binary.LittleEndian.PutUint32(p[entry-4:], crc32.ChecksumIEEE(p[:entry-4]))
	return p
}

// keepLogs has guests that run and keep a log write on in it: round and round on their last disk, from its first MiB on.
func (v *islet) keepLogs() {
	tick := time.NewTicker(logPace)
	defer tick.Stop()
	for {
		select {
		case <-v.ctx.Done():
			return
		case <-tick.C:
		}
		var all []Guest
		_ = v.Do(func() error { all = v.guests.All(); return nil })
		for _, g := range all {
			if g.Logs && g.Power == On && len(g.Disks) > 0 {
				_ = v.log(g) // a disk that is full or gone ends no log: the next entry is tried
			}
		}
	}
}

func (v *islet) log(g Guest) error {
	d := g.Disks[len(g.Disks)-1]
	places := uint64((d.Size - 1<<20) / entry)
	if d.Size <= 1<<20+entry {
		return nil
	}
	o, err := v.volume(d.Volume)
	if err != nil {
		return err
	}
	h := v.holding(g.ID)
	if h.is() {
		return nil // its time comes again
	}
	h.writing.RLock()
	n := uint64(g.Writes)
	at, p := int64(1<<20+n%places*entry), Entry(n)
	err = o.write(p[:entry/2], at)
	if err == nil {
		err = o.write(p[entry/2:], at+entry/2)
	}
	h.writing.RUnlock()
	if err != nil {
		return err
	}
	return v.update(g.ID, func(g *Guest) error { g.Writes++; return nil })
}
