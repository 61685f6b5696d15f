package format

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/disk/disktest"
)

// A disk goes out in every kind that holds one, is told by its first bytes, and comes back the same; holes stay holes where the kind has them.
func TestOutAndBack(t *testing.T) {
	_, d := disktest.Sparse(t, rand.New(rand.NewPCG(19, 2)), 40<<20+512, 4)
	for _, kind := range []Kind{Raw, QCOW2, VHDX, VMDK} {
		var out bytes.Buffer
		n, err := Write(t.Context(), &out, d, kind, "vda")
		require.NoError(t, err)
		require.EqualValues(t, out.Len(), n, kind)
		of, err := Of(bytes.NewReader(out.Bytes()))
		require.NoError(t, err)
		require.Equal(t, kind, of)
		back, err := Open(bytes.NewReader(out.Bytes()), n, of)
		require.NoError(t, err)
		disktest.Same(t, d, back)
		held, err := disk.Allocated(t.Context(), back)
		require.NoError(t, err)
		require.Equal(t, kind == Raw, held == back.Size(), kind)
	}
	back, err := Open(d, d.Size(), Raw)
	require.NoError(t, err)
	held, err := disk.Allocated(t.Context(), back)
	require.NoError(t, err)
	require.Less(t, held, d.Size(), "a file knows its holes")

	_, err = Write(t.Context(), &bytes.Buffer{}, d, OVA, "vda")
	require.ErrorContains(t, err, "no single disk")
	_, err = Open(bytes.NewReader(nil), 0, OVA)
	require.ErrorContains(t, err, "no single disk")
	_, err = Open(bytes.NewReader(make([]byte, 100)), 100, Raw)
	require.ErrorContains(t, err, "no whole sectors")
}
