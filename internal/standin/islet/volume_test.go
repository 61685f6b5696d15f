package islet

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/standin"
)

// Random writes, snapshots, removals and returns: the volume and each snapshot of it read as a plain copy does, what is told as changed covers what was
// written, and all of it is the same after it was opened again.
func TestAVolume(t *testing.T) {
	const size = 20*block + 4096
	for seed := range uint64(8) {
		rng := rand.New(rand.NewPCG(seed, 21))
		folder := t.TempDir()
		v, err := openVolume(folder, size, []string{"base"})
		require.NoError(t, err)
		type kept struct {
			layer, tide string
			content     []byte
		}
		now := make([]byte, size)
		var snapshots []kept
		check := func(name string, want []byte) {
			l, err := v.layer(name)
			require.NoError(t, err)
			got := make([]byte, size)
			_, err = moment{v, l}.ReadAt(got, 0)
			require.NoError(t, err)
			require.True(t, bytes.Equal(want, got), "seed %d", seed)
		}
		for n := range 120 {
			switch step := rng.IntN(10); {
			case step < 6:
				p := bytes.Repeat([]byte{byte(n + 1)}, 1+rng.IntN(3*block))
				at := rng.Int64N(size - int64(len(p)))
				require.NoError(t, v.write(p, at))
				copy(now[at:], p)
			case step == 6:
				below, tide, err := v.grow(fmt.Sprint("l", n))
				require.NoError(t, err)
				snapshots = append(snapshots, kept{below.name, tide, bytes.Clone(now)})
			case step == 7 && len(snapshots) > 0:
				i := rng.IntN(len(snapshots))
				l, err := v.layer(snapshots[i].layer)
				require.NoError(t, err)
				gone, err := v.merge(l)
				require.NoError(t, err)
				require.NoError(t, v.remove(gone))
				snapshots = append(snapshots[:i:i], snapshots[i+1:]...)
				for j := range snapshots {
					if snapshots[j].layer == gone.name {
						snapshots[j].layer = l.name
					}
				}
			case step == 8 && len(snapshots) > 0:
				i := rng.IntN(len(snapshots))
				l, err := v.layer(snapshots[i].layer)
				require.NoError(t, err)
				gone, err := v.back(l, fmt.Sprint("b", n))
				require.NoError(t, err)
				require.NoError(t, v.remove(gone...))
				now, snapshots = bytes.Clone(snapshots[i].content), snapshots[:i+1]
				for j := range snapshots {
					snapshots[j].tide = "" // it is lost
				}
			case step == 9:
				names := v.names()
				require.NoError(t, v.close())
				v, err = openVolume(folder, size, names)
				require.NoError(t, err)
			}
			check(v.layers[len(v.layers)-1].name, now)
			for _, s := range snapshots {
				check(s.layer, s.content)
				changed, ok := v.changed(s.tide)
				require.Equal(t, s.tide != "", ok)
				for at := 0; ok && at < size; at += block {
					if end := min(at+block, size); !bytes.Equal(now[at:end], s.content[at:end]) {
						require.True(t, covers(changed.Ranges, int64(at)), "seed %d: block at %d", seed, at)
					}
				}
			}
		}
		require.NoError(t, v.close())
	}
}

func covers(ranges []standin.Range, at int64) bool {
	for _, r := range ranges {
		if r.Offset <= at && at < r.Offset+r.Length {
			return true
		}
	}
	return false
}
