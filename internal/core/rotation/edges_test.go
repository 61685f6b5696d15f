package rotation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
)

// night is an image of a night in March 2026, at 23:00.
func night(id string, day int, capture image.Capture, base string, state image.State) Image {
	return Image{ID: id, Taken: time.Date(2026, 3, day, 23, 0, 0, 0, time.UTC), Capture: capture, Base: base, State: state}
}

func planned(t *testing.T, rule string, images ...Image) Plan {
	t.Helper()
	r, err := Parse(rule)
	require.NoError(t, err)
	return Make(r, time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC), images)
}

// A full image is folded only into one usable image, and only if no other leans on it.
func TestWhatIsNotFolded(t *testing.T) {
	full := night("a", 1, image.Full, "", image.Usable)
	one := []Image{full, night("b", 2, image.Incremental, "a", image.Usable)}
	base, into, ok := planned(t, "newest 1", one...).Fold(one)
	require.True(t, ok)
	require.Equal(t, []int{0, 1}, []int{base, into})

	two := []Image{full, night("b", 2, image.Differential, "a", image.Usable), night("c", 3, image.Differential, "a", image.Usable)}
	_, _, ok = planned(t, "newest 2", two...).Fold(two)
	require.False(t, ok, "two lean on it")

	broken := []Image{full, night("b", 2, image.Incremental, "a", image.Usable)}
	plan := planned(t, "newest 1", broken...)
	broken[1].State = image.Broken
	_, _, ok = plan.Fold(broken)
	require.False(t, ok, "nothing is folded into what is broken")
}

// A drop says which of two reasons it has.
func TestWhyAnImageIsDropped(t *testing.T) {
	plan := planned(t, "newest 1", night("a", 1, image.Full, "", image.Broken), night("b", 2, image.Full, "", image.Usable), night("c", 3, image.Full, "", image.Usable))
	require.Equal(t, []Verdict{Drop, Drop, Keep}, []Verdict{plan.Decisions[0].Verdict, plan.Decisions[1].Verdict, plan.Decisions[2].Verdict})
	require.Equal(t, "it is broken, and a newer usable image exists", plan.Decisions[0].Why)
	require.Equal(t, "no clause of the rule keeps it", plan.Decisions[1].Why)
}

// The guard stops at three images and more than half of them, not before.
func TestTheGuardsBounds(t *testing.T) {
	for _, c := range []struct {
		whole, gone int
		guarded     bool
	}{{3, 2, false}, {4, 2, false}, {5, 3, true}, {6, 3, false}, {7, 3, false}, {7, 4, true}, {100, 50, false}, {100, 51, true}} {
		require.Equal(t, c.guarded, loss{gone: c.gone, of: c.whole}.tooMany(), "%d of %d", c.gone, c.whole)
	}
}
