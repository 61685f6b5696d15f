package pooled_test

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/pooled"
)

// An image is written disk by disk, exists once it is finished, and is read back as disks.
func Example() {
	ctx := context.Background()
	st, err := pooled.Make(ctx, &mediumtest.Memory{Shelf: mediumtest.NewShelf()}, time.Now(), pooled.NewCuts(), nil)
	if err != nil {
		panic(err)
	}
	defer st.Close()
	content := make(disk.Memory, 1<<20)
	copy(content[512<<10:], "berth 7")

	m := &image.Manifest{ID: image.NewID(), Machine: "tickets-db", Taken: time.Now(), Scope: image.WholeMachine, Capture: image.Full}
	w, err := st.Begin(ctx, m, store.WriteOptions{Program: "example"})
	if err != nil {
		panic(err)
	}
	d, err := w.Disk(ctx, "vda", "raw", content, nil, &store.Progress{})
	if err == nil {
		m.Disks = append(m.Disks, d)
		err = w.Flush(ctx)
	}
	if err == nil {
		err = w.Finish(ctx, m)
	}
	if err := w.End(ctx, err); err != nil {
		panic(err)
	}

	read, err := st.ReadImage(ctx, m.ID)
	if err != nil {
		panic(err)
	}
	opened, err := st.OpenDisk(ctx, read, read.Disks[0])
	if err != nil {
		panic(err)
	}
	defer opened.Close()
	text := make([]byte, 7)
	if _, err := opened.ReadAt(text, 512<<10); err != nil {
		panic(err)
	}
	fmt.Println(read.Machine, read.Disks[0].Data>>10, string(text))
	// Output:
	// tickets-db 4 berth 7
}
