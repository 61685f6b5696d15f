package ahead

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

// What comes is what is there, whatever the sizes, and then the error that ended it; who closes it in the middle leaves no goroutine behind.
func TestReader(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	wrong := errors.New("the line was cut")
	for range 200 {
		body := make([]byte, rng.IntN(5000))
		for i := range body {
			body[i] = byte(rng.Uint32())
		}
		r := New(io.MultiReader(iotest.HalfReader(bytes.NewReader(body)), iotest.ErrReader(wrong)), 1+rng.IntN(700), 1+rng.IntN(4))
		var got bytes.Buffer
		_, err := io.CopyBuffer(&got, struct{ io.Reader }{r}, make([]byte, 1+rng.IntN(900)))
		require.ErrorIs(t, err, wrong)
		require.True(t, bytes.Equal(body, got.Bytes()))
		_, err = r.Read(make([]byte, 1))
		require.ErrorIs(t, err, wrong, "it stays so")
	}
	in, out := io.Pipe()
	r := New(in, 10, 2)
	go out.Write([]byte("more than there is room for, by far"))
	_, err := io.ReadFull(r, make([]byte, 5))
	require.NoError(t, err)
	require.NoError(t, r.Close())
	in.Close()
	for range r.full { // closed once the goroutine has ended
	}
}
