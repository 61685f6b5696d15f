package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBraces(t *testing.T) {
	for word, want := range map[string][]string{"web": {"web"}, "web-{08..11}": {"web-08", "web-09", "web-10", "web-11"}, "{a,b}{1..2}": {"a1", "a2", "b1", "b2"}, "x{7}": {"x7"}} {
		got, err := braced(word)
		require.NoError(t, err, word)
		require.Equal(t, want, got, word)
	}
	for _, word := range []string{"web-{", "web-{}", "web-{3..1}", "web-{a..c}", "web-{1..9999}", "{1..999}{1..999}"} {
		_, err := braced(word)
		require.Error(t, err, word)
	}
}
