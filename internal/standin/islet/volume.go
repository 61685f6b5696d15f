package islet

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/standin"
)

// block is the unit in which layers hold what was written, and in which changes are told, in bytes.
const block = 64 << 10

// volume is a disk's storage: layers of sparse files, bottom first, of which the last is written to. A snapshot is the layers below one. Which blocks a
// layer has lies in a file beside it, a byte for each. It also counts, for each block, the turn in which it was last written; a turn ends with each
// snapshot. These counts are in memory, and are kept only by a clean end: then their epoch goes on, otherwise it is another.
type volume struct {
	folder string
	size   int64

	mu     sync.RWMutex
	layers []*layer
	epoch  string
	turn   uint32
	turns  []uint32 // by block
}

type layer struct {
	name string
	data *os.File
	has  *os.File
	held []byte // by block: 1 where the layer has it
	into *layer // that it was merged into
}

func blocks(size int64) int64 { return (size + block - 1) / block }

func (v *volume) path(name, kind string) string { return filepath.Join(v.folder, name+kind) }

// openVolume opens a volume of these layers. What lies beside them was left by a process that died, and goes.
func openVolume(folder string, size int64, layers []string) (*volume, error) {
	v := &volume{folder: folder, size: size, turns: make([]uint32, blocks(size))}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	known := map[string]bool{turnsFile: true}
	for _, name := range layers {
		l, err := v.openLayer(name)
		if err != nil {
			return nil, errors.Join(err, v.close())
		}
		v.layers = append(v.layers, l)
		known[name+dataKind], known[name+hasKind] = true, true
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, errors.Join(err, v.close())
	}
	for _, e := range entries {
		if !known[e.Name()] {
			err = errors.Join(err, os.Remove(filepath.Join(folder, e.Name())))
		}
	}
	return v, errors.Join(err, v.recall())
}

// Kinds of files of a volume.
const (
	dataKind  = ".raw"
	hasKind   = ".has"
	turnsFile = "turns"
)

func (v *volume) openLayer(name string) (*layer, error) {
	l := &layer{name: name, held: make([]byte, blocks(v.size))}
	var err error
	if l.data, err = os.OpenFile(v.path(name, dataKind), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, err
	}
	if l.has, err = os.OpenFile(v.path(name, hasKind), os.O_RDWR|os.O_CREATE, 0o600); err == nil {
		err = errors.Join(l.data.Truncate(v.size), l.has.Truncate(int64(len(l.held))))
	}
	if err == nil {
		_, err = io.ReadFull(io.NewSectionReader(l.has, 0, int64(len(l.held))), l.held)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("layer %s: %w", name, err), l.close())
	}
	return l, nil
}

func (l *layer) close() error {
	err := l.data.Close()
	if l.has != nil {
		err = errors.Join(err, l.has.Close())
	}
	return err
}

// recall takes the counts over from a process that ended well.
func (v *volume) recall() error {
	v.epoch, v.turn = newEpoch(), 1
	body, err := os.ReadFile(v.path(turnsFile, ""))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if epoch, rest, ok := strings.Cut(string(body), "\n"); ok && len(rest) == 4*(1+len(v.turns)) {
		v.epoch, v.turn = epoch, binary.LittleEndian.Uint32([]byte(rest))
		for i := range v.turns {
			v.turns[i] = binary.LittleEndian.Uint32([]byte(rest[4*(i+1):]))
		}
	}
	return os.Remove(v.path(turnsFile, "")) // from now on they are in memory only
}

// close keeps the counts, and lets the files go.
func (v *volume) close() (err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.epoch != "" {
		body := binary.LittleEndian.AppendUint32([]byte(v.epoch+"\n"), v.turn)
		for _, n := range v.turns {
			body = binary.LittleEndian.AppendUint32(body, n)
		}
		err = os.WriteFile(v.path(turnsFile, ""), body, 0o600)
	}
	for _, l := range v.layers {
		err = errors.Join(err, l.close())
	}
	v.layers = nil
	return err
}

// forget loses the counts.
func (v *volume) forget() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.lose()
}

func (v *volume) lose() { v.epoch, v.turn, v.turns = newEpoch(), 1, make([]uint32, len(v.turns)) }

// names are those of the layers.
func (v *volume) names() []string {
	out := make([]string, len(v.layers))
	for i, l := range v.layers {
		out[i] = l.name
	}
	return out
}

// grow puts a new layer on top, and returns the one below, and the change identity of that moment.
func (v *volume) grow(name string) (below *layer, tide string, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	l, err := v.openLayer(name)
	if err != nil {
		return nil, "", err
	}
	below, tide = v.layers[len(v.layers)-1], v.tide()
	v.layers = append(v.layers, l)
	v.turn++
	return below, tide, nil
}

// tide is the change identity of now: what is written from the next snapshot on comes after it.
func (v *volume) tide() string { return v.epoch + "." + strconv.FormatUint(uint64(v.turn), 10) }

// changed lists what was written after a tide; ok is whether that is known still.
func (v *volume) changed(tide string) (out standin.Ranges, ok bool) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	out.Ranges = []standin.Range{}
	epoch, turn, _ := strings.Cut(tide, ".")
	since, err := strconv.ParseUint(turn, 10, 32)
	if err != nil || epoch != v.epoch {
		return out, false
	}
	for i, n := range v.turns {
		if at := int64(i) * block; uint64(n) > since {
			out.Add(at, min(block, v.size-at))
		}
	}
	return out, true
}

// from is the topmost of the lowest layers that has a block, or nil.
func (v *volume) from(below int, b int64) *layer {
	for i := below - 1; i >= 0; i-- {
		if v.layers[i].held[b] != 0 {
			return v.layers[i]
		}
	}
	return nil
}

// write writes on the top layer, as a guest does. A block that is written in part is first copied from below.
func (v *volume) write(p []byte, at int64) error {
	if at < 0 || at+int64(len(p)) > v.size {
		return fmt.Errorf("%d bytes at %d are outside of the disk's %d", len(p), at, v.size)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	top := v.layers[len(v.layers)-1]
	for len(p) > 0 {
		b := at / block
		n := min(int64(len(p)), (b+1)*block-at)
		if err := v.own(top, b, n == block); err != nil {
			return err
		}
		if _, err := top.data.WriteAt(p[:n], at); err != nil {
			return err
		}
		v.turns[b] = v.turn
		p, at = p[n:], at+n
	}
	return nil
}

// own has a layer have a block, with what lies below unless all of it is written over.
func (v *volume) own(top *layer, b int64, whole bool) error {
	if top.held[b] != 0 {
		return nil
	}
	if below := v.from(len(v.layers)-1, b); below != nil && !whole {
		if err := copyBlock(below, top, b, v.size); err != nil {
			return err
		}
	}
	return top.mark(b, 1)
}

func (l *layer) mark(b int64, has byte) error {
	l.held[b] = has
	_, err := l.has.WriteAt([]byte{has}, b)
	return err
}

func copyBlock(from, to *layer, b, size int64) error {
	p := make([]byte, min(block, size-b*block))
	if _, err := from.data.ReadAt(p, b*block); err != nil {
		return err
	}
	_, err := to.data.WriteAt(p, b*block)
	return err
}

// layer finds one by its name.
func (v *volume) layer(name string) (*layer, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	for _, l := range v.layers {
		if l.name == name {
			return l, nil
		}
	}
	return nil, fmt.Errorf("there is no layer %s", name)
}

// upTo is how many layers there are up to one, 0 where it is there no more.
func (v *volume) upTo(l *layer) int {
	for l.into != nil {
		l = l.into
	}
	return slices.Index(v.layers, l) + 1
}

// merge puts what the layer above one has into it, and returns that: its files go once this is recorded. Killed before, it can be done again.
func (v *volume) merge(lower *layer) (gone *layer, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	i := v.upTo(lower)
	if i == 0 || i == len(v.layers) {
		return nil, errors.New("there is nothing above it")
	}
	upper := v.layers[i]
	for b, has := range upper.held {
		if has == 0 {
			continue
		}
		if err := copyBlock(upper, lower, int64(b), v.size); err != nil {
			return nil, err
		}
		if err := lower.mark(int64(b), 1); err != nil {
			return nil, err
		}
	}
	upper.into = lower
	v.layers = append(v.layers[:i:i], v.layers[i+1:]...)
	return upper, nil
}

// back puts a new layer on one, in place of all that lies above it, and returns what went. What was counted is lost with it.
func (v *volume) back(to *layer, name string) (gone []*layer, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	l, err := v.openLayer(name)
	if err != nil {
		return nil, err
	}
	below := v.upTo(to)
	gone = append(gone, v.layers[below:]...)
	v.layers = append(v.layers[:below:below], l)
	v.lose()
	return gone, nil
}

// remove takes a layer's files away.
func (v *volume) remove(gone ...*layer) error {
	var errs []error
	for _, l := range gone {
		errs = append(errs, l.close(), os.Remove(v.path(l.name, dataKind)), os.Remove(v.path(l.name, hasKind)))
	}
	return errors.Join(errs...)
}

// above is how many bytes the layers have that lie above one.
func (v *volume) above(l *layer) (bytes int64) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	for _, l := range v.layers[v.upTo(l):] {
		for _, has := range l.held {
			bytes += int64(has) * block
		}
	}
	return bytes
}

// moment is a volume as it was when a layer was its top. It implements [disk.Disk].
type moment struct {
	v   *volume
	top *layer
}

// Size implements [disk.Disk].
func (m moment) Size() int64 { return m.v.size }

// ReadAt implements [io.ReaderAt].
func (m moment) ReadAt(p []byte, off int64) (n int, err error) {
	m.v.mu.RLock()
	defer m.v.mu.RUnlock()
	below := m.v.upTo(m.top)
	if below == 0 {
		return 0, errors.New("the snapshot is there no more")
	}
	for n < len(p) && off < m.v.size {
		b := off / block
		part := p[n:min(int64(n)+(b+1)*block-off, int64(len(p)), int64(n)+m.v.size-off)]
		if l := m.v.from(below, b); l == nil {
			clear(part)
		} else if _, err := l.data.ReadAt(part, off); err != nil {
			return n, err
		}
		n, off = n+len(part), off+int64(len(part))
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Extents implements [disk.Disk]: what no layer has is zero.
func (m moment) Extents(_ context.Context, offset, length int64) (out []disk.Extent, err error) {
	m.v.mu.RLock()
	defer m.v.mu.RUnlock()
	below := m.v.upTo(m.top)
	if below == 0 {
		return nil, errors.New("the snapshot is there no more")
	}
	for end := offset + length; offset < end; {
		e := disk.Extent{Offset: offset, Length: min((offset/block+1)*block, end) - offset, Kind: disk.Data}
		if m.v.from(below, offset/block) == nil {
			e.Kind = disk.Zero
		}
		if last := len(out) - 1; last >= 0 && out[last].Kind == e.Kind {
			out[last].Length += e.Length
		} else {
			out = append(out, e)
		}
		offset += e.Length
	}
	return out, nil
}
