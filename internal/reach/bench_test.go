package reach

import (
	"io"
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/reach/reachtest"
)

// What comes through a socket by SSH, in bytes a second.
func BenchmarkSocket(b *testing.B) {
	path := filepath.Join(b.TempDir(), "flood")
	l, err := net.Listen("unix", path)
	require.NoError(b, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				block := make([]byte, 512<<10)
				for err == nil {
					_, err = c.Write(block)
				}
			}()
		}
	}()
	line, err := of(reachtest.Start(b)).Dial(b.Context())
	require.NoError(b, err)
	defer line.Close()
	c, err := line.Socket(b.Context(), path)
	require.NoError(b, err)
	const each = 16 << 20
	b.SetBytes(each)
	block := make([]byte, 512<<10)
	for b.Loop() {
		for n := 0; n < each; n += len(block) {
			_, err := io.ReadFull(c, block)
			require.NoError(b, err)
		}
	}
}
