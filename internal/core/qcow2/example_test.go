package qcow2_test

import (
	"bytes"
	"context"
	"fmt"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/qcow2"
)

// A disk becomes a qcow2 file, which any tool reads, and is a disk again.
func Example() {
	content := make(disk.Memory, 1<<20)
	copy(content[512<<10:], "berth 7")
	file, err := qcow2.New(context.Background(), content, "")
	if err != nil {
		panic(err)
	}
	var written bytes.Buffer
	if _, err := file.WriteTo(&written); err != nil {
		panic(err)
	}
	fmt.Println(int64(written.Len()) == file.Size())

	back, err := qcow2.Open(bytes.NewReader(written.Bytes()), nil)
	if err != nil {
		panic(err)
	}
	read := make([]byte, 7)
	if _, err := back.ReadAt(read, 512<<10); err != nil {
		panic(err)
	}
	fmt.Println(back.Size()>>10, string(read))
	// Output:
	// true
	// 1024 berth 7
}
