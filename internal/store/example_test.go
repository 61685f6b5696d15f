package store_test

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/mediumtest"
)

// A place becomes a store by its header, which says how to read the rest; package pooled and package open open it from there.
func Example() {
	ctx, place := context.Background(), &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
	_, err := store.ReadHeader(ctx, place)
	fmt.Println(err)
	if err := store.PutHeader(ctx, place, store.OpenLayout(time.Now())); err != nil {
		panic(err)
	}
	h, err := store.ReadHeader(ctx, place)
	if err != nil {
		panic(err)
	}
	fmt.Println(h.Layout, h.Sealed)
	// Output:
	// memory: it holds no store (no store.json)
	// open false
}
