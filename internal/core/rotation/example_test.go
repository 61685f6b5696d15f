package rotation_test

import (
	"fmt"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
)

// What does a rule keep of four nights?
func Example() {
	rule, err := rotation.Parse("newest 1, 2 weekly")
	if err != nil {
		panic(err)
	}
	now := time.Date(2026, 3, 5, 10, 0, 0, 0, time.UTC)
	var images []rotation.Image
	for day := 1; day <= 4; day++ {
		images = append(images, rotation.Image{ID: fmt.Sprint("night-", day), Taken: time.Date(2026, 3, day, 23, 0, 0, 0, time.UTC), Capture: image.Full, State: image.Usable})
	}
	for _, d := range rotation.Make(rule, now, images).Decisions {
		fmt.Println(d.ID, d.Verdict)
	}
	// Output:
	// night-1 keep
	// night-2 drop
	// night-3 drop
	// night-4 keep
}
