package content

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRange(t *testing.T) {
	type want struct {
		offset, length int64
		last, asked    bool
	}
	for header, w := range map[string]want{
		"": {0, -1, false, false}, "bytes=0-0": {0, 1, false, true}, "bytes=11-17": {11, 7, false, true}, "bytes=5-": {5, -1, false, true}, "bytes=-6": {0, 6, true, true},
		"bytes=9-2": {0, -1, false, false}, "bytes=1-2,4-5": {0, -1, false, false}, "lines=1-2": {0, -1, false, false}, "bytes=x-": {0, -1, false, false}, "bytes=-": {0, -1, false, false},
		"bytes=99999999999999999999-": {0, -1, false, false}, "bytes=-0": {0, -1, false, false},
	} {
		var got want
		got.offset, got.length, got.last, got.asked = Range(header)
		require.Equal(t, w, got, header)
	}
	require.Equal(t, `attachment; filename="a b"`, Attachment("a b"))
	require.NotContains(t, Attachment("odd\xff\n\""), "\n")
}
