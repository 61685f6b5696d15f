// Package moment takes disks of a server that goes on running as they are in one instant: they are read while it runs, what is written meanwhile
// is followed, and at last file systems stand still for the moment that it takes to read that again.
package moment

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/core/disk"
)

// errLost marks writes that were not seen: the kernel's buffer was full.
var errLost = errors.New("the kernel could not tell of every write")

const (
	// page is what a write is counted in, span what pages are gathered in: both in bytes.
	page, span = 4 << 10, block.Grain
	// tracing is where the kernel's trace is, traceBuffer how much of it is kept for each processor, in KiB: 4 MiB are 40,000 writes.
	tracing, traceBuffer = "/sys/kernel/tracing", 4096
	instancePrefix       = "keenlodge-"
	// drainEvery is how often what the kernel told is read.
	drainEvery = 20 * time.Millisecond
)

// written are the pages of a disk that were written to: for each block a bit for each of its pages.
type written map[int64]uint16

func (w written) add(offset, length int64) {
	for at := offset / page; at <= (offset+length-1)/page; {
		b := at / (span / page)
		if at%(span/page) == 0 && (at+span/page)*page <= offset+length {
			w[b] = 0xffff
			at += span / page
			continue
		}
		w[b] |= 1 << (at % (span / page))
		at++
	}
}

// extents are the ranges that were written to, in rising order: of pages, or of whole blocks. They end with the disk.
func (w written) extents(size int64, whole bool) (out []disk.Extent) {
	blocks := make([]int64, 0, len(w))
	for b := range w {
		blocks = append(blocks, b)
	}
	slices.Sort(blocks)
	add := func(at, length int64) {
		if length = min(length, size-at); length <= 0 {
			return
		}
		if n := len(out); n > 0 && out[n-1].End() == at {
			out[n-1].Length += length
			return
		}
		out = append(out, disk.Extent{Offset: at, Length: length, Kind: disk.Data})
	}
	for _, b := range blocks {
		if mask := w[b]; whole || mask == 0xffff {
			add(b*span, span)
		} else {
			for i := range int64(span / page) {
				if mask&(1<<i) != 0 {
					add(b*span+i*page, page)
				}
			}
		}
	}
	return out
}

// join adds what another has.
func (w written) join(other written) {
	for b, mask := range other {
		w[b] |= mask
	}
}

// tracker follows writes to disks by the kernel's block tracepoints, which tell of each before it is carried out.
type tracker struct {
	instance string
	pipe     int

	mu    sync.Mutex
	seen  map[uint32]written // by the disk's number
	carry []byte             // of a line whose end is not there yet
	lost  error
	buf   []byte

	stop chan struct{}
	done sync.WaitGroup
}

// track follows writes to the disks of some numbers from now on. id is the capture's, so that what is left of it is found.
func track(id string, numbers []uint32) (*tracker, error) {
	t := &tracker{instance: filepath.Join(tracing, "instances", instancePrefix+id), pipe: -1, seen: map[uint32]written{}, buf: make([]byte, 256<<10), stop: make(chan struct{})}
	err := t.begin(numbers)
	for try := 1; try < tries && (errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENODEV)); try++ { // another agent that starts takes it for a dead one's
		err = t.begin(numbers)
	}
	if err != nil {
		t.close()
		return nil, fmt.Errorf("follow what is written to its disks: %w; the agent needs root's rights, and a kernel with tracefs and block tracepoints", err)
	}
	t.done.Go(func() {
		tick := time.NewTicker(drainEvery)
		defer tick.Stop()
		for {
			select {
			case <-t.stop:
				return
			case <-tick.C:
				t.drain()
			}
		}
	})
	return t, nil
}

func (t *tracker) begin(numbers []uint32) error {
	if _, err := os.Stat(filepath.Join(tracing, "instances")); errors.Is(err, fs.ErrNotExist) {
		if err := unix.Mount("tracefs", tracing, "tracefs", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
			return fmt.Errorf("mount tracefs: %w", err)
		}
	}
	if err := os.Mkdir(t.instance, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	var filter []string
	for _, n := range numbers {
		filter = append(filter, fmt.Sprintf("dev==%d", n))
		t.seen[n] = written{}
	}
	for _, set := range [][2]string{
		{"buffer_size_kb", strconv.Itoa(traceBuffer)},
		{"options/overwrite", "0"}, // what does not fit is counted rather than what was there
		{"events/block/block_bio_queue/filter", strings.Join(filter, "||")},
		{"events/block/block_bio_queue/enable", "1"},
		{"tracing_on", "1"},
	} {
		if err := os.WriteFile(filepath.Join(t.instance, set[0]), []byte(set[1]), 0); err != nil {
			return err
		}
	}
	var err error
	t.pipe, err = unix.Open(filepath.Join(t.instance, "trace_pipe"), unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	return err
}

// drain reads what the kernel told so far. A write that was begun before it is called has been told.
func (t *tracker) drain() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for {
		n, err := unix.Read(t.pipe, t.buf)
		if err == unix.EINTR {
			continue
		}
		if err == unix.EAGAIN || n == 0 && err == nil {
			break
		}
		if err != nil {
			t.lost = fmt.Errorf("%w: %w", errLost, err)
			return
		}
		t.carry = append(t.carry, t.buf[:n]...)
		for {
			line, rest, ok := bytes.Cut(t.carry, []byte("\n"))
			if !ok {
				break
			}
			t.line(line)
			t.carry = rest
		}
		t.carry = append([]byte{}, t.carry...) // the rest of a line: little
	}
}

// line reads a line of the trace: "… block_bio_queue: MAJOR,MINOR OPERATION SECTOR + COUNT [PROGRAM]".
func (t *tracker) line(line []byte) {
	_, after, ok := bytes.Cut(line, []byte(" block_bio_queue: "))
	if !ok {
		if bytes.Contains(line, []byte("LOST")) {
			t.lost = errLost
		}
		return
	}
	w, ok := parseWrite(string(after))
	if !ok {
		t.lost = fmt.Errorf("%w: %.80q is not to be understood", errLost, after)
		return
	}
	if seen := t.seen[w.number]; seen != nil && w.length > 0 {
		seen.add(w.offset, w.length)
	}
}

// write is one that the kernel told of; its length is 0 where nothing is written.
type write struct {
	number         uint32
	offset, length int64
}

func parseWrite(text string) (w write, ok bool) {
	fields := strings.SplitN(text, " ", 6)
	if len(fields) < 5 || fields[3] != "+" {
		return w, false
	}
	number, good := block.Number(strings.Replace(fields[0], ",", ":", 1))
	at, bad := strconv.ParseInt(fields[2], 10, 54)
	count, worse := strconv.ParseInt(fields[4], 10, 54)
	if !good || bad != nil || worse != nil || at < 0 || count < 0 {
		return w, false
	}
	w = write{number: number, offset: at * 512, length: count * 512}
	op := fields[1]
	if len(op) > 1 {
		op = strings.TrimPrefix(op, "F") // a flush before it
	}
	if strings.HasPrefix(op, "R") {
		w.length = 0
	}
	return w, op != ""
}

// take returns what was written since it was called last, by the disks' numbers. On [errLost] it is not all.
func (t *tracker) take() (map[uint32]written, error) {
	t.drain()
	t.mu.Lock()
	defer t.mu.Unlock()
	out := t.seen
	t.seen = map[uint32]written{}
	for n := range out {
		t.seen[n] = written{}
	}
	err := t.lost
	if err == nil {
		err = t.dropped()
	}
	return out, err
}

// peek returns what was written to a disk since take was called last.
func (t *tracker) peek(number uint32) written {
	t.drain()
	t.mu.Lock()
	defer t.mu.Unlock()
	return maps.Clone(t.seen[number])
}

// dropped tells whether events found no room.
func (t *tracker) dropped() error {
	files, err := filepath.Glob(filepath.Join(t.instance, "per_cpu/cpu*/stats"))
	if err != nil || len(files) == 0 {
		return fmt.Errorf("%w: the kernel does not say whether any were lost: %v", errLost, err)
	}
	for _, file := range files {
		body, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("%w: %w", errLost, err)
		}
		for line := range strings.Lines(string(body)) {
			name, count, _ := strings.Cut(strings.TrimSpace(line), ": ")
			if (name == "overrun" || name == "commit overrun" || name == "dropped events") && count != "0" {
				return fmt.Errorf("%w: %s %s", errLost, count, name)
			}
		}
	}
	return nil
}

// close ends it, and removes what it had in the kernel.
func (t *tracker) close() error {
	if t.stop != nil {
		close(t.stop)
		t.done.Wait()
		t.stop = nil
	}
	if t.pipe >= 0 {
		unix.Close(t.pipe)
		t.pipe = -1
	}
	if err := os.Remove(t.instance); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("end following writes: %w", err)
	}
	return nil
}

// LeftTraces removes what dead agents left in the kernel, and returns what it found.
func LeftTraces() (found []string) {
	left, _ := filepath.Glob(filepath.Join(tracing, "instances", instancePrefix+"*"))
	for _, path := range left {
		if os.Remove(path) == nil { // one that is in use stays
			found = append(found, "trace "+filepath.Base(path))
		}
	}
	return found
}
