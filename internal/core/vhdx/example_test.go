package vhdx_test

import (
	"bytes"
	"context"
	"fmt"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/vhdx"
)

// A disk becomes a VHDX file, and is a disk again.
func Example() {
	content := make(disk.Memory, 4<<20)
	copy(content[3<<20:], "berth 7")
	file, err := vhdx.New(context.Background(), content)
	if err != nil {
		panic(err)
	}
	var written bytes.Buffer
	if _, err := file.WriteTo(&written); err != nil {
		panic(err)
	}
	fmt.Println(int64(written.Len()) == file.Size())

	back, err := vhdx.Open(bytes.NewReader(written.Bytes()), int64(written.Len()))
	if err != nil {
		panic(err)
	}
	read := make([]byte, 7)
	if _, err := back.ReadAt(read, 3<<20); err != nil {
		panic(err)
	}
	fmt.Println(back.Size()>>20, string(read))
	// Output:
	// true
	// 4 berth 7
}
