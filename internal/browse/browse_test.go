package browse

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
)

func TestParsePlace(t *testing.T) {
	for text, want := range map[string]Place{
		"": {Path: "/"}, "/": {Path: "/"}, "/etc/hosts": {Path: "/etc/hosts"}, "etc": {Path: "/etc"}, "vdb1:/records": {FileSystem: "vdb1", Path: "/records"}, "vdb1:": {FileSystem: "vdb1", Path: "/"},
		"/srv/a:b": {Path: "/srv/a:b"}, `/odd\377\012`: {Path: "/odd\xff\n"}, `/back\slash`: {Path: `/back\slash`},
	} {
		got, err := ParsePlace(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
	for _, text := range []string{`/nul\000`, "/" + string(bytes.Repeat([]byte("x"), files.MaxPath))} {
		_, err := ParsePlace(text)
		require.ErrorIs(t, err, fault.ErrInvalid)
	}
}

// A file's content comes with its holes, from any byte on, whether what is stored of it can be read anywhere or only once.
func TestContentWithHoles(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		e := files.Entry{Kind: files.File, Data: []files.Span{}}
		var want, stored []byte
		for range rng.IntN(5) {
			hole := make([]byte, rng.IntN(3)*files.SpanUnit)
			data := make([]byte, files.SpanUnit*(1+rng.IntN(4)))
			for i := range data {
				data[i] = byte(rng.Uint32())
			}
			want = append(want, hole...)
			e.Data = append(e.Data, files.Span{Offset: int64(len(want)), Length: int64(len(data))})
			want, stored = append(want, data...), append(stored, data...)
		}
		want = append(want, make([]byte, rng.IntN(2*files.SpanUnit))...)
		if e.Size = int64(len(want)); rng.IntN(4) == 0 {
			e.Data, stored = nil, want
		}
		from := rng.IntN(len(want) + 1)
		got, err := io.ReadAll(e.Content(bytes.NewReader(stored), int64(from)))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want[from:], got), "%+v from %d", e, from)
		got, err = io.ReadAll(e.Flowing(bytes.NewReader(stored)))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), "%+v", e)
		got, err = io.ReadAll(e.Dense(bytes.NewReader(want)))
		require.NoError(t, err)
		require.True(t, bytes.Equal(stored, got), "%+v", e)
	}
}
