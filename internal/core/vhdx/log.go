package vhdx

import (
	"fmt"
	"io"
	"slices"
)

const (
	// logSector is what a log is made of, in bytes, entryHead how long an entry's head is, and a descriptor.
	logSector             = 4 * kib
	entryHead, descriptor = 64, 32
	// mostPlayed bounds how much is played back, in sectors of the log.
	mostPlayed = mostLog / logSector
	// mostZeroed is how many ranges may be made zeros, for each is looked at in each read.
	mostZeroed = 4096
)

// played is a file with its log played back: sectors of 4 KiB that are others than in the file.
type played struct {
	r       io.ReaderAt
	length  int64
	sectors map[int64][]byte // by their number; nil is zeros
	zeroed  []region
	order   map[int64]int // of sectors: how many ranges had been made zeros when it was written
}

// entry is one entry of a log ([MS-VHDX] 2.3.1).
type entry struct {
	body           []byte
	at             int64 // in the log
	sequence       uint64
	tail           int64
	descriptors    int64
	flushed, lasts int64
}

// replay plays the log of a file back, and returns the file as it is then, with its length ([MS-VHDX] 2.3.3).
func replay(r io.ReaderAt, length int64, h header) (io.ReaderAt, int64, error) {
	if h.logAt > length || h.logLength > length-h.logAt || h.logLength == 0 {
		return nil, 0, fmt.Errorf("%w: it lies at %d and has %d bytes, in a file of %d", ErrDamaged, h.logAt, h.logLength, length)
	}
	log := make([]byte, h.logLength)
	if err := read(r, log, h.logAt); err != nil {
		return nil, 0, err
	}
	active, err := activeEntries(log, h.log)
	if err != nil {
		return nil, 0, err
	}
	p := &played{r: r, length: length, sectors: map[int64][]byte{}, order: map[int64]int{}}
	for _, e := range active {
		if e.flushed > length {
			return nil, 0, fmt.Errorf("%w: the file had %d bytes once, and has %d", ErrDamaged, e.flushed, length)
		}
		if err := p.apply(e); err != nil {
			return nil, 0, err
		}
		p.length = max(p.length, e.lasts)
	}
	return p, p.length, nil
}

// activeEntries are those that are to be played back, in their order: of all runs of entries that are whole, that with the newest.
func activeEntries(log []byte, id guid) (active []entry, err error) {
	looked := map[int64]bool{} // entries that a longer run has begun before
	for at := int64(0); at < int64(len(log)); at += logSector {
		if looked[at] {
			continue
		}
		var run []entry
		for next := at; len(run) <= len(log)/logSector; {
			e, ok := entryAt(log, next, id)
			if !ok || len(run) > 0 && e.sequence != run[len(run)-1].sequence+1 {
				break
			}
			run = append(run, e)
			looked[next] = true
			next = (next + int64(len(e.body))) % int64(len(log))
		}
		if len(run) == 0 {
			continue
		}
		head := run[len(run)-1]
		from := slices.IndexFunc(run, func(e entry) bool { return e.at == head.tail })
		if from >= 0 && (active == nil || head.sequence > active[len(active)-1].sequence) {
			active = run[from:]
		}
	}
	if active == nil {
		return nil, fmt.Errorf("%w: no entries in it are whole", ErrDamaged)
	}
	return active, nil
}

// entryAt is the entry that begins at a place of a log, if a whole one does. The log is a ring.
func entryAt(log []byte, at int64, id guid) (e entry, ok bool) {
	head := log[at : at+logSector]
	length := int64(le.Uint32(head[8:]))
	if string(head[:4]) != signatureEntry || guid(head[32:48]) != id || length < logSector || length%logSector != 0 || length > int64(len(log)) {
		return e, false
	}
	body := slices.Concat(log[at:min(at+length, int64(len(log)))], log[:max(0, at+length-int64(len(log)))])
	e = entry{body: body, at: at, tail: int64(le.Uint32(body[12:])), sequence: le.Uint64(body[16:]), descriptors: int64(le.Uint32(body[24:])), flushed: int64(le.Uint64(body[48:])), lasts: int64(le.Uint64(body[56:]))}
	return e, sealed(body) && e.descriptors <= (length-entryHead)/descriptor && e.lasts >= 0 && e.lasts <= 2*mostSize
}

// apply does what an entry says.
func (p *played) apply(e entry) error {
	wrong := func(what string) error {
		return fmt.Errorf("%w: entry %d: %s", ErrDamaged, e.sequence, what)
	}
	data := ceil(entryHead+descriptor*e.descriptors, logSector) * logSector
	for i := range e.descriptors {
		d := e.body[entryHead+descriptor*i:][:descriptor]
		at := int64(le.Uint64(d[16:]))
		if le.Uint64(d[24:]) != e.sequence || at < 0 || at%logSector != 0 || at > 2*mostSize {
			return wrong("a descriptor is of another entry, or of no sector")
		}
		switch string(d[:4]) {
		case signatureZero:
			n := int64(le.Uint64(d[8:]))
			if n <= 0 || n%logSector != 0 || n > 2*mostSize {
				return wrong("it makes no whole sectors zeros")
			}
			if p.zeroed = append(p.zeroed, region{at, n}); len(p.zeroed) > mostZeroed {
				return wrong("it makes too many ranges zeros")
			}
		case signatureData:
			if data+logSector > int64(len(e.body)) || len(p.sectors) >= mostPlayed {
				return wrong("its sectors are not all there")
			}
			s := e.body[data:][:logSector]
			if string(s[:4]) != signatureSector || uint64(le.Uint32(s[4:]))<<32|uint64(le.Uint32(s[logSector-4:])) != e.sequence {
				return wrong("a sector is of another entry")
			}
			body := slices.Concat(d[8:16], s[8:logSector-4], d[4:8])
			p.sectors[at/logSector], p.order[at/logSector] = body, len(p.zeroed)
			data += logSector
		default:
			return wrong("it has a descriptor that is none")
		}
	}
	return nil
}

// changed reports whether the log says what is in a sector, and what: nil is zeros.
func (p *played) changed(number int64) (body []byte, ok bool) {
	body, ok = p.sectors[number]
	since := 0
	if ok {
		since = p.order[number]
	}
	if slices.ContainsFunc(p.zeroed[since:], func(z region) bool { return number*logSector >= z.at && number*logSector < z.at+z.length }) {
		return nil, true
	}
	return body, ok
}

// ReadAt implements [io.ReaderAt].
func (p *played) ReadAt(b []byte, off int64) (n int, err error) {
	for n < len(b) && off < p.length {
		number, within := off/logSector, off%logSector
		body, ok := p.changed(number)
		end := number + 1
		for !ok && end*logSector < off+int64(len(b)-n) { // what is as it lies in the file is read at once
			if _, other := p.changed(end); other {
				break
			}
			end++
		}
		piece := b[n:][:min(int64(len(b)-n), end*logSector-off, p.length-off)]
		switch {
		case ok && body == nil:
			clear(piece)
		case ok:
			copy(piece, body[within:])
		default: // what the log made the file longer by is zeros
			got, err := p.r.ReadAt(piece, off)
			if err != nil && err != io.EOF {
				return n, err
			}
			clear(piece[got:])
		}
		n, off = n+len(piece), off+int64(len(piece))
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}
