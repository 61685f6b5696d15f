package stores

import (
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium"
)

// What would go below the floor is refused with figures, in bytes and in inodes; a medium that can't tell refuses nothing.
func TestFits(t *testing.T) {
	const gib = 1 << 30
	for name, c := range map[string]struct {
		spec         site.Store
		room         medium.Room
		need, others int64
		says         []string
	}{
		"fits":            {site.Store{Floor: "5 GiB"}, medium.Room{FreeBytes: 20 * gib, FreeInodes: 1000, TotalInodes: 9999}, 10 * gib, 0, nil},
		"just":            {site.Store{Floor: "10 GiB"}, medium.Room{FreeBytes: 20 * gib, FreeInodes: 1000, TotalInodes: 9999}, 10 * gib, 0, nil},
		"floor":           {site.Store{Floor: "11 GiB"}, medium.Room{FreeBytes: 20 * gib}, 10 * gib, 0, []string{"10 GiB would be added (for the test)", "quay-shelf has 20 GiB free", "11 GiB must stay free"}},
		"others":          {site.Store{}, medium.Room{FreeBytes: 20 * gib}, 10 * gib, 11 * gib, []string{"11 GiB are promised to others"}},
		"inodes":          {site.Store{FloorInodes: 900}, medium.Room{FreeBytes: 20 * gib, FreeInodes: 1000, TotalInodes: 9999}, 10 * gib, 0, []string{"434 inodes", "1000 free", "900 must stay"}},
		"no inodes there": {site.Store{FloorInodes: 900}, medium.Room{FreeBytes: 20 * gib, FreeInodes: 0, TotalInodes: 0}, 10 * gib, 0, nil},
		"can't tell":      {site.Store{Floor: "11 GiB"}, medium.Room{FreeBytes: -1, FreeInodes: -1}, 10 * gib, 0, nil},
	} {
		err := CheckCapacity("quay-shelf", c.spec, c.room, c.need, c.others, "for the test")
		if c.says == nil {
			require.NoError(t, err, name)
			continue
		}
		require.ErrorIs(t, err, ErrNoRoom, name)
		for _, s := range c.says {
			require.ErrorContains(t, err, s, name)
		}
	}
}
