package plain

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

func TestText(t *testing.T) {
	for in, want := range map[string]string{
		"": "", "tickets-db": "tickets-db", "a\x00b": "a\ufffdb", "line\nnext\ttab": "line\nnext\ttab", "\x1b[31mred": "\ufffd[31mred", "half \xff\xfe": "half \ufffd",
		"porão": "porão", "\u0085": "\ufffd",
	} {
		require.Equal(t, want, Text(in, 100))
	}
	require.Equal(t, "por", Text("porão", 4), "no letter is cut in two")
	require.Equal(t, "porã", Text("porão", 5))
	require.Equal(t, "last", LastLine("first\nlast \n\n", 100))
}

func FuzzText(f *testing.F) {
	f.Add("a\x00\xff", 3)
	f.Fuzz(func(t *testing.T, s string, most int) {
		most &= 1023
		out := Text(s, most)
		require.True(t, utf8.ValidString(out))
		require.False(t, strings.ContainsFunc(out, strange))
		require.Equal(t, out, Text(out, len(out)))
	})
}
