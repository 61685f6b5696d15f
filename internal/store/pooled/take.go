package pooled

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

const (
	// takenTogether bounds the pieces that are looked for together, in the order in which they lie in the other store.
	takenTogether = 1 << 17
	// stretchLength bounds what is read of a pack at once, and stretchGap what is read in vain between two frames, in bytes.
	stretchLength = 4 << 20
	stretchGap    = 32 << 10
	// takersAtOnce is how many stretches are on their way: on a far medium, waiting is most of the time.
	takersAtOnce = 4
)

// Exchanges implements [store.Exchanger].
func (s *Store) Exchanges(other store.Store) (can, equally bool) {
	o, ok := other.(*Store)
	return ok, ok && s.sameNames(o)
}

// taking is an image on its way from another store.
type taking struct {
	*writing
	store.Taking
	from *Store
	// equal says that both stores name equal pieces equally.
	equal bool
	names map[chunk.Name]chunk.Name // of pieces that are in place: what the other store calls them, and this one; where names differ
	mu    sync.Mutex                // guards names
}

// Take implements [store.Taker].
func (p *writing) Take(ctx context.Context, o store.Taking) (*image.Manifest, error) {
	from, ok := o.From.(*Store)
	if !ok {
		return nil, fmt.Errorf("%s holds a store of the %s layout; pieces are taken from pooled ones", o.From.Medium(), o.From.Header().Layout)
	}
	t := &taking{writing: p, Taking: o, from: from, equal: p.s.sameNames(from), names: map[chunk.Name]chunk.Name{}}
	if t.Pace == nil {
		t.Pace = func(context.Context, int) error { return nil }
	}
	if t.equal {
		t.Older = t.Copy
	}
	p.w.gentle()
	out := *o.Image
	out.Disks = slices.Clone(o.Image.Disks)
	for i, d := range o.Image.Disks {
		tree, err := treeOf(d)
		if err != nil {
			return nil, err
		}
		older, copied := diskOf(t.Older, d), diskOf(t.Copy, d)
		if t.equal {
			err = t.takeEqual(ctx, tree, older)
		} else {
			out.Disks[i].Map, err = t.takeDisk(ctx, d, tree, older, copied)
		}
		if err != nil {
			return nil, fmt.Errorf("disk %s: %w", d.Target, err)
		}
	}
	if o.Image.Files == nil {
		return &out, nil
	}
	f := *o.Image.Files
	out.Files = &f
	for _, one := range []struct {
		what string
		of   func(*image.Files) *image.Stream
	}{{"list of files", func(f *image.Files) *image.Stream { return &f.List }}, {"files", func(f *image.Files) *image.Stream { return &f.Content }}} {
		var older, copied *image.Stream
		if t.Older != nil && t.Copy != nil && t.Older.Files != nil && t.Copy.Files != nil {
			older, copied = one.of(t.Older.Files), one.of(t.Copy.Files)
		}
		if err := t.takeStream(ctx, one.what, one.of(&f), older, copied); err != nil {
			return nil, fmt.Errorf("%s: %w", one.what, err)
		}
	}
	return &out, nil
}

// treeOf is the tree of a disk's map.
func treeOf(d image.Disk) (image.Tree, error) {
	root, err := d.Root()
	return image.Tree{What: d.Target, Root: root, Height: d.Height(), Size: d.Size}, err
}

// diskOf is the same disk of another image, nil where it has none of that length.
func diskOf(m *image.Manifest, d image.Disk) *image.Disk {
	if m == nil {
		return nil
	}
	for _, o := range m.Disks {
		if o.Target == d.Target && o.Size == d.Size {
			return &o
		}
	}
	return nil
}

// getOlder reads the older image's blocks: equal names are those of this store, where its copy lies.
func (t *taking) getOlder() *Store {
	if t.equal {
		return t.s
	}
	return t.from
}

// takeEqual takes what hangs on a root as it is. A block that this store has says nothing of what hangs on it, so all are looked at but those of the older
// image.
func (t *taking) takeEqual(ctx context.Context, tree image.Tree, older *image.Disk) error {
	var since *image.Older
	if older != nil {
		before, err := treeOf(*older)
		if err == nil {
			since, err = image.NewOlder(ctx, before, t.getOlder())
		}
		if err != nil {
			return err
		}
	}
	return t.takeTree(ctx, tree, since)
}

// takeTree takes the blocks and pieces of a tree, but for what an older one has.
func (t *taking) takeTree(ctx context.Context, tree image.Tree, since *image.Older) error {
	pieces, blocks := map[chunk.Name]bool{}, map[chunk.Name]bool{}
	moved := int64(0)
	flush := func() error {
		if err := t.bring(ctx, pieces, false); err != nil {
			return err
		}
		if err := t.bring(ctx, blocks, true); err != nil {
			return err
		}
		t.Count.Data.Add(moved)
		moved = 0
		clear(pieces)
		clear(blocks)
		return nil
	}
	keep := func(v image.Visit) error {
		t.Count.Data.Add(v.Length)
		return t.w.Keep(ctx, v.Name, v.Height)
	}
	err := tree.WalkSince(ctx, t.from, since, keep, func(v image.Visit) error {
		into := blocks
		if v.Height == 0 {
			moved += v.Length
			into = pieces
		}
		if !t.s.firm(v.Name) && !t.w.has(v.Name) {
			into[v.Name] = true
		}
		if len(pieces)+len(blocks) < takenTogether {
			return nil
		}
		return flush()
	})
	if err != nil {
		return err
	}
	return flush()
}

// part is a range of a disk or a stream that is about to be named anew.
type part struct {
	image.Visit
	kept bool // the older image's copy has it
}

// translate goes through a tree and calls place for its parts in order, once what they are named here is known and all of them are in place.
func (t *taking) translate(ctx context.Context, tree image.Tree, since *image.Older, place func(part) error) error {
	var row []part
	flush := func() error {
		wanted := map[chunk.Name]bool{}
		for _, p := range row {
			if !p.kept {
				wanted[p.Name] = true
			}
		}
		if err := t.bring(ctx, wanted, false); err != nil {
			return err
		}
		for _, p := range row {
			if err := place(p); err != nil {
				return err
			}
			t.Count.Data.Add(p.Length)
		}
		row = row[:0]
		clear(t.names)
		return nil
	}
	add := func(p part) error {
		if row = append(row, p); len(row) < takenTogether {
			return nil
		}
		return flush()
	}
	err := tree.WalkSince(ctx, t.from, since, func(v image.Visit) error { return add(part{v, true}) }, func(v image.Visit) error {
		if v.Height > 0 {
			return nil
		}
		return add(part{v, false})
	})
	if err != nil {
		return err
	}
	return flush()
}

// takeDisk takes a disk of a store that names its pieces otherwise: its map is made anew. copied is the copy that this store has of older.
func (t *taking) takeDisk(ctx context.Context, d image.Disk, tree image.Tree, older, copied *image.Disk) (root string, err error) {
	var since *image.Older
	var base *image.Reader
	if older != nil && copied != nil {
		before, err := treeOf(*older)
		if err == nil {
			since, err = image.NewOlder(ctx, before, t.from)
		}
		if err == nil {
			base, err = image.NewReader(t.s, *copied)
		}
		if err != nil {
			return "", err
		}
	}
	w := image.NewTreeWriter(t.w, d.Size)
	err = t.translate(ctx, tree, since, func(p part) error {
		at, n := p.Offset/cut.Unit, (p.Length+cut.Unit-1)/cut.Unit
		if p.kept {
			return w.Keep(ctx, base, at, n)
		}
		return w.Set(ctx, image.Part{At: at, Units: n, From: p.From / cut.Unit, Piece: t.names[p.Name]})
	})
	if err != nil {
		return "", err
	}
	return w.Finish(ctx)
}

// takeStream takes a stream; what it is called here is written into it.
func (t *taking) takeStream(ctx context.Context, what string, s *image.Stream, older, copied *image.Stream) error {
	tree, err := image.TreeOf(what, *s)
	if err != nil {
		return err
	}
	var since *image.Older
	if older != nil {
		before, err := image.TreeOf(what, *older)
		if err == nil {
			since, err = image.NewOlder(ctx, before, t.getOlder())
		}
		if err != nil {
			return err
		}
	}
	if t.equal {
		return t.takeTree(ctx, tree, since)
	}
	var base *image.Rope
	if since != nil {
		if base, err = image.OpenRope(t.s, *copied); err != nil {
			return err
		}
	}
	w := image.NewRopeWriter(t.w)
	add := func(v image.Visit) error {
		if err := t.w.Keep(ctx, v.Name, 0); err != nil {
			return err
		}
		return w.Add(ctx, v.Name, v.Length)
	}
	err = t.translate(ctx, tree, since, func(p part) error {
		if !p.kept {
			return w.Add(ctx, t.names[p.Name], p.Length)
		}
		from := since.At(p.Name)
		return base.Pieces(ctx, from, from+p.Length, add)
	})
	if err == nil {
		*s, err = w.Finish(ctx)
	}
	return err
}

// haul is a row of frames of a pack that are read at once.
type haul struct {
	pack        chunk.PackID
	from, until int64
	pieces      []place // in their order in the pack
}

// bring stores those pieces, or map blocks, of the other store that this one does not have. Where the two name them differently all are read, and then
// t.names has what each is called here.
func (t *taking) bring(ctx context.Context, names map[chunk.Name]bool, isMap bool) error {
	places := make([]place, 0, len(names))
	for name := range names {
		p, ok := t.from.find(name)
		if !ok {
			return fmt.Errorf("piece %s: %w: no pack of %s holds it", name, chunk.ErrDamaged, t.from.medium)
		}
		places = append(places, p)
	}
	slices.SortFunc(places, func(a, b place) int {
		return cmp.Or(cmp.Compare(a.pack, b.pack), cmp.Compare(a.offset, b.offset), cmp.Compare(a.entry().Within, b.entry().Within))
	})
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(takersAtOnce)
	var k haul
	flush := func() {
		if len(k.pieces) > 0 {
			whole := k
			group.Go(func() error { return t.carry(ctx, whole, isMap) })
		}
	}
	for _, p := range places {
		from := int64(p.offset)
		until := from + int64(p.stored())
		if len(k.pieces) == 0 || p.id != k.pack || from > k.until+stretchGap || until-k.from > stretchLength {
			flush()
			k = haul{pack: p.id, from: from}
		}
		k.until = until
		k.pieces = append(k.pieces, p)
	}
	flush()
	return group.Wait()
}

// carry reads a stretch and stores what is wanted of it.
func (t *taking) carry(ctx context.Context, k haul, isMap bool) error {
	body, err := t.from.readPack(ctx, k.pack, k.from, k.until-k.from)
	if errors.Is(err, medium.ErrNotFound) || errors.Is(err, chunk.ErrDamaged) {
		return t.singly(ctx, k.pieces, isMap) // a sweep has moved it, or there is another copy
	}
	if err != nil {
		return err
	}
	t.Count.Read.Add(int64(len(body)))
	buffer := t.w.buffers.Get().(*[]byte)
	defer t.w.buffers.Put(buffer)
	for i := 0; i < len(k.pieces); {
		n := i + 1
		for n < len(k.pieces) && k.pieces[n].offset == k.pieces[i].offset {
			n++
		}
		err := t.frame(ctx, k, body, k.pieces[i:n], isMap, *buffer)
		if errors.Is(err, chunk.ErrDamaged) {
			err = t.singly(ctx, k.pieces[i:n], isMap)
		}
		if err != nil {
			return err
		}
		i = n
	}
	return nil
}

// frame stores those pieces of a frame that are new here: the frame as it is where all of it is, which is not compressed again then.
func (t *taking) frame(ctx context.Context, k haul, body []byte, pieces []place, isMap bool, buffer []byte) error {
	e := pieces[0].entry()
	at := int64(e.Offset) - k.from
	content, compressed, err := chunk.OpenFrame(t.from.seal.Pack(k.pack), e.Offset, e.Codec, body[at:at+int64(e.Stored)], buffer)
	if err != nil {
		return fmt.Errorf("piece %s in pack %s of %s: %w", e.Name, k.pack, t.from.medium, err)
	}
	named := make([]chunk.Name, len(pieces))
	all := 0
	for i, p := range pieces {
		piece, err := p.entry().Piece(t.from.seal, content)
		if err != nil {
			return fmt.Errorf("piece %s in pack %s of %s: %w", p.name, k.pack, t.from.medium, err)
		}
		named[i] = t.call(p.name, piece)
		all += len(piece)
	}
	var row []chunk.Piece
	var at0, at1 uint32
	put := func() error {
		if len(row) == 0 {
			return nil
		}
		length := int(at1 - at0)
		whole := length == len(content)
		pace := length
		if whole {
			pace = len(compressed)
		}
		if err := t.Pace(ctx, pace); err != nil {
			return err
		}
		var err error
		if whole {
			err = t.w.add(row, compressed, e.Codec, length, isMap)
		} else {
			err = t.w.putFrame(row, content[at0:at1], isMap)
		}
		row = nil
		return err
	}
	for i, p := range pieces {
		if t.s.firm(named[i]) || !t.w.claim(named[i]) {
			continue
		}
		e := p.entry()
		if len(row) > 0 && e.Within != at1 {
			if err := put(); err != nil {
				return err
			}
		}
		if len(row) == 0 {
			at0 = e.Within
		}
		at1 = e.Within + e.Size
		row = append(row, chunk.Piece{Name: named[i], Size: e.Size})
	}
	return put()
}

// call names a piece of the other store as it is called here.
func (t *taking) call(name chunk.Name, piece []byte) chunk.Name {
	if t.equal {
		return name
	}
	here := t.s.seal.Name(piece)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.names[name] = here
	return here
}

// singly stores pieces one by one, wherever they lie by now.
func (t *taking) singly(ctx context.Context, pieces []place, isMap bool) error {
	stored := t.from.asItLies()
	for _, p := range pieces {
		piece, err := stored.get(ctx, p.name)
		if err != nil {
			return err
		}
		t.Count.Read.Add(int64(len(piece)))
		name := t.call(p.name, piece)
		if t.s.firm(name) || !t.w.claim(name) {
			continue
		}
		if err := t.Pace(ctx, len(piece)); err != nil {
			return err
		}
		if err := t.w.putFrame([]chunk.Piece{{Name: name, Size: uint32(len(piece))}}, piece, isMap); err != nil {
			return err
		}
	}
	return nil
}

// Lacks implements [store.Exchanger]: what is named equally is looked up, of the rest it is known only whether the older image has it.
func (s *Store) Lacks(ctx context.Context, t store.Taking) (bytes int64, err error) {
	from, ok := t.From.(*Store)
	if !ok {
		return 0, fmt.Errorf("%s holds a store of the %s layout, which has no pieces", t.From.Medium(), t.From.Header().Layout)
	}
	equal, older := s.sameNames(from), t.Older
	get := from
	if equal {
		older, get = t.Copy, s
	}
	trees, err := t.Image.Trees()
	if err != nil {
		return 0, err
	}
	before := map[string]image.Tree{}
	if older != nil {
		was, err := older.Trees()
		if err != nil {
			return 0, err
		}
		for _, tree := range was {
			before[tree.What] = tree
		}
	}
	raw := map[uint32]int64{} // by pack
	for _, tree := range trees {
		var since *image.Older
		if was, ok := before[tree.What]; ok && (tree.OfStream() || was.Size == tree.Size) {
			if since, err = image.NewOlder(ctx, was, get); err != nil {
				return 0, err
			}
		}
		err := tree.WalkSince(ctx, from, since, func(image.Visit) error { return nil }, func(v image.Visit) error {
			if p, ok := from.find(v.Name); ok && !(equal && s.firm(v.Name)) {
				raw[p.pack] += min(v.Length, int64(p.size()))
			}
			return nil
		})
		if err != nil {
			return 0, err
		}
	}
	from.mu.RLock()
	defer from.mu.RUnlock()
	for pack, n := range raw {
		bytes += from.packs[pack].share(n)
	}
	return bytes, nil
}
