package vmdk_test

import (
	"bytes"
	"context"
	"fmt"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/vmdk"
)

// A disk becomes a VMDK file, and is a disk again.
func Example() {
	content := make(disk.Memory, 4<<20)
	copy(content[3<<20:], "berth 7")
	var written bytes.Buffer
	n, err := vmdk.Write(context.Background(), &written, content, "vda.vmdk")
	if err != nil {
		panic(err)
	}
	fmt.Println(n < 100<<10)

	back, err := vmdk.Open(bytes.NewReader(written.Bytes()), n)
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
