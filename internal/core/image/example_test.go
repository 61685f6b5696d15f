package image_test

import (
	"context"
	"fmt"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
)

// pieces keeps pieces and map blocks by their names, as a store does.
type pieces map[chunk.Name][]byte

func (b pieces) PutMap(_ context.Context, body []byte) (chunk.Name, error) {
	name := (*chunk.Seal)(nil).Name(body)
	b[name] = append([]byte{}, body...)
	return name, nil
}

func (b pieces) Keep(context.Context, chunk.Name, int) error { return nil }

func (b pieces) GetMap(_ context.Context, name chunk.Name) ([]byte, error) { return b[name], nil }

func (b pieces) ReadParts(_ context.Context, p []byte, parts []image.Wanted) error {
	for _, w := range parts {
		copy(p[w.At:w.At+w.Length], b[w.Piece][w.From:])
	}
	return nil
}

// A disk of an image is a map of ranges, each a part of a piece. What was never set is zeros.
func Example() {
	ctx, store := context.Background(), pieces{}
	w := image.NewTreeWriter(store, 1<<20)
	data := make([]byte, 128<<10)
	copy(data, "the harbour's timetable")
	name, err := store.PutMap(ctx, data)
	if err != nil {
		panic(err)
	}
	if err := w.Set(ctx, image.Part{At: 96, Units: 32, Piece: name}); err != nil {
		panic(err)
	}
	root, err := w.Finish(ctx)
	if err != nil {
		panic(err)
	}
	r, err := image.NewReader(store, image.Disk{Target: "vda", Size: 1 << 20, Map: root})
	if err != nil {
		panic(err)
	}
	read := make([]byte, 23)
	if _, err := r.ReadAt(read, 3*128<<10); err != nil {
		panic(err)
	}
	fmt.Printf("%s\n", read)
	extents, err := r.Extents(ctx, 0, r.Size())
	if err != nil {
		panic(err)
	}
	for _, e := range extents {
		fmt.Println(e.Offset>>10, e.Length>>10, e.Kind)
	}
	// Output:
	// the harbour's timetable
	// 0 384 zero
	// 384 128 data
	// 512 512 zero
}
