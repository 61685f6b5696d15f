package agent

import (
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/line"
)

// The system state of another release is told with what differs; another kernel of the same is none.
func TestAnotherSystem(t *testing.T) {
	const was = `{"kind": "server", "system": "Debian GNU/Linux 12 (bookworm)", "kernel": "6.1.0-40-amd64", "arch": "x86_64"}`
	same := line.About{System: "Debian GNU/Linux 12 (bookworm)", Kernel: "6.1.0-41-amd64", Arch: "x86_64"}
	require.Empty(t, otherSystem(was, same))
	other := line.About{System: "Debian GNU/Linux 13 (trixie)", Kernel: "6.12.0-1-amd64", Arch: "x86_64"}
	require.Equal(t, "the image is of another system, whose configuration may not fit: release: Debian GNU/Linux 12 (bookworm) in the image, Debian GNU/Linux 13 (trixie) there now; kernel: 6.1.0-40-amd64 in the image, 6.12.0-1-amd64 there now; bring it back part by part (--part)", otherSystem(was, other))
	same.Arch = "aarch64"
	require.Contains(t, otherSystem(was, same), "processor: x86_64 in the image, aarch64 there now")
	require.Empty(t, otherSystem("<domain/>", other), "an image that does not tell")
	require.Empty(t, otherSystem(was, line.About{}))
}
