package deed

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestResultOf(t *testing.T) {
	for status, want := range map[int]Result{200: Done, 204: Done, 304: Done, 399: Done, 400: Refused, 401: Refused, 409: Refused, 422: Refused, 499: Refused, 500: Failed, 503: Failed} {
		require.Equal(t, want, ResultOf(status), status)
		require.Contains(t, Results, ResultOf(status))
	}
}
