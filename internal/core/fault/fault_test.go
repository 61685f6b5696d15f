package fault

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestText(t *testing.T) {
	err := fmt.Errorf("%w: %w", ErrInvalid, Unknown("store", "quay-shlf", []string{"plain-shelf", "quay-shelf"}))
	require.ErrorIs(t, err, ErrNotFound)
	require.Equal(t, `no store is called "quay-shlf"; did you mean "quay-shelf"?`, Text(err))
	require.Equal(t, "read vda: not found: it went", Text(errors.New("read vda: not found: it went")), "only in front")
}
