package image_test

import (
	"context"
	"fmt"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
)

// blocks keeps blocks by their names, as a store does.
type blocks map[chunk.Name][]byte

func (b blocks) Put(_ context.Context, block []byte) (chunk.Name, error) {
	name := (*chunk.Seal)(nil).Name(block)
	b[name] = append([]byte{}, block...)
	return name, nil
}

func (b blocks) Keep(context.Context, chunk.Name, int) error { return nil }

func (b blocks) Get(_ context.Context, name chunk.Name) ([]byte, error) { return b[name], nil }

// A disk of an image is a tree of names. What was never set is zeros.
func Example() {
	ctx, store := context.Background(), blocks{}
	w := image.NewTreeWriter(store, 1<<20, 128<<10)
	data := make([]byte, 128<<10)
	copy(data, "the harbour's timetable")
	name, err := store.Put(ctx, data)
	if err != nil {
		panic(err)
	}
	if err := w.Set(ctx, 3, name); err != nil {
		panic(err)
	}
	root, err := w.Finish(ctx)
	if err != nil {
		panic(err)
	}
	r, err := image.NewReader(store, image.Disk{Target: "vda", Size: 1 << 20, BlockSize: 128 << 10, Map: root})
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
