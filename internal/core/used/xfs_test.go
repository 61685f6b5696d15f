package used

import (
	"bytes"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

// An XFS that is mounted, or was not unmounted in order, is told from one that was: what it has lost may be in its log only. Whatever one says, the
// answer lies within, and comes in time.
func TestOddXFS(t *testing.T) {
	const size = 320 << 20
	f := made(t, size, "mkfs.xfs -q $f")
	_, err := Of("xfs", f, size)
	require.NoError(t, err)
	if os.Getuid() == 0 {
		out, err := exec.Command("sh", "-ec", `mkdir $0.m; mount -o loop $0 $0.m; for n in $(seq 40); do echo passage $n > $0.m/$n; sync -f $0.m; done; cp --sparse=always $0 $0.torn; umount $0.m`, f.Name()).CombinedOutput()
		require.NoError(t, err, string(out))
		torn, err := os.Open(f.Name() + ".torn")
		require.NoError(t, err)
		defer torn.Close()
		_, err = Of("xfs", torn, size)
		require.ErrorContains(t, err, "played back first")
		_, err = Of("xfs", f, size)
		require.NoError(t, err, "and it was unmounted after that")
	}
	head := make([]byte, 2<<20) // superblock, head and trees of the first group
	_, err = f.ReadAt(head, 0)
	require.NoError(t, err)
	rng := rand.New(rand.NewPCG(9, 1))
	refused := 0
	for range 3000 {
		forged := bytes.Clone(head[:64<<10])
		for range 1 + rng.IntN(3) {
			at := []int{rng.IntN(230), 512 + rng.IntN(64), 4096 + rng.IntN(80), rng.IntN(60 << 10)}[rng.IntN(4)]
			if rng.IntN(2) == 0 {
				binary.BigEndian.PutUint32(forged[at:], rng.Uint32()>>rng.IntN(32))
			} else {
				forged[at] ^= 1 << rng.IntN(8)
			}
		}
		m, err := Of("xfs", overlaid{f, forged}, size)
		if err != nil {
			refused++
			continue
		}
		for _, e := range m.All() {
			require.True(t, e.Offset >= 0 && e.Length > 0 && e.End() <= size)
		}
	}
	require.Greater(t, refused, 500)
	require.Less(t, refused, 3000)
}

// overlaid has another beginning.
type overlaid struct {
	io.ReaderAt
	head []byte
}

func (o overlaid) ReadAt(p []byte, off int64) (int, error) {
	n, err := o.ReaderAt.ReadAt(p, off)
	if off < int64(len(o.head)) {
		copy(p[:n], o.head[off:])
	}
	return n, err
}
