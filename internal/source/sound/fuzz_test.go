package sound

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/export"
	"keenlodge/internal/source"
)

// What somebody put into an export is right, or a verdict that says what is wrong: each part has its digest, and nothing is passed over.
func FuzzMatched(f *testing.F) {
	part := []byte("0>trunk-1")
	sum := sha256.Sum256(part)
	told := export.Told{Product: "sound", Release: "7.4", Build: "118", Parts: []export.Part{{Name: "routing", Bytes: int64(len(part)), SHA256: hex.EncodeToString(sum[:])}}}
	packed := func(about string, names ...string) []byte {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		for _, file := range append([]string{aboutFile}, names...) {
			body := part
			if file == aboutFile {
				body = []byte(about)
			}
			require.NoError(f, w.WriteHeader(&tar.Header{Format: tar.FormatPAX, Name: file, Mode: 0o600, Size: int64(len(body))}))
			_, err := w.Write(body)
			require.NoError(f, err)
		}
		require.NoError(f, w.Close())
		return out.Bytes()
	}
	good := packed(`{"system":"sound","release":"7.4","build":118}`, "parts/routing")
	for _, seed := range [][]byte{good, good[:len(good)/2], packed("{}", "parts/routing"), packed(`{"system":"sound","release":"7.4","build":118}`, "parts/routing", "parts/more"), nil} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		n, err := matched(told, bytes.NewReader(body))
		if err != nil {
			require.True(t, errors.Is(err, source.ErrExport), "%v", err)
			return
		}
		require.EqualValues(t, len(part), n)
		in := tar.NewReader(bytes.NewReader(body))
		files := 0
		for {
			_, err := in.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			files++
		}
		require.Equal(t, 2, files)
	})
}
