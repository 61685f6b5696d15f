package stores

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/wire"
)

// What earlier versions kept of what signs in is read; it is bound to an account when it is used first.
func TestWhatWasKeptBefore(t *testing.T) {
	for text, want := range map[string]kept{
		`{"access_key":"crane","secret_key":"x"}`:                                 {"", wire.Credentials{"access_key": "crane", "secret_key": "x"}},
		`{"for":"sftp crane@192.0.2.7","secrets":{"password":"x"}}`:               {"sftp crane@192.0.2.7", wire.Credentials{"password": "x"}},
		`{"for":"","secrets":{"password":"x"}}`:                                   {"", wire.Credentials{"password": "x"}},
		`{"password":"{\"for\":\"elsewhere\",\"secrets\":{\"password\":\"y\"}}"}`: {"", wire.Credentials{"password": `{"for":"elsewhere","secrets":{"password":"y"}}`}},
	} {
		var k kept
		require.NoError(t, json.Unmarshal([]byte(text), &k), text)
		require.Equal(t, want, k)
	}
}
