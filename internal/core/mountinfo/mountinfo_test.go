package mountinfo

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	l, ok := Parse(`36 22 8:17 /a\040b /media/op/box\040one rw,noatime shared:1 - ext4 /dev/sd\134b rw`)
	require.True(t, ok)
	require.Equal(t, Line{"36", "8:17", "/a b", "/media/op/box one", "rw,noatime", "ext4", `/dev/sd\b`}, l)
	require.Equal(t, `a b\`, unescape(`a\040b\`))
	for _, bad := range []string{"", "nonsense", "22 1 8:2 / / rw", "22 1 8:2 / - ext4 /dev/sda rw", "22 1 8:2 / / rw - ext4"} {
		_, ok := Parse(bad)
		require.False(t, ok, bad)
	}
}
