package chunk

import (
	"encoding/hex"
	"hash"
	"io"
)

// Matching is what is read, of which the end is an error where all of it has not the digest that it should have, in hexadecimal.
func Matching(in io.Reader, sum hash.Hash, digest string, wrong error) io.Reader {
	return &matching{in, sum, digest, wrong}
}

type matching struct {
	in     io.Reader
	sum    hash.Hash
	digest string
	wrong  error
}

func (m *matching) Read(p []byte) (int, error) {
	n, err := m.in.Read(p)
	m.sum.Write(p[:n])
	if err == io.EOF && hex.EncodeToString(m.sum.Sum(nil)) != m.digest {
		err = m.wrong
	}
	return n, err
}
