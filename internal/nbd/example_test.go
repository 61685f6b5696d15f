package nbd_test

import (
	"context"
	"fmt"

	"keenlodge/internal/nbd"
)

// An export is a disk: it is read at any offset, and tells where its data lies. What can't be reached is told with its address.
func Example() {
	c, err := nbd.Dial(context.Background(), "unix", "/nowhere/nbd.sock", "vda", "")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer c.Close()
	extents, err := c.Extents(context.Background(), 0, c.Size())
	fmt.Println(extents, err)
	// Output:
	// NBD server at /nowhere/nbd.sock: dial unix /nowhere/nbd.sock: connect: no such file or directory
}
