package sourcetest_test

import (
	"context"
	"fmt"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
)

// A source is dialled by its kind, asked for what it can do, and gives a capture of a machine.
func Example() {
	ctx := context.Background()
	sourcetest.Named("pier").Add("timetable", "u-1", nil, map[string]disk.Memory{"vda": make(disk.Memory, 1<<20)})
	host, err := source.Dial(ctx, site.Hypervisor{Kind: sourcetest.Kind, URI: "pier"})
	if err != nil {
		panic(err)
	}
	defer host.Close()
	capturer, err := source.As[source.Capturer](host, "capture machines")
	if err != nil {
		panic(err)
	}
	c, err := capturer.Capture(ctx, source.Request{Machine: "timetable", ID: "one", Quiesce: machine.Preferred})
	if err != nil {
		panic(err)
	}
	how, _ := c.Consistency()
	fmt.Println(c.Disks()[0].Target, c.Disks()[0].Size()>>10, how)
	fmt.Println(c.Close(ctx, false, nil))
	// Output:
	// vda 1024 filesystem
	// <nil>
}
